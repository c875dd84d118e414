"""How far a step is that goes by the files of a shelf, and how fast."""

from __future__ import annotations

import time

from needlewright.core.search.events import Progress
from needlewright.core.search.registry import Context

KNOWN = 0.01  # of the bytes, before which nothing is said of how long it takes


def progress_of(step: str, context: Context, reached: int, begun: float,
                away: str = "") -> Progress:
    """The progress of `step`, which began at the time `begun` (monotonic) and has settled all
    places before `reached`; `away`: see `Progress`."""
    spent, done = time.monotonic() - begun, reached - context.begin
    rate = done / spent if spent > 1 and done > KNOWN * context.area.size else 0.0
    return Progress(step, reached - context.area.start, context.area.size, reached, rate,
                    (context.area.stop - reached) / rate if rate else None, away=away)
