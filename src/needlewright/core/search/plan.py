"""What to search: steps, kinds and area, and where an interrupted step goes on."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Protocol

from needlewright.core.formats.base import Kind
from needlewright.core.sources.source import Span


class StopSignal(Protocol):
    """Anything with `is_set`, such as threading.Event."""

    def is_set(self) -> bool: ...


@dataclass(frozen=True, slots=True)
class Plan:
    """`kinds` empty means all; `area` None means the whole source; `resume` maps the name of an
    interrupted step to the byte where it goes on."""

    steps: tuple[str, ...] = ("signatures",)
    kinds: frozenset[Kind] = frozenset()
    area: Span | None = None
    resume: Mapping[str, int] = field(default_factory=dict)
