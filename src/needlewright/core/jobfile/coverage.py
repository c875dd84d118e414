"""What has been searched for what: spans of a source by format and kind, so that nothing is
searched twice and 'also look for' reads only for what is new.

A search that is asked for again looks at what is missing; where nothing is, at everything.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

from needlewright.core.formats.registry import formats
from needlewright.core.search.carving import chosen_formats, kinds_of
from needlewright.core.search.plan import Plan
from needlewright.core.sources.source import Span


@dataclass(frozen=True, slots=True)
class CoverageRow:
    """One pass of one step: `tokens` ("format:kind", sorted), how, and the bytes it covered."""

    source: int
    step: str
    tokens: tuple[str, ...]
    every_byte: bool
    every_frame: bool
    start: int
    stop: int


def tokens_of(plan: Plan) -> tuple[str, ...]:
    """"format:kind" of everything that `plan` looks for, behind what narrows it.

    A narrowed search covers less than the whole one, so it counts for nothing but itself.
    """
    narrowed = "".join(f"{name}/" for name, on in (
        ("free", plan.free_only), ("removed", plan.removed_only),
        (f"in {plan.folder}", bool(plan.folder)), (f"of {plan.days}", plan.days is not None),
        (f"chosen {plan.keys_name}", bool(plan.keys)), ("missing", plan.missing_only)) if on)
    narrowed = narrowed.replace(",", " ")  # tokens are kept in a list with commas
    return tuple(sorted(
        f"{narrowed}{form.name}:{kind}" for form in chosen_formats(plan)
        for kind in kinds_of(form) if not plan.kinds or kind in plan.kinds))


def missing(area: Span, covered: Iterable[tuple[int, int]]) -> list[Span]:
    """The parts of `area` that no span of `covered` holds, ascending."""
    found, at = [], area.start
    for start, stop in sorted(covered):
        if start > at and at < area.stop:
            found.append(Span(at, min(start, area.stop)))
        at = max(at, stop)
    if at < area.stop:
        found.append(Span(at, area.stop))
    return found


def outstanding(plan: Plan, area: Span, rows: Sequence[CoverageRow]) -> list[Plan]:
    """`plan` as passes over what is missing, each with the formats that miss it there.

    Empty where everything has been covered already.
    """
    ways = [r for r in rows if r.every_byte >= plan.every_byte
            and r.every_frame >= plan.every_frame]
    by_spans: dict[tuple[tuple[int, int], ...], set[str]] = {}
    for token in tokens_of(plan):
        plain = token.rsplit("/", 1)[-1]
        spans = missing(area, [(r.start, r.stop) for r in ways
                               if token in r.tokens or plain in r.tokens])
        if spans:
            key = tuple((s.start, s.stop) for s in spans)
            by_spans.setdefault(key, set()).add(plain.split(":")[0])
    passes: list[Plan] = []
    for key, names in sorted(by_spans.items()):
        chosen = frozenset() if names == set(formats()) else frozenset(names)
        passes += [replace(plan, area=Span(*span), formats=chosen) for span in key]
    return passes
