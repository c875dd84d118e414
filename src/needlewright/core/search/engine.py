"""Runs the steps of a plan over a source, one after another, as one stream of events."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from needlewright.core.checks.decoding import DecoderPool, use_of
from needlewright.core.errors import SourceError
from needlewright.core.search.events import Event, Note
from needlewright.core.search.knowledge import NOTHING, Knowledge
from needlewright.core.search.plan import Plan
from needlewright.core.search.registry import Context, steps, steps_for
from needlewright.core.sources.source import Source, Span
from needlewright.core.stopping import StopSignal


def search(source: Source, plan: Plan, stop: StopSignal,
           knowledge: Knowledge = NOTHING) -> Iterator[Event]:
    """Yield the events of all steps in `plan` that exist, cheapest first.

    `knowledge`: what the job knows of the source already.

    To pause, take no events. Raises SourceError for an area outside the source and for a source
    that goes away; unreadable ranges are noted and passed over.
    """
    area = cut_area(source, plan.area)
    suitable = steps_for(source.kind)
    decoders: DecoderPool[Any] = DecoderPool(use=use_of("search", source))
    try:
        for name, step in steps().items():
            if name not in plan.steps or stop.is_set() or name not in suitable:
                continue
            begin = max(area.start, min(plan.resume.get(name, area.start), area.stop))
            yield from step.run(Context(source, plan, area, begin, stop, decoders, knowledge))
            if decoders.missing:
                yield Note("decoders-unconfined", {"missing": ", ".join(decoders.missing)})
                decoders.missing = ()
    finally:
        decoders.close()


def cut_area(source: Source, area: Span | None) -> Span:
    """`area` cut to the source, its start moved down to a sector; SourceError if it is empty."""
    if area is None:
        return source.whole
    start = max(0, area.start) // source.sector_size * source.sector_size
    stop = min(area.stop, source.size)
    if start >= stop:
        raise SourceError("area-outside", start=area.start, stop=area.stop, size=source.size)
    return Span(start, stop)
