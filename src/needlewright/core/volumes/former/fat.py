"""Directories of a former FAT volume, as a quick format leaves them.

Each folder but the root begins with "." and "..", which state its own cluster and its parent's: two
folders are enough to know where clusters lie. The tables are cleared, so the entries' content is
placed by guesses that it has to prove. The root's entries are written over first, so the names of
the uppermost folders are lost.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from needlewright.core.formats.recognising import format_of_name
from needlewright.core.volumes.base import (
    MAX_DEPTH,
    Entry,
    Placed,
    Reader,
    path_in,
)
from needlewright.core.volumes.fat.directory import (
    LOST,
    Slot,
    looks_like_entries,
    plausible,
    slots,
)
from needlewright.core.volumes.fat.letters import Letters
from needlewright.core.volumes.fat.reader import FatReader
from needlewright.core.volumes.former.clusters import FormerClusters
from needlewright.core.volumes.former.geometry import Geometry, by_heads, by_own_numbers
from needlewright.core.volumes.former.leftovers import (
    Collector,
    Leftover,
    Medium,
    Sectors,
    register_leftover,
)

DOT = np.frombuffer(b".          \x10", np.uint8)
DOTS = np.frombuffer(b"..         \x10", np.uint8)
MAX_FOLDERS = 1 << 18
SMALLEST_CLUSTER = 512  # bytes; that much of a folder surely lies in one piece
MAX_FURTHER = 1 << 18  # clusters that look like the rest of a folder
MAX_FOLDER_CLUSTERS = 2048


class FatCollector(Collector):
    """Collects where folders begin, and what looks like their further clusters."""

    def __init__(self) -> None:
        self.begins: list[tuple[int, int, int]] = []  # byte, own cluster, parent's
        self.further: list[int] = []  # bytes of sectors full of entries

    def look(self, sectors: Sectors, base: int) -> None:
        size = sectors.shape[1]
        dot = sectors[:, 0] == 0x2E
        for row in np.flatnonzero(dot).tolist():
            line = sectors[row]
            if (line[:12] == DOT).all() and (line[32:44] == DOTS).all() and (
                    len(self.begins) < MAX_FOLDERS):
                self.begins.append((base + row * size, _cluster(line[:32]), _cluster(line[32:64])))
        entries = sectors[:, :64].reshape(-1, 2, 32)
        likely = (sectors[:, 0] != 0) & ~dot & (sectors[:, 11] & 0xC0 == 0) & (
            sectors[:, 11] != 0) & (sectors[:, 43] & 0xC0 == 0)
        rows = np.flatnonzero(likely)
        if rows.size:
            good = plausible(entries[rows, 0]) & plausible(entries[rows, 1])
            for row in rows[good].tolist():
                if len(self.further) < MAX_FURTHER and _full(sectors[row]):
                    self.further.append(base + row * size)

    @property
    def kept(self) -> int:
        return len(self.begins) + len(self.further)

    def former(self, medium: Medium) -> Iterator[tuple[int, Reader]]:
        known = []
        free = [b for b in self.begins if not medium.in_use(b[0])]
        for volume, reader in medium.volumes:
            if isinstance(reader, FatReader):
                boot = reader.boot
                known.append(Geometry(volume.span.start + boot.offset(0), boot.cluster_size))
        left = list(free)
        while left:
            votes = by_own_numbers([(at, own) for at, own, _ in left], known)
            votes = votes or self._by_heads(medium, left)
            if not votes:
                return
            geometry = votes[0][0]
            mine = [b for b in left if geometry.offset(b[1]) == b[0]]
            yield 0, FormerFat(medium, geometry, mine, self.further)
            left = [b for b in left if b not in set(mine)]


    def _by_heads(self, medium: Medium, begins: list[tuple[int, int, int]]) -> list[
            tuple[Geometry, int]]:
        """The geometry of a single folder: by where the files that it names begin."""
        wanted = [(slot.cluster, form.name) for at, _, _ in begins
                  for slot in slots(medium.source.read_at(at, SMALLEST_CLUSTER))
                  for form in (format_of_name(slot.name),) if form is not None and slot.size]
        found = by_heads(wanted, list(zip(medium.heads.tolist(), medium.names)))
        return [(g, n) for g, n in found if any(g.offset(own) == at for at, own, _ in begins)]


def _cluster(entry: np.ndarray) -> int:  # type: ignore[type-arg]
    raw = entry.tobytes()
    return int.from_bytes(raw[20:22], "little") << 16 | int.from_bytes(raw[26:28], "little")


def _full(line: np.ndarray) -> bool:  # type: ignore[type-arg]
    table = line.reshape(-1, 32)
    ends = np.flatnonzero(table[:, 0] == 0)
    end = int(ends[0]) if ends.size else len(table)
    return end > 0 and bool(plausible(table[:end]).all()) and not table[end:].any()


@dataclass(slots=True)
class _Folder:
    """A folder of the former volume: clusters' bytes on the medium, its own number, its parent's.
    """

    own: int
    parent: int
    places: list[int]
    name: str = ""


class FormerFat(FormerClusters):
    """The files that leftover folders name."""

    def __init__(self, medium: Medium, geometry: Geometry, begins: list[tuple[int, int, int]],
                 further: list[int]) -> None:
        super().__init__(medium, geometry, "fat, formatted over")
        self._letters = next((r.known_letters() for _, r in medium.volumes
                              if isinstance(r, FatReader)), None) or Letters()
        self._folders = {own: _Folder(own, parent, [at]) for at, own, parent in begins}
        self._complete(sorted(further), medium)
        self._name_folders()
        for folder in self._folders.values():
            self._taken.take([(at, geometry.cluster_size) for at in folder.places])

    def _data(self, folder: _Folder) -> bytes:
        return b"".join(self._read(at, self._geometry.cluster_size) for at in folder.places)

    # folders

    def _complete(self, further: list[int], medium: Medium) -> None:
        """Give each full folder the clusters that continue it: those written soonest after it."""
        size, base = self._geometry.cluster_size, self._geometry.base
        orphans: list[int] = []  # clusters
        for at in further:
            if (at - base) % size or medium.in_use(at):
                continue
            if looks_like_entries(self._read(at, size)):
                orphans.append(self._cluster(at))
        for cluster in sorted(orphans):
            best: _Folder | None = None
            newest = -1
            for folder in self._folders.values():
                if len(folder.places) >= MAX_FOLDER_CLUSTERS:
                    continue
                last = self._read(folder.places[-1], size)
                if 0 in last[::32]:
                    continue  # it ends by itself
                latest = max((s.cluster for s in slots(last)), default=0)
                if newest < latest < cluster and folder.own < cluster:
                    best, newest = folder, latest
            if best is not None:
                best.places.append(self._geometry.offset(cluster))

    def _name_folders(self) -> None:
        for folder in self._folders.values():
            for slot in slots(self._data(folder)):
                if not slot.folder:
                    if slot.long is None:
                        self._letters.learn(slot.name)
                    continue
                inner = self._folders.get(slot.cluster)
                if inner is not None and (inner.parent == folder.own or not inner.name):
                    inner.name = slot.name

    def _path(self, own: int, depth: int = 0) -> str:
        folder = self._folders.get(own)
        if folder is None or depth > MAX_DEPTH or folder.parent == own:
            return f"lost folder {own}"
        name = folder.name
        if name.startswith(LOST):
            name = self._letters.restore(name)[0]
        if folder.parent == 0:
            return name or f"lost folder {own}"
        if not name:
            return f"lost folder {own}"
        return path_in(self._path(folder.parent, depth + 1), name)

    # entries

    def removed(self) -> Iterator[Entry]:
        for own, folder in sorted(self._folders.items()):
            path = self._path(own)
            for slot in slots(self._data(folder)):
                if not slot.folder and slot.size:
                    yield self._entry(path, folder, slot)

    def _entry(self, path: str, folder: _Folder, slot: Slot) -> Entry:
        size = self._geometry.cluster_size
        at = folder.places[slot.at // size] + slot.at % size
        name = slot.name
        doubts: list[tuple[str, Mapping[str, Any]]] = [("chain-cleared", {})]
        if name.startswith(LOST):
            name, known = self._letters.restore(name, path)
            doubts.append(("letter-guessed" if known else "letter-lost", {"name": name[1:]}))
        if path.split("/", 1)[0].startswith("lost folder "):
            doubts.append(("folder-lost", {}))
        inside = self._inside(slot.cluster)
        return Entry(path_in(path, name), slot.size, at, True, slot.times(),
                     Placed.GUESS if inside else Placed.NONE,
                     first=self._geometry.offset(slot.cluster) if inside else None,
                     doubts=tuple(doubts))


register_leftover(Leftover("fat", FatCollector))
