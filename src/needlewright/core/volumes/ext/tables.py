"""The tables of an open ext volume: groups, bitmaps, inodes, and what folders name. Little-endian.

What is there (`reader`) and what was removed (`removed`) are both told from these.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Iterator

import numpy as np

from needlewright.core.errors import FormatError, SourceError
from needlewright.core.sources.source import Source
from needlewright.core.volumes.allocation import Allocation
from needlewright.core.volumes.base import (
    Doubts,
    Entry,
    Extents,
    Placed,
    Reader,
    VolumeFacts,
    VolumeState,
    stated,
)
from needlewright.core.volumes.ext.inodes import (
    ENCRYPTED,
    INLINE_DATA,
    DirEntry,
    Inode,
    dir_entries,
    file_extents,
    inline_data,
    read_inode,
)
from needlewright.core.volumes.ext.superblock import (
    AT,
    BLOCK_UNUSED,
    SIZE,
    Groups,
    Super,
    copies,
    read_super,
)

ROOT = 2
TABLE_BYTES = 1 << 16  # of inode tables read at once
KEPT_TABLES = 128
MAX_FOLDER_BYTES = 1 << 30


def _super(volume: Source) -> tuple[Super, int]:
    """(geometry, the byte at which it stands): the first superblock, or a copy of it."""
    for at in (AT, *copies(volume.size)):
        try:
            found = read_super(volume.read_at(at, SIZE))
        except (FormatError, SourceError):
            continue
        if at != AT and (found.group == 0 or copy_at(found) != at):
            continue
        return found, at
    raise FormatError("no-ext-volume", offset=AT)


def copy_at(found: Super) -> int:
    """Where the copy of the superblock of its group stands."""
    return (found.first_block + found.group * found.blocks_per_group) * found.block_size


def probe(volume: Source) -> VolumeFacts | None:
    """Facts of an ext volume that begins at byte 0."""
    try:
        found, at = _super(volume)
    except FormatError:
        return None
    state = VolumeState.DAMAGED if at != AT or found.size > volume.size else VolumeState.SOUND
    return VolumeFacts(found.kind, found.size, found.block_size * found.cluster_blocks, found.label,
                 found.uuid.hex(), state)


class ExtTables(Reader):
    """An open ext volume as far as its tables go: blocks, inodes, folders' entries."""

    def __init__(self, volume: Source) -> None:
        super().__init__(volume, stated(probe(volume), "ext"))
        self.geometry, at = _super(volume)
        if at != AT:
            self._problems.add("boot-from-copy", AT)
        self.groups = Groups(volume, self.geometry)
        self._tables: OrderedDict[int, bytes] = OrderedDict()
        self._allocation = self._bitmaps()
        self.folders: dict[int, tuple[int, str]] = {}  # live ones: inode -> parent, name

    @property
    def volume(self) -> Source:
        return self._volume

    def allocation(self) -> Allocation:
        return self._allocation

    def _bitmaps(self) -> Allocation:
        geometry, size = self.geometry, self.geometry.block_size
        unit = size * geometry.cluster_blocks
        count = self._fitting(-(-geometry.blocks // geometry.cluster_blocks), unit)
        bits = np.zeros(-(-count // 8), np.uint8)
        per_group = geometry.blocks_per_group // geometry.cluster_blocks // 8
        for group in range(geometry.groups):
            if geometry.first_block == 1 or per_group == 0:
                break
            if self.groups.flags[group] & BLOCK_UNUSED:
                continue
            raw = self._read(int(self.groups.block_bitmap[group]) * size, min(size, per_group))
            room = bits[group * per_group : (group + 1) * per_group]
            room[:] = np.frombuffer(raw, np.uint8)[: room.size]
        if geometry.first_block == 1:
            self._bitmaps_from_one(bits)
        return Allocation(unit, 0, count, bits)

    def _bitmaps_from_one(self, bits: np.ndarray) -> None:  # type: ignore[type-arg]
        """Groups of volumes with blocks of 1 KiB begin at block 1, so no byte agrees."""
        geometry = self.geometry
        flags = np.zeros(bits.size * 8, np.uint8)
        flags[0] = 1
        for group in range(geometry.groups):
            if self.groups.flags[group] & BLOCK_UNUSED:
                continue
            raw = self._read(int(self.groups.block_bitmap[group]) * geometry.block_size,
                             geometry.block_size)
            every = np.unpackbits(np.frombuffer(raw, np.uint8), bitorder="little")
            first = 1 + group * geometry.blocks_per_group
            room = flags[first : first + geometry.blocks_per_group]
            room[:] = every[: room.size]
        bits[:] = np.packbits(flags, bitorder="little")[: bits.size]

    # inodes and blocks

    def block(self, number: int) -> bytes:
        """One block; b"" where it cannot be read."""
        size = self.geometry.block_size
        try:
            raw = self._volume.read_at(number * size, size)
        except SourceError:
            self._problems.add("record-unreadable", number * size)
            return b""
        return raw if len(raw) == size else b""

    def inode(self, number: int) -> Inode | None:
        """An inode as it is now; None where there is none."""
        if not 0 < number <= self.geometry.inodes:
            return None
        at = self.groups.inode_at(number)
        place, inside = at // TABLE_BYTES * TABLE_BYTES, at % TABLE_BYTES
        if place not in self._tables:
            if len(self._tables) >= KEPT_TABLES:
                self._tables.popitem(last=False)
            self._tables[place] = self._read(place, TABLE_BYTES)
        else:
            self._tables.move_to_end(place)
        raw = self._tables[place][inside : inside + self.geometry.inode_size]
        if len(raw) < self.geometry.inode_size:
            raw = self._read(at, self.geometry.inode_size)
        return read_inode(raw)

    def extents(self, inode: Inode) -> tuple[Extents, str]:
        """(extents of an inode, what is wrong with them), as blocks are now."""
        return file_extents(inode, self.geometry.block_size, self.geometry.blocks, self.block)

    def folder_blocks(self, inode: Inode) -> Iterator[tuple[int, bytes]]:
        """(byte on the volume, block) of a folder's entries."""
        size = self.geometry.block_size
        if inode.flags & INLINE_DATA:
            return
        extents, _ = self.extents(inode)
        for offset, length in extents:
            if offset is None:
                continue
            for at in range(offset, min(offset + length, offset + MAX_FOLDER_BYTES), size):
                yield at, self._read(at, size, "folder-unreadable")

    def entries_of(self, number: int, inode: Inode, slack: bool = False) -> Iterator[
            tuple[int, DirEntry]]:
        """(byte of the entry, entry) of everything a folder names."""
        inodes = self.geometry.inodes
        if inode.flags & INLINE_DATA:
            data = inline_data(inode)
            at = self.groups.inode_at(number)
            for piece in (data[4:60], data[60:]):
                for entry in dir_entries(piece, inodes, slack):
                    yield at, entry
            return
        for at, block in self.folder_blocks(inode):
            for entry in dir_entries(block, inodes, slack):
                yield at + entry.at, entry

    def entry(self, path: str, number: int, inode: Inode, removed: bool) -> Entry:
        """The entry of an inode as it is now."""
        at, locked = self.groups.inode_at(number), bool(inode.flags & ENCRYPTED)
        times = inode.times(inode.removed if removed else 0)
        if inode.flags & INLINE_DATA:
            return Entry(path, inode.size, at + 40, removed, times, data=inline_data(inode),
                         locked=locked)
        extents, why = self.extents(inode)
        doubts: Doubts = ((why, {}),) if why else ()
        return Entry(path, inode.size, at, removed, times,
                     Placed.CHAIN if why else Placed.EXACT, extents, doubts=doubts, locked=locked)
