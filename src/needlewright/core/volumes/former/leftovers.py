"""What is left of former file systems: the interface of the modules in this package.

A collector looks at the sectors of one pass over the medium, and afterwards gives readers of the
file systems that it can put together. They stand beside those that are there now, whose clusters
are theirs no longer.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
import numpy.typing as npt

from needlewright.core.registry import Registry
from needlewright.core.sources.source import Source
from needlewright.core.volumes.allocation import Allocation
from needlewright.core.volumes.base import Entry, Extents, Reader
from needlewright.core.volumes.finding import Volume

Sectors = npt.NDArray[np.uint8]
Numbers = npt.NDArray[np.int64]
MAX_HEADS = 1 << 20


@dataclass(slots=True)
class Medium:
    """What is known of the medium: the volumes that are there now with their readers, and where
    files of known formats begin: `heads`, int64[n] ascending, with `names` of their formats."""

    source: Source
    volumes: Sequence[tuple[Volume, Reader]] = ()
    heads: Numbers = field(default_factory=lambda: np.zeros(0, np.int64))
    names: Sequence[str] = ()

    def use_of(self, unit: int, first: int, count: int) -> Allocation:
        """What is in use now, in clusters of `unit` bytes whose number 0 begins at byte `first` of
        the medium; seen from that byte."""
        found = Allocation(unit, 0, count, np.zeros(-(-count // 8), np.uint8))
        for volume, reader in self.volumes:
            now = reader.allocation()
            runs = np.array([[0, volume.span.size]]) if now is None else now.runs()
            for start, stop in (runs + volume.span.start - first).tolist():
                if stop > 0:
                    found.take([(max(0, start), stop - max(0, start))])
        return found

    def in_use(self, offset: int) -> bool:
        """Whether the cluster at a byte belongs to a file system that is there now."""
        for volume, reader in self.volumes:
            now = reader.allocation()
            if volume.span.start <= offset < volume.span.stop and now is not None:
                inside = offset - volume.span.start - now.first
                return inside < 0 or now.used(inside // now.unit)
        return False


class Collector(ABC):
    """Looks for the traces of one kind of file system."""

    @abstractmethod
    def look(self, sectors: Sectors, base: int) -> None:
        """Take in uint8[n, sector] read from byte `base` of the medium."""

    @property
    @abstractmethod
    def kept(self) -> int:
        """How many traces it keeps: what it looked at without this growing need not be seen again.
        """

    @abstractmethod
    def former(self, medium: Medium) -> Iterator[tuple[int, Reader]]:
        """(first byte on the medium, reader) of every former file system, the latest first."""


class FormerVolume(Reader):
    """A volume whose bytes another file system holds now: all of its files count as removed."""

    def __init__(self, medium: Medium, start: int, inner: Reader) -> None:
        super().__init__(medium.source, inner.facts)
        self._inner = inner
        own = inner.allocation()
        unit = own.unit if own is not None else 4096
        first = own.first if own is not None else 0
        count = max(0, (medium.source.size - start - first) // unit)
        self._now = medium.use_of(unit, start + first, count)
        self._now.first = first

    def allocation(self) -> Allocation:
        return self._now

    def live(self) -> Iterator[Entry]:
        return iter(())

    def removed(self) -> Iterator[Entry]:
        for entry in self._inner.live():
            yield replace(entry, removed=True)
        yield from self._inner.removed()

    def placements(self, entry: Entry) -> Iterator[Extents]:
        yield from self._inner.placements(entry)

    def claim(self, extents: Extents) -> None:
        self._inner.claim(extents)


class StillThere(Reader):
    """Leftovers inside a volume that is there now."""


@dataclass(frozen=True, slots=True)
class Leftover:
    """One kind, as its module registers it."""

    name: str
    collector: Callable[[], Collector]


_leftovers: Registry[Leftover] = Registry("needlewright.core.volumes.former")


def register_leftover(entry: Leftover) -> Leftover:
    """Add a kind; ValueError if its name is taken."""
    return _leftovers.add(entry.name, entry)


def collectors() -> list[Collector]:
    """A fresh collector of every kind."""
    return [entry.collector() for entry in _leftovers.all().values()]
