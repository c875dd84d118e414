"""The known search steps. A step module in this package registers itself; nothing names one."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from types import MappingProxyType

import numpy as np
import numpy.typing as npt

from needlewright.core.checks.decoding import DecoderPool
from needlewright.core.registry import Registry
from needlewright.core.search.deciding import Case
from needlewright.core.search.events import Event
from needlewright.core.search.plan import Plan
from needlewright.core.sources.source import Source, Span
from needlewright.core.stopping import StopSignal


@dataclass(frozen=True, slots=True)
class Context:
    """What a step works with; `area` is already cut to the source, `begin` is inside it.

    `known`: int64[n, 2], (start, stop) of bytes that belong to finds that are whole already,
    ascending: no step looks into them again.
    """

    source: Source
    plan: Plan
    area: Span
    begin: int
    stop: StopSignal
    decoders: DecoderPool[Case]
    known: npt.NDArray[np.int64] = field(default_factory=lambda: np.zeros((0, 2), np.int64))


@dataclass(frozen=True, slots=True)
class Step:
    """A way of searching. `order`: cheap steps first."""

    name: str
    order: int
    run: Callable[[Context], Iterator[Event]]


_steps: Registry[Step] = Registry("needlewright.core.search", prefix="step_")


def register(step: Step) -> Step:
    """Add a step; ValueError if its name is taken."""
    return _steps.add(step.name, step)


def steps() -> Mapping[str, Step]:
    """All steps by name, cheapest first."""
    ordered = sorted(_steps.all().values(), key=lambda step: (step.order, step.name))
    return MappingProxyType({step.name: step for step in ordered})
