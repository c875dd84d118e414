"""FAT12, FAT16 and FAT32: live files by their chains, removed ones by what their entries keep.

A removed entry keeps the first cluster and the size, and its chain is zeroed: where the content lay
is a guess that only the content itself can prove. Some systems also zero the upper half of the
first cluster's number. FAT keeps no time of removal. Long names: see fat_directory.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator, Mapping
from typing import Any

from needlewright.core.errors import FormatError, SourceError
from needlewright.core.sources.source import Source
from needlewright.core.volumes.allocation import Allocation
from needlewright.core.volumes.base import (
    MAX_DEPTH,
    Entry,
    Extents,
    Facts,
    FileSystem,
    Mark,
    Placed,
    Reader,
    State,
    cut,
    joined,
)
from needlewright.core.volumes.fat_boot import Boot, read_boot
from needlewright.core.volumes.fat_directory import (
    LABEL,
    LONG,
    LOST,
    Slot,
    looks_like_entries,
    slots,
)
from needlewright.core.volumes.fat_table import FatTable, Runs
from needlewright.core.volumes.guessing import guesses
from needlewright.core.volumes.letters import Letters
from needlewright.core.volumes.registry import register

MAX_FOLDER_BYTES = 65536 * 32  # FAT specification 6: a directory's limit; larger ones are damaged
MAX_FOLDERS = 2_000_000
MAX_GONE_CLUSTERS = 64  # of a removed folder that are put together
BACKUP_SECTOR = 6
HIGH = 1 << 16

Doubts = tuple[tuple[str, Mapping[str, Any]], ...]
Folder = tuple[str, Runs, bool]  # path, clusters, whether it was removed itself


def probe(volume: Source) -> Facts | None:
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
        state = State.DAMAGED if at or boot.size > volume.size else State.SOUND
        return Facts(f"fat{boot.bits}", boot.size, boot.cluster_size, _label(volume, boot),
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


class FatReader(Reader):
    """An open FAT volume."""

    def __init__(self, volume: Source) -> None:
        facts = probe(volume)
        if facts is None:
            raise FormatError("no FAT volume", offset=0)
        super().__init__(volume, facts)
        head = volume.read_at(0, 512)
        try:
            self.boot = read_boot(head)
        except FormatError as error:
            self.boot = read_boot(volume.read_at(BACKUP_SECTOR * volume.sector_size, 512))
            self._problems.add("boot-from-copy", error.offset)
        self._tables = self._load_tables()
        self._letters = Letters()
        self._folders: list[Folder] = []
        self._walked = False
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
            return "", [], False
        runs, why = self._tables[0].chain(self.boot.root_cluster, self._folder_clusters)
        if why not in ("", "long"):
            self._problems.add(why, self.boot.offset(self.boot.root_cluster), path="/")
            runs = runs or [(self.boot.root_cluster, 1)]
        return "", runs, False

    @property
    def _folder_clusters(self) -> int:
        return max(1, MAX_FOLDER_BYTES // self.boot.cluster_size)

    def _bytes(self, folder: Folder) -> tuple[bytes, list[int]]:
        """(the directory's bytes, where on the volume each of its clusters lies)."""
        path, runs, _ = folder
        if not runs and not path:
            return self._read(self.boot.root_offset, self.boot.root_size), [self.boot.root_offset]
        places: list[int] = []
        blocks: list[bytes] = []
        for first, count in runs:
            at = self.boot.offset(first)
            block = self._read(at, count * self.boot.cluster_size)
            blocks.append(block)
            places += range(at, at + count * self.boot.cluster_size, self.boot.cluster_size)
        return b"".join(blocks), places

    def _place(self, places: list[int], at: int) -> int:
        size = self.boot.cluster_size
        if len(places) == 1:
            return places[0] + at
        return places[at // size] + at % size

    # live

    def live(self) -> Iterator[Entry]:
        self._folders.clear()
        seen: set[int] = set()
        queue = deque([self._root()])
        while queue:
            folder = queue.popleft()
            self._folders.append(folder)
            path = folder[0]
            data, places = self._bytes(folder)
            for slot in slots(data):
                if slot.removed or slot.behind:
                    continue
                if slot.long is None:
                    self._letters.learn(slot.name, path)
                at = self._place(places, slot.at)
                if not slot.folder:
                    yield self._live_entry(path, slot, at)
                elif slot.cluster in seen or path.count("/") >= MAX_DEPTH or (
                        len(seen) >= MAX_FOLDERS):
                    self._problems.add("folder-loop", at, path=joined(path, slot.name))
                else:
                    seen.add(slot.cluster)
                    queue += self._live_folder(path, slot, at)
        self._walked = True

    def _live_folder(self, path: str, slot: Slot, at: int) -> list[Folder]:
        inner = joined(path, slot.name)
        runs, why = self._tables[0].chain(slot.cluster, self._folder_clusters)
        if why not in ("", "long"):
            self._problems.add(why, at, path=inner)
        if not runs and 2 <= slot.cluster < self._tables[0].last:
            first = self._read(self.boot.offset(slot.cluster), 64)
            runs = [(slot.cluster, 1)] if looks_like_entries(first, first=True) else []
        return [(inner, runs, False)] if runs else []

    def _live_entry(self, path: str, slot: Slot, at: int) -> Entry:
        doubts: list[tuple[str, Mapping[str, Any]]] = []
        extents: Extents = ()
        size = self.boot.cluster_size
        if slot.size:
            wanted = -(-slot.size // size)
            runs, why = self._tables[0].chain(slot.cluster, wanted)
            if why not in ("", "long"):
                doubts.append((why, {}))
            extents = cut([(self.boot.offset(c), n * size) for c, n in runs], slot.size)
            if sum(n for _, n in runs) < wanted:
                doubts.append(("chain-short", {}))
        if slot.partly:
            doubts.append(("name-cut", {}))
        return Entry(joined(path, slot.name), slot.size, at, False, slot.times(),
                     Placed.EXACT if not doubts else Placed.CHAIN, extents,
                     first=self.boot.offset(slot.cluster) if slot.size else None,
                     doubts=tuple(doubts))

    # removed

    def removed(self) -> Iterator[Entry]:
        if not self._walked:
            for _ in self.live():
                pass
        gone: deque[Folder] = deque()
        seen: set[int] = set()
        for folder in self._folders:
            yield from self._removed_in(folder, gone, seen)
        while gone:
            yield from self._removed_in(gone.popleft(), gone, seen)

    def _removed_in(self, folder: Folder, gone: deque[Folder], seen: set[int]) -> Iterator[Entry]:
        path, _, was_removed = folder
        data, places = self._bytes(folder)
        for slot in slots(data, removed_only=not was_removed):
            if not (slot.removed or slot.behind or was_removed):
                continue
            at = self._place(places, slot.at)
            name, doubts = self._name(slot, path)
            if slot.folder:
                if slot.cluster not in seen and path.count("/") < MAX_DEPTH:
                    seen.add(slot.cluster)
                    gone += self._gone_folder(joined(path, name), slot.cluster)
            elif slot.size and self._inside(slot.cluster, slot.size):
                yield Entry(joined(path, name), slot.size, at, True, slot.times(), Placed.GUESS,
                            first=self.boot.offset(slot.cluster),
                            doubts=(("chain-cleared", {}), *doubts))
            elif slot.size:
                yield Entry(joined(path, name), slot.size, at, True, slot.times(), Placed.NONE,
                            doubts=(("cluster-outside", {"cluster": slot.cluster}), *doubts))

    def _inside(self, cluster: int, size: int) -> bool:
        """Whether a first cluster and a size fit into the volume, wherever a lost half puts it."""
        clusters = -(-size // self.boot.cluster_size)
        return (2 <= cluster < self._tables[0].last and clusters <= self.boot.clusters) or (
            self.boot.bits == 32 and cluster < HIGH and clusters <= self.boot.clusters)

    def _name(self, slot: Slot, folder: str) -> tuple[str, Doubts]:
        name = slot.name
        if slot.partly:
            return name, (("name-cut", {}),)
        if not name.startswith(LOST):
            return name, ()
        restored, known = self._letters.restore(name, folder)
        return restored, (("letter-guessed" if known else "letter-lost", {"name": name[1:]}),)

    def _gone_folder(self, path: str, cluster: int) -> list[Folder]:
        """The clusters of a removed folder: by its own number, then by shape."""
        table, size = self._tables[0], self.boot.cluster_size
        for number in self._whole_numbers(cluster):
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
            return [(path, runs, True)]
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
                extents = cut([(self.boot.offset(c), n * size) for c, n in runs], entry.size)
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
        if not self._walked:
            for _ in self.live():
                pass
        return self._letters

    def claim(self, extents: Extents) -> None:
        """These bytes are proven to belong to a removed file: later guesses pass over them."""
        self._taken.take(extents)


def _by_boot(source: Source, where: int) -> int | None:
    return where


def _by_backup(source: Source, where: int) -> int | None:
    return where - BACKUP_SECTOR * source.sector_size


register(FileSystem("fat", probe, FatReader, (
    Mark(b"FAT12   ", 54, _by_boot), Mark(b"FAT16   ", 54, _by_boot),
    Mark(b"FAT32   ", 82, _by_boot), Mark(b"FAT32   ", 82, _by_backup),
)))
