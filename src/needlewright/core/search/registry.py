"""The known search steps. A step module in this package registers itself; nothing names one."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from types import MappingProxyType
from typing import Any

from needlewright.core.checks.decoding import DecoderPool
from needlewright.core.registry import Registry
from needlewright.core.search.events import Event
from needlewright.core.search.knowledge import NOTHING, Knowledge
from needlewright.core.search.plan import Plan
from needlewright.core.sources.shelf import ELSEWHERE, is_distant
from needlewright.core.sources.source import Source, Span
from needlewright.core.stopping import StopSignal


@dataclass(frozen=True, slots=True)
class Context:
    """What a step works with; `area` is already cut to the source, `begin` is inside it.

    `knowledge`: what the job knows of the source already.
    """

    source: Source
    plan: Plan
    area: Span
    begin: int
    stop: StopSignal
    decoders: DecoderPool[Any]
    knowledge: Knowledge = field(default_factory=lambda: NOTHING)


@dataclass(frozen=True, slots=True)
class Step:
    """A way of searching. `order`: cheap steps first; `suits`: the kind of source that it is
    for, or ELSEWHERE."""

    name: str
    order: int
    run: Callable[[Context], Iterator[Event]]
    suits: str = Source.kind


_steps: Registry[Step] = Registry("needlewright.core.search", prefix="step_")


def register(step: Step) -> Step:
    """Add a step; ValueError if its name is taken."""
    return _steps.add(step.name, step)


def steps_for(kind: str) -> list[str]:
    """The names of the steps that suit a source of this kind."""
    return [name for name, step in steps().items()
            if step.suits == (ELSEWHERE if is_distant(kind) else kind)]


def steps() -> Mapping[str, Step]:
    """All steps by name, cheapest first."""
    ordered = sorted(_steps.all().values(), key=lambda step: (step.order, step.name))
    return MappingProxyType({step.name: step for step in ordered})
