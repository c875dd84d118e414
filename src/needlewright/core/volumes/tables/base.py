"""The interface of a partition table."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from needlewright.core.sources.source import Source, Span
from needlewright.core.volumes.base import Problem


@dataclass(frozen=True, slots=True)
class Partition:
    """A stretch of the medium that a table names; `kind`: what the table says it holds."""

    span: Span
    kind: str
    name: str = ""


@dataclass(frozen=True, slots=True)
class Read:
    """What a table says: its partitions, and what is wrong with it."""

    partitions: tuple[Partition, ...]
    problems: tuple[Problem, ...] = ()


@dataclass(frozen=True, slots=True)
class Table:
    """One kind of table, as its module registers it.

    `read(source)`: what it says, None where there is none. `order`: which is believed first where
    a medium has several.
    """

    name: str
    order: int
    read: Callable[[Source], Read | None]
