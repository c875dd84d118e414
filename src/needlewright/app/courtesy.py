"""How threads that compute give way to the window's thread, with which they share an interpreter.

A search asks its stop signal at every block and every find. While the window's thread is `at_work`,
`GivingWay` lets the search wait there for a moment: painting a screen takes the interpreter some
hundred times, and each time it would wait for the search to let go of it.
"""

from __future__ import annotations

import functools
import threading
import time
from collections.abc import Callable
from typing import Any, TypeVar

from needlewright.core.stopping import StopSignal

WAIT_S = 0.03  # a search waits for so long at a time
WORK_S = 0.004  # ... and works for so long in between, however much there is to paint
LONGEST_S = 0.5  # what is at work for longer is a question that waits for its answer
QUIET_S = 0.004  # one thing to paint is soon followed by another
Act = TypeVar("Act", bound=Callable[..., Any])

_resting = threading.Event()  # the window's thread does nothing that takes long
_resting.set()
_rested_at = 0.0  # since when
_began_at = 0.0  # when it was last at work
_depth = 0  # how many things at work are called by each other; the window's thread alone counts


def at_work(act: Act) -> Act:
    """Marks what paints or takes in answers, which the window's thread alone does."""
    @functools.wraps(act)
    def working(*values: Any, **named: Any) -> Any:
        global _depth, _rested_at, _began_at
        if not _depth:
            _began_at = time.monotonic()
        _depth += 1
        _resting.clear()
        try:
            return act(*values, **named)
        finally:
            _depth -= 1
            if not _depth:
                _rested_at = time.monotonic()
                _resting.set()

    return working  # type: ignore[return-value]


class GivingWay:
    """A stop signal that keeps whoever asks it waiting while the window's thread is at work."""

    def __init__(self, stop: StopSignal) -> None:
        self._stop = stop
        self._went_on = 0.0

    def is_set(self) -> bool:
        """Whether to stop; as `threading.Event.is_set`."""
        now = time.monotonic()
        busy = now - _began_at < LONGEST_S and (
            not _resting.is_set() or now - _rested_at < QUIET_S)
        if busy and now - self._went_on > WORK_S and not self._stop.is_set():
            _resting.wait(WAIT_S)
            time.sleep(max(0.0, min(QUIET_S, _rested_at + QUIET_S - time.monotonic())))
            self._went_on = time.monotonic()
        return self._stop.is_set()
