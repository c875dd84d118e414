"""Directories of a former exFAT volume, as a quick format leaves them.

Nothing begins a folder there but its first entry set, whose checksum tells a set from chance. The
first clusters that sets state, and where files of their formats begin, vote for the geometry; a
folder's own set then leads to its clusters. Files that lay in one piece say so and are exact.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

import numpy as np

from needlewright.core.formats.recognising import format_of_name
from needlewright.core.volumes.base import (
    MAX_DEPTH,
    Entry,
    Extents,
    Placed,
    Reader,
    cut,
    path_in,
)
from needlewright.core.volumes.exfat.reader import ExfatReader
from needlewright.core.volumes.exfat.sets import EntrySet, entry_sets
from needlewright.core.volumes.former.clusters import FormerClusters
from needlewright.core.volumes.former.geometry import Geometry, by_heads
from needlewright.core.volumes.former.leftovers import (
    Collector,
    Leftover,
    Medium,
    Sectors,
    register_leftover,
)

MAX_SECTORS = 1 << 20  # that hold sets
CHUNK = 4096  # bytes that are read around a sector with sets



class ExfatCollector(Collector):
    """Collects the sectors in which an entry set begins."""

    def __init__(self) -> None:
        self.sectors: list[int] = []
        self.size = 512

    def look(self, sectors: Sectors, base: int) -> None:
        self.size = sectors.shape[1]
        # A set may begin anywhere in a sector; types stand every 32 bytes.
        kinds = sectors[:, ::32] & 0x7F
        pairs = (kinds[:, :-1] == 0x05) & (kinds[:, 1:] == 0x40)
        for row in np.flatnonzero(pairs.any(axis=1)).tolist():
            if len(self.sectors) < MAX_SECTORS:
                self.sectors.append(base + row * self.size)

    @property
    def kept(self) -> int:
        return len(self.sectors)

    def former(self, medium: Medium) -> Iterator[tuple[int, Reader]]:
        places = [at for at in self.sectors if not medium.in_use(at)]
        blocks = _blocks(places, self.size)
        sets: list[tuple[int, EntrySet]] = []
        for start, stop in blocks:
            data = medium.source.read_at(start, min(stop + 1024, medium.source.size) - start)
            sets += [(start, s) for s in entry_sets(data) if s.sound and s.at < stop - start]
        if not sets:
            return
        wanted = [(s.cluster, form.name) for _, s in sets
                  for form in (format_of_name(s.name),) if form is not None and s.size]
        known = [Geometry(v.span.start + r.boot.offset(0), r.boot.cluster_size)
                 for v, r in medium.volumes if isinstance(r, ExfatReader)]
        votes = by_heads(wanted, list(zip(medium.heads.tolist(), medium.names)), known)
        if votes and votes[0][1] > 0:
            yield 0, FormerExfat(medium, votes[0][0], [(at + s.at, s) for at, s in sets])


def _blocks(places: list[int], size: int) -> list[tuple[int, int]]:
    """(start, stop) of stretches of neighbouring sectors."""
    found: list[tuple[int, int]] = []
    for at in sorted(places):
        if found and at <= found[-1][1]:
            found[-1] = (found[-1][0], at + size)
        else:
            found.append((at, at + size))
    return found


class FormerExfat(FormerClusters):
    """The files that leftover sets name."""

    def __init__(self, medium: Medium, geometry: Geometry,
                 sets: list[tuple[int, EntrySet]]) -> None:
        super().__init__(medium, geometry, "exfat, formatted over")
        size = geometry.cluster_size
        self._sets = sets
        self._owner: dict[int, int] = {}  # cluster of a folder -> byte of its set
        self._folder_sets: dict[int, EntrySet] = {}
        for at, found in sets:
            if found.folder:
                self._folder_sets[at] = found
                clusters = -(-found.size // size) if found.contiguous else 1
                for cluster in range(found.cluster, found.cluster + min(clusters, 1 << 16)):
                    self._owner[cluster] = at
            self._taken.take([(at // size * size, 1)])
        self._continue()

    def _continue(self) -> None:
        """Clusters of sets that belong to no folder: to the one whose clusters end before them."""
        size = self._geometry.cluster_size
        for at, _ in self._sets:
            cluster = self._cluster(at)
            before = self._owner.get(cluster - 1)
            if cluster not in self._owner and before is not None and (
                    self._folder_sets[before].size > size):
                self._owner[cluster] = before

    def _path(self, at: int, depth: int = 0) -> str:
        """The path of the folder whose content holds byte `at`.

        Nothing tells the root from a folder whose own set is lost, so what has no set is told as
        lost.
        """
        cluster = self._cluster(at)
        own = self._owner.get(cluster)
        if own is None or depth > MAX_DEPTH:
            return f"lost folder {cluster}"
        return path_in(self._path(own, depth + 1), self._folder_sets[own].name)

    def removed(self) -> Iterator[Entry]:
        for at, found in self._sets:
            if not found.folder and found.size:
                yield self._entry(at, found)

    def _entry(self, at: int, found: EntrySet) -> Entry:
        path = self._path(at)
        doubts: list[tuple[str, Mapping[str, Any]]] = []
        if path.startswith("lost folder "):
            doubts.append(("folder-lost", {}))
        extents: Extents = ()
        inside = self._inside(found.cluster)
        first = self._geometry.offset(found.cluster)
        placed = Placed.GUESS if inside else Placed.NONE
        if found.contiguous and inside:
            placed = Placed.EXACT
            extents = cut([(first, found.valid), (None, found.size - found.valid)], found.size)
        elif inside:
            doubts.append(("chain-cleared", {}))
        return Entry(path_in(path, found.name), found.size, at, True, found.times(), placed,
                     extents, first=first if inside else None, doubts=tuple(doubts))


register_leftover(Leftover("exfat", ExfatCollector))
