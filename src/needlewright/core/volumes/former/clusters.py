"""What readers of former FAT and exFAT volumes share: clusters by a geometry that was deduced.

Offsets are bytes of the medium, since nothing tells any more where the volume began.
"""

from __future__ import annotations

from collections.abc import Iterator

from needlewright.core.volumes.allocation import Allocation
from needlewright.core.volumes.base import (
    Entry,
    Extents,
    Placed,
    Reader,
    VolumeFacts,
    VolumeState,
    cut,
)
from needlewright.core.volumes.former.geometry import Geometry
from needlewright.core.volumes.former.leftovers import Medium
from needlewright.core.volumes.guessing import guesses


class FormerClusters(Reader):
    """A former volume of which only the geometry is known. All its files count as removed."""

    def __init__(self, medium: Medium, geometry: Geometry, kind: str) -> None:
        size, first = geometry.cluster_size, geometry.offset(2)
        room = medium.source.size - max(0, first)
        super().__init__(medium.source, VolumeFacts(kind, room, size, state=VolumeState.LOST))
        self._geometry = geometry
        self._count = max(0, (medium.source.size - first) // size)
        self._now = medium.use_of(size, first, self._count)
        self._now.first = first
        self._taken = self._now.copy()

    def allocation(self) -> Allocation:
        return self._now

    def _inside(self, cluster: int) -> bool:
        """Whether the volume can have had a cluster of this number."""
        return 2 <= cluster < self._count + 2

    def _cluster(self, byte: int) -> int:
        """The number of the cluster that holds a byte of the medium."""
        return (byte - self._geometry.base) // self._geometry.cluster_size

    def live(self) -> Iterator[Entry]:
        return iter(())

    def placements(self, entry: Entry) -> Iterator[Extents]:
        """What the records state; else in one piece, then over clusters that nobody owns."""
        yield from super().placements(entry)
        if entry.first is None or entry.placed is Placed.EXACT:
            return
        size, first = self._geometry.cluster_size, self._now.first
        number = (entry.first - first) // size
        for runs in guesses(number, -(-entry.size // size), self._now, self._taken):
            yield cut([(first + c * size, n * size) for c, n in runs], entry.size)

    def claim(self, extents: Extents) -> None:
        self._taken.take(extents)
