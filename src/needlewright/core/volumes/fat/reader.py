"""FAT12, FAT16 and FAT32: live files by their chains, removed ones by what their entries keep.

A removed entry keeps the first cluster and the size, and its chain is zeroed: where the content lay
is a guess that only the content itself can prove. Some systems also zero the upper half of the
first cluster's number. FAT keeps no time of removal. Long names: see fat_directory.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from needlewright.core.errors import FormatError, SourceError
from needlewright.core.sources.source import Source
from needlewright.core.volumes.allocation import Allocation
from needlewright.core.volumes.base import (
    Doubts,
    Entry,
    Extents,
    FileSystem,
    Mark,
    Placed,
    VolumeFacts,
    VolumeState,
    stated,
)
from needlewright.core.volumes.fat.boot import Boot, read_boot
from needlewright.core.volumes.fat.cluster_folders import ClusterReader, Folder
from needlewright.core.volumes.fat.directory import (
    LABEL,
    LONG,
    LOST,
    Slot,
    looks_like_entries,
    slots,
)
from needlewright.core.volumes.fat.letters import Letters
from needlewright.core.volumes.fat.table import FatTable, Runs
from needlewright.core.volumes.guessing import guesses
from needlewright.core.volumes.registry import register

MAX_FOLDER_BYTES = 65536 * 32  # FAT specification 6: a directory's limit; larger ones are damaged
MAX_GONE_CLUSTERS = 64  # of a removed folder that are put together
BACKUP_SECTOR = 6
HIGH = 1 << 16



def probe(volume: Source) -> VolumeFacts | None:
    """Facts of a FAT volume that begins at byte 0, by its boot sector or its copy."""
    for at in (0, BACKUP_SECTOR * volume.sector_size):
        try:
            boot = read_boot(volume.read_at(at, 512))
        except (FormatError, SourceError):
            continue
        if at and boot.bits != 32:
            continue
        if not _table_begins(volume, boot):
            continue
        state = VolumeState.DAMAGED if at or boot.size > volume.size else VolumeState.SOUND
        return VolumeFacts(f"fat{boot.bits}", boot.size, boot.cluster_size, _label(volume, boot),
                     f"{boot.serial >> 16:04X}-{boot.serial & 0xFFFF:04X}", state)
    return None


def _table_begins(volume: Source, boot: Boot) -> bool:
    """Whether a table stands where the boot sector puts it: its first entry repeats the medium."""
    for copy in range(boot.fats):
        try:
            head = volume.read_at(boot.fat_offset + copy * boot.fat_size, 4)
        except SourceError:
            return True  # it cannot be read, which proves nothing against it
        if len(head) == 4 and head[0] >= 0xF0 and head[1] & 0x0F == 0x0F:
            return True
    return False


def _label(volume: Source, boot: Boot) -> str:
    """The label of the root directory, which holds where the boot sector's differs."""
    at = boot.offset(boot.root_cluster) if boot.bits == 32 else boot.root_offset
    try:
        root = volume.read_at(at, min(boot.cluster_size, 1 << 16))
    except SourceError:
        return boot.label
    for index in range(0, len(root) - 31, 32):
        if root[index] == 0:
            break
        attributes = root[index + 11]
        if root[index] != 0xE5 and attributes & LABEL and attributes & 0x3F != LONG:
            return root[index : index + 11].decode("cp437").strip()
    return boot.label


class FatReader(ClusterReader[Slot]):
    """An open FAT volume."""

    def __init__(self, volume: Source) -> None:
        super().__init__(volume, stated(probe(volume), "FAT"))
        head = volume.read_at(0, 512)
        try:
            self.boot = read_boot(head)
        except FormatError as error:
            self.boot = read_boot(volume.read_at(BACKUP_SECTOR * volume.sector_size, 512))
            self._problems.add("boot-from-copy", error.offset)
        self._tables = self._load_tables()
        self._letters = Letters()
        self._taken = self._tables[0].allocation.copy()

    def _load_tables(self) -> list[FatTable]:
        """The copy in use, and the other where it differs: it may hold chains that are gone."""
        boot, volume = self.boot, self._volume
        first = FatTable(volume, boot, 0, self._problems)
        if boot.fats < 2:
            return [first]
        differs = self._first_difference()
        if differs is None:
            return [first]
        self._problems.add("fat-copies-differ", differs)
        second = FatTable(volume, boot, 1, self._problems)
        head = volume.read_at(boot.fat_offset, 4)
        sound = len(head) == 4 and head[0] >= 0xF0
        return [first, second] if sound else [second, first]

    def _first_difference(self) -> int | None:
        boot = self.boot
        step = 1 << 20
        for at in range(0, boot.fat_size, step):
            length = min(step, boot.fat_size - at)
            try:
                one = self._volume.read_at(boot.fat_offset + at, length)
                two = self._volume.read_at(boot.fat_offset + boot.fat_size + at, length)
            except SourceError:
                return boot.fat_offset + at
            if one != two:
                return boot.fat_offset + at
        return None

    def allocation(self) -> Allocation:
        return self._tables[0].allocation

    # folders

    def _root(self) -> Folder:
        if self.boot.bits != 32:
            return Folder("", [], False)
        runs, why = self._tables[0].chain(self.boot.root_cluster, self._folder_clusters)
        if why not in ("", "long"):
            self._problems.add(why, self.boot.offset(self.boot.root_cluster), path="/")
            runs = runs or [(self.boot.root_cluster, 1)]
        return Folder("", runs, False)

    @property
    def _folder_clusters(self) -> int:
        return max(1, MAX_FOLDER_BYTES // self.boot.cluster_size)

    def _items(self, data: bytes, removed_only: bool) -> Iterator[Slot]:
        return slots(data, removed_only)

    def _bytes(self, folder: Folder) -> tuple[bytes, list[int]]:
        if folder.runs or folder.path:
            return super()._bytes(folder)
        root = self._read(self.boot.root_offset, self.boot.root_size, "folder-unreadable")
        return root, [self.boot.root_offset]

    def _meet(self, item: Slot, folder: str) -> None:
        if item.long is None:
            self._letters.learn(item.name, folder)

    def _folder_runs(self, item: Slot, path: str, at: int) -> Runs:
        runs, why = self._tables[0].chain(item.cluster, self._folder_clusters)
        if why not in ("", "long"):
            self._problems.add(why, at, path=path)
        if not runs and 2 <= item.cluster < self._tables[0].last:
            first = self._read(self.boot.offset(item.cluster), 64)
            runs = [(item.cluster, 1)] if looks_like_entries(first, first=True) else []
        return runs

    def _live_entry(self, path: str, item: Slot, at: int) -> Entry:
        doubts: list[tuple[str, Mapping[str, Any]]] = []
        extents: Extents = ()
        if item.size:
            wanted = -(-item.size // self.boot.cluster_size)
            runs, why = self._tables[0].chain(item.cluster, wanted)
            if why not in ("", "long"):
                doubts.append((why, {}))
            extents = self._laid(runs, item.size)
            if sum(n for _, n in runs) < wanted:
                doubts.append(("chain-short", {}))
        if item.partly:
            doubts.append(("name-cut", {}))
        return Entry(path, item.size, at, False, item.times(),
                     Placed.EXACT if not doubts else Placed.CHAIN, extents,
                     first=self.boot.offset(item.cluster) if item.size else None,
                     doubts=tuple(doubts))

    # removed

    def _removed_entry(self, path: str, item: Slot, at: int, doubts: Doubts) -> Entry:
        if self._inside(item.cluster, item.size):
            return Entry(path, item.size, at, True, item.times(), Placed.GUESS,
                         first=self.boot.offset(item.cluster),
                         doubts=(("chain-cleared", {}), *doubts))
        return Entry(path, item.size, at, True, item.times(), Placed.NONE,
                     doubts=(("cluster-outside", {"cluster": item.cluster}), *doubts))

    def _inside(self, cluster: int, size: int) -> bool:
        """Whether a first cluster and a size fit into the volume, wherever a lost half puts it."""
        clusters = -(-size // self.boot.cluster_size)
        return (2 <= cluster < self._tables[0].last and clusters <= self.boot.clusters) or (
            self.boot.bits == 32 and cluster < HIGH and clusters <= self.boot.clusters)

    def _called(self, item: Slot, folder: str) -> tuple[str, Doubts]:
        name = item.name
        if item.partly:
            return name, (("name-cut", {}),)
        if not name.startswith(LOST):
            return name, ()
        restored, known = self._letters.restore(name, folder)
        return restored, (("letter-guessed" if known else "letter-lost", {"name": name[1:]}),)

    def _gone_runs(self, item: Slot) -> Runs:
        """The clusters of a removed folder: by its own number, then by shape."""
        table, size = self._tables[0], self.boot.cluster_size
        for number in self._whole_numbers(item.cluster):
            if not 2 <= number < table.last or table.allocation.used(number - 2):
                continue
            first = self._read(self.boot.offset(number), size)
            own = int.from_bytes(first[26:28], "little")
            if not looks_like_entries(first, first=True) or own != number & 0xFFFF:
                continue
            runs = [(number, 1)]
            full = 0 not in first[::32]
            following = number + 1
            while full and len(runs) < MAX_GONE_CLUSTERS and following < table.last:
                if not table.allocation.used(following - 2):
                    block = self._read(self.boot.offset(following), size)
                    if not looks_like_entries(block) or looks_like_entries(block, first=True):
                        break
                    runs.append((following, 1))
                    full = 0 not in block[::32]
                following += 1
            return runs
        return []

    def _whole_numbers(self, cluster: int) -> Iterator[int]:
        """`cluster`, and what it may have been before its upper half was zeroed."""
        yield cluster
        if self.boot.bits == 32 and cluster < HIGH:
            yield from range(cluster + HIGH, self._tables[0].last, HIGH)

    # extents

    def placements(self, entry: Entry) -> Iterator[Extents]:
        """What a zeroed chain may have been: in one piece, then over free clusters only."""
        if entry.extents or entry.first is None:
            if entry.extents:
                yield entry.extents
            return
        size = self.boot.cluster_size
        wanted = -(-entry.size // size)
        stated = (entry.first - self.boot.data_offset) // size + 2
        told: set[Extents] = set()
        for number in self._whole_numbers(stated):
            for runs in self._guesses(number, wanted):
                extents = self._laid(runs, entry.size)
                if extents not in told:
                    told.add(extents)
                    yield extents

    def _guesses(self, number: int, wanted: int) -> Iterator[Runs]:
        table = self._tables[0]
        if not 2 <= number < table.last:
            return
        for other in self._tables[1:]:
            runs, why = other.chain(number, wanted)
            if why in ("", "long") and sum(n for _, n in runs) == wanted:
                yield runs
        for runs in guesses(number - 2, wanted, table.allocation, self._taken):
            yield [(first + 2, count) for first, count in runs]

    def known_letters(self) -> Letters:
        """What names here begin with, for names that lost their beginning."""
        self._walk()
        return self._letters


def _by_boot(source: Source, where: int) -> int | None:
    return where


def _by_backup(source: Source, where: int) -> int | None:
    return where - BACKUP_SECTOR * source.sector_size


register(FileSystem("fat", probe, FatReader, (
    Mark(b"FAT12   ", 54, _by_boot), Mark(b"FAT16   ", 54, _by_boot),
    Mark(b"FAT32   ", 82, _by_boot), Mark(b"FAT32   ", 82, _by_backup),
)))
