"""The known search steps. A step module in this package registers itself; nothing names one."""

from __future__ import annotations

import importlib
import pkgutil
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from types import MappingProxyType

from needlewright.core.checks.decoding import DecoderPool
from needlewright.core.formats.base import Walk
from needlewright.core.search.events import Event
from needlewright.core.search.plan import Plan, StopSignal
from needlewright.core.sources.source import Source, Span


@dataclass(frozen=True, slots=True)
class Context:
    """What a step works with; `area` is already cut to the source, `begin` is inside it."""

    source: Source
    plan: Plan
    area: Span
    begin: int
    stop: StopSignal
    decoders: DecoderPool[tuple[Walk, str]]


@dataclass(frozen=True, slots=True)
class Step:
    """A way of searching. `order`: cheap steps first."""

    name: str
    order: int
    run: Callable[[Context], Iterator[Event]]


_steps: dict[str, Step] = {}
_loaded = False


def register(step: Step) -> Step:
    """Add a step; ValueError if its name is taken."""
    if step.name in _steps:
        raise ValueError(f"step {step.name} is registered twice")
    _steps[step.name] = step
    return step


def steps() -> Mapping[str, Step]:
    """All steps by name, cheapest first."""
    global _loaded
    if not _loaded:
        package = importlib.import_module("needlewright.core.search")
        for module in pkgutil.iter_modules(package.__path__):
            if module.name.startswith("step_"):
                importlib.import_module(f"{package.__name__}.{module.name}")
        _loaded = True
    ordered = sorted(_steps.values(), key=lambda step: (step.order, step.name))
    return MappingProxyType({step.name: step for step in ordered})
