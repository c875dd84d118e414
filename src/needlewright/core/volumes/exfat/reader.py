"""exFAT: revision 1.00 of its specification. Little-endian.

Removing clears in-use bits and the bitmap; the table keeps old chains until they are written over,
and a file that lies in one piece says so itself. Removed files therefore mostly come back exactly.
Not read: transactional tables (TexFAT), vendor extensions.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator, Mapping
from typing import Any

import numpy as np

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
    cut,
    stated,
)
from needlewright.core.volumes.exfat.sets import BITMAP, LABEL, EntrySet, entry_sets
from needlewright.core.volumes.fat.boot import Boot
from needlewright.core.volumes.fat.cluster_folders import ClusterReader, Folder
from needlewright.core.volumes.fat.table import FatTable, Runs
from needlewright.core.volumes.guessing import guesses
from needlewright.core.volumes.registry import register

MAGIC = b"EXFAT   "
BOOT = struct.Struct("<QQIIIIIIHHBBB")  # at byte 64
BACKUP_SECTOR = 12
MAX_FOLDER_BYTES = 256 << 20  # specification 7.4.3



def read_boot(head: bytes) -> Boot:
    """The geometry that a boot sector states; FormatError where it states none."""
    if len(head) < 512 or head[3:11] != MAGIC or any(head[11:64]):
        raise FormatError("no-exfat-boot-sector", offset=3)
    (_, length, fat_at, fat_length, heap_at, clusters, root, serial, _, _, sector_shift,
     cluster_shift, fats) = BOOT.unpack_from(head, 64)
    if not 9 <= sector_shift <= 12 or cluster_shift > 25 - sector_shift or fats not in (1, 2):
        raise FormatError("sector-or-cluster-size", offset=108)
    sector = 1 << sector_shift
    if not 0 < clusters <= 0xFFFF_FFF5 or root < 2 or root > clusters + 1 or not fat_at or (
            heap_at < fat_at + fat_length * fats or length < heap_at):
        raise FormatError("geometry", offset=80)
    clusters = min(clusters, fat_length * sector // 4 - 2)
    return Boot(32, sector << cluster_shift, fat_at * sector, fat_length * sector, fats, 0,
                0, root, heap_at * sector, clusters, length * sector, serial, "")


def _boot(volume: Source) -> tuple[Boot, int]:
    """(the geometry, the byte at which it stands): the first, or the copy in sector 12."""
    for sector in (512, 512 * BACKUP_SECTOR, 4096 * BACKUP_SECTOR):
        at = 0 if sector == 512 else sector
        try:
            return read_boot(volume.read_at(at, 512)), at
        except (FormatError, SourceError):
            continue
    raise FormatError("no-exfat-volume", offset=0)


def probe(volume: Source) -> VolumeFacts | None:
    """Facts of an exFAT volume that begins at byte 0."""
    try:
        boot, at = _boot(volume)
    except FormatError:
        return None
    if not _table_begins(volume, boot):
        return None
    state = VolumeState.DAMAGED if at or boot.size > volume.size else VolumeState.SOUND
    return VolumeFacts("exfat", boot.size, boot.cluster_size, _label(volume, boot),
                 f"{boot.serial >> 16:04X}-{boot.serial & 0xFFFF:04X}", state)


def _table_begins(volume: Source, boot: Boot) -> bool:
    """Whether a table stands where the boot sector puts it (specification 4.1.1)."""
    try:
        head = volume.read_at(boot.fat_offset, 8)
    except SourceError:
        return True  # it cannot be read, which proves nothing against it
    return head[:4] == b"\xf8\xff\xff\xff" or head[4:] == b"\xff\xff\xff\xff"


def _label(volume: Source, boot: Boot) -> str:
    try:
        root = volume.read_at(boot.offset(boot.root_cluster), min(boot.cluster_size, 1 << 16))
    except SourceError:
        return ""
    for at in range(0, len(root) - 31, 32):
        if root[at] == LABEL:
            return root[at + 2 : at + 2 + 2 * min(11, root[at + 1])].decode("utf-16-le", "replace")
        if root[at] == 0:
            break
    return ""


class ExfatReader(ClusterReader[EntrySet]):
    """An open exFAT volume."""

    def __init__(self, volume: Source) -> None:
        super().__init__(volume, stated(probe(volume), "exFAT"))
        self.boot, at = _boot(volume)
        if at:
            self._problems.add("boot-from-copy", 0)
        self._table = FatTable(volume, self.boot, 0, self._problems)
        self._allocation = self._bitmap()
        self._taken = self._allocation.copy()

    def allocation(self) -> Allocation:
        return self._allocation

    def _bitmap(self) -> Allocation:
        """The bitmap that an entry of the root directory names; the table's where it is lost."""
        boot = self.boot
        data, _ = self._bytes(self._root())
        for at in range(0, len(data) - 31, 32):
            if data[at] != BITMAP or data[at + 1] & 1:
                continue
            cluster, size = struct.unpack_from("<IQ", data, at + 20)
            size = min(size, -(-(self._table.last - 2) // 8))
            runs, why = self._table.chain(cluster, -(-size // boot.cluster_size))
            if why not in ("", "long"):
                self._problems.add(why, boot.offset(cluster), path="bitmap")
                runs = [(cluster, -(-size // boot.cluster_size))]
            extents = cut([(boot.offset(c), n * boot.cluster_size) for c, n in runs], size)
            raw = b"".join(self._read(o, n) for o, n in extents if o is not None)
            bits = np.frombuffer(raw.ljust(-(-(self._table.last - 2) // 8), b"\0"), np.uint8).copy()
            return Allocation(boot.cluster_size, boot.data_offset, self._table.last - 2, bits)
        self._problems.add("bitmap-missing", boot.offset(boot.root_cluster))
        return self._table.allocation

    # folders

    def _root(self) -> Folder:
        most = max(1, MAX_FOLDER_BYTES // self.boot.cluster_size)
        runs, why = self._table.chain(self.boot.root_cluster, most)
        if why not in ("", "long"):
            self._problems.add(why, self.boot.offset(self.boot.root_cluster), path="/")
        return Folder("", runs or [(self.boot.root_cluster, 1)], False)

    def _items(self, data: bytes, removed_only: bool) -> Iterator[EntrySet]:
        return entry_sets(data, removed_only)

    def _runs(self, found: EntrySet) -> tuple[Runs, str]:
        """The clusters that a set states, and what is wrong with them."""
        wanted = -(-found.size // self.boot.cluster_size)
        if not 2 <= found.cluster < self._table.last:
            return [], "cluster-outside"
        if found.contiguous:
            fits = min(wanted, self._table.last - found.cluster)
            return [(found.cluster, fits)], "" if fits == wanted else "cluster-outside"
        return self._chain(found.cluster, wanted)

    def _chain(self, cluster: int, wanted: int) -> tuple[Runs, str]:
        runs, why = self._table.chain(cluster, wanted)
        if sum(n for _, n in runs) < wanted:
            return runs, why or "chain-short"
        return runs, why

    def _extents(self, runs: Runs, found: EntrySet) -> Extents:
        """What holds the content; what was never written is read as zeros."""
        written = self._laid(runs, found.valid)
        rest = found.size - found.valid
        return cut([*written, (None, rest)], found.size) if rest else written

    # entries

    def _folder_runs(self, item: EntrySet, path: str, at: int) -> Runs:
        if not 0 < item.size <= MAX_FOLDER_BYTES:
            return []
        runs, why = self._runs(item)
        if why not in ("", "long"):
            self._problems.add(why, at, path=path)
        return runs

    def _live_entry(self, path: str, item: EntrySet, at: int) -> Entry:
        doubts: list[tuple[str, Mapping[str, Any]]] = []
        extents: Extents = ()
        if item.size:
            runs, why = self._runs(item)
            if why not in ("", "long"):
                doubts.append((why, {}))
            extents = self._extents(runs, item)
        if not item.sound:
            doubts.append(("set-checksum", {}))
        return Entry(path, item.size, at, False, item.times(),
                     Placed.CHAIN if doubts else Placed.EXACT, extents,
                     first=self.boot.offset(item.cluster) if extents else None,
                     doubts=tuple(doubts))

    def _removed_entry(self, path: str, item: EntrySet, at: int, doubts: Doubts) -> Entry:
        if not item.sound:
            doubts = (*doubts, ("set-checksum", {}))
        runs, why = self._runs(item)
        first = self.boot.offset(item.cluster) if 2 <= item.cluster < self._table.last else None
        extents: Extents = ()
        if why == "cluster-outside":
            placed = Placed.NONE
            doubts = (*doubts, (why, {"cluster": item.cluster}))
        elif why in ("", "long"):
            placed = Placed.EXACT if item.contiguous else Placed.CHAIN
            extents = self._extents(runs, item)
        else:
            placed = Placed.GUESS
            doubts = (*doubts, (why, {}))
        return Entry(path, item.size, at, True, item.times(), placed, extents, first=first,
                     doubts=doubts)

    def _gone_runs(self, item: EntrySet) -> Runs:
        runs, why = self._runs(item)
        if why not in ("", "long") or item.size > MAX_FOLDER_BYTES:
            runs = runs[:1] or ([(item.cluster, 1)] if 2 <= item.cluster < self._table.last
                                else [])
        return [(first + i, 1) for first, count in runs for i in range(count)
                if not self._allocation.used(first + i - 2)]

    # extents

    def placements(self, entry: Entry) -> Iterator[Extents]:
        """What the records state; where a chain is broken, in one piece, then over free clusters.
        """
        if entry.extents:
            yield entry.extents
        if entry.placed is Placed.EXACT or entry.first is None:
            return
        size = self.boot.cluster_size
        first = (entry.first - self.boot.data_offset) // size
        for runs in guesses(first, -(-entry.size // size), self._allocation, self._taken):
            extents = self._laid([(c + 2, n) for c, n in runs], entry.size)
            if extents != entry.extents:
                yield extents


register(FileSystem("exfat", probe, ExfatReader, (
    Mark(MAGIC, 3, lambda source, where: where),
    Mark(MAGIC, 3, lambda source, where: where - BACKUP_SECTOR * source.sector_size),
)))
