"""Superblock and group descriptors of ext2, ext3 and ext4: the kernel's fs/ext4/ext4.h.

Little-endian. The superblock stands at byte 1024; copies begin groups 1, and powers of 3, 5 and 7.
"""

from __future__ import annotations

import struct
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from needlewright.core.errors import FormatError, SourceError
from needlewright.core.sources.source import Source

AT, SIZE = 1024, 1024
MAGIC = 0xEF53
HAS_JOURNAL = 0x0004  # compatible features
META_GROUPS, EXTENTS, BITS_64, FLEX = 0x0010, 0x0040, 0x0080, 0x0200  # incompatible
METADATA_SUMS, BIGALLOC = 0x0400, 0x0200  # read-only compatible
MAX_GROUPS = 1 << 20
BLOCK_UNUSED, INODES_UNUSED = 2, 1  # flags of a group


@dataclass(frozen=True, slots=True)
class Super:
    """The geometry; `block_size` in bytes, counts as stated."""

    inodes: int
    blocks: int
    first_block: int
    block_size: int
    cluster_blocks: int
    blocks_per_group: int
    inodes_per_group: int
    inode_size: int
    descriptor_size: int
    compatible: int
    incompatible: int
    read_only: int
    journal_inode: int
    first_meta_group: int
    group: int
    uuid: bytes
    label: str

    @property
    def size(self) -> int:
        return self.blocks * self.block_size

    @property
    def groups(self) -> int:
        return -(-(self.blocks - self.first_block) // self.blocks_per_group)

    @property
    def kind(self) -> str:
        if self.incompatible & (EXTENTS | BITS_64 | FLEX) or self.read_only & METADATA_SUMS:
            return "ext4"
        return "ext3" if self.compatible & HAS_JOURNAL else "ext2"


def read_super(raw: bytes) -> Super:
    """The geometry of the 1,024 bytes `raw`; FormatError where they state none."""
    if len(raw) < SIZE or struct.unpack_from("<H", raw, 56)[0] != MAGIC:
        raise FormatError("no-superblock", offset=56)
    inodes, blocks, _, _, _, first, log_block, log_cluster, per_group, _, inode_group = (
        struct.unpack_from("<11I", raw))
    revision = struct.unpack_from("<I", raw, 76)[0]
    inode_size, group, compatible, incompatible, read_only = struct.unpack_from("<HHIII", raw, 88)
    if incompatible & BITS_64:
        blocks |= struct.unpack_from("<I", raw, 336)[0] << 32
    descriptor = struct.unpack_from("<H", raw, 254)[0] if incompatible & BITS_64 else 32
    inode_size = inode_size if revision else 128
    if log_block > 6 or not blocks or not inodes or not 0 < per_group <= 8 << 10 + log_block or (
            not inode_group > 0) or inode_size < 128 or inode_size & (inode_size - 1) or (
            inode_size > 1024 << log_block) or not 32 <= descriptor <= 1024:
        raise FormatError("geometry", offset=0)
    cluster = 1 << (log_cluster - log_block) if read_only & BIGALLOC and (
        log_block <= log_cluster <= log_block + 16) else 1
    found = Super(
        inodes, blocks, first, 1024 << log_block, cluster, per_group, inode_group, inode_size,
        descriptor, compatible, incompatible, read_only, struct.unpack_from("<I", raw, 224)[0],
        struct.unpack_from("<I", raw, 260)[0], group, raw[104:120],
        raw[120:136].split(b"\0")[0].decode("utf-8", "replace"))
    if first > 1 or found.groups > MAX_GROUPS or found.groups * inode_group < inodes:
        raise FormatError("geometry", offset=0)
    return found


def copies(size: int) -> list[int]:
    """Bytes at which copies of the superblock may stand, for the usual block sizes."""
    places = []
    for block in (4096, 1024, 2048):
        first = 1 if block == 1024 else 0
        places += [(first + group * block * 8) * block for group in (1, 3, 5, 7, 9)]
    return [at for at in places if at + SIZE <= size]


class Groups:
    """Where each group keeps its inodes and bitmaps, in blocks. Raises FormatError."""

    def __init__(self, volume: Source, geometry: Super) -> None:
        self.geometry = geometry
        per_block = geometry.block_size // geometry.descriptor_size
        raw = b"".join(
            self._block(volume, self._place(i))
            for i in range(-(-geometry.groups // per_block)))
        width = geometry.descriptor_size
        table = np.frombuffer(raw, np.uint8)[: geometry.groups * width].reshape(-1, width)
        low = np.ascontiguousarray(table[:, :32]).view("<u4").astype(np.int64)
        high = np.zeros_like(low)
        if width >= 64:
            high = np.ascontiguousarray(table[:, 32:64]).view("<u4").astype(np.int64)
        self.block_bitmap: npt.NDArray[np.int64] = low[:, 0] | high[:, 0] << 32
        self.inode_bitmap: npt.NDArray[np.int64] = low[:, 1] | high[:, 1] << 32
        self.inode_table: npt.NDArray[np.int64] = low[:, 2] | high[:, 2] << 32
        self.flags = (low[:, 4] >> 16) & 0xFFFF  # bg_flags stands at byte 18
        self.table_blocks = -(-geometry.inodes_per_group * geometry.inode_size
                              // geometry.block_size)
        self._order = np.argsort(self.inode_table)
        self._sorted = self.inode_table[self._order]

    def _place(self, index: int) -> int:
        """The block that holds block `index` of the descriptors."""
        geometry = self.geometry
        per_block = geometry.block_size // geometry.descriptor_size
        if geometry.incompatible & META_GROUPS and index >= geometry.first_meta_group:
            first = index * per_block * geometry.blocks_per_group + geometry.first_block
            own = 1 if _has_copy(index * per_block) else 0
            return first + own
        base = geometry.first_block
        if geometry.group:  # read from a copy
            base += geometry.group * geometry.blocks_per_group
        return base + 1 + index

    def _block(self, volume: Source, block: int) -> bytes:
        size = self.geometry.block_size
        try:
            raw = volume.read_at(block * size, size)
        except SourceError as error:
            raise FormatError("groups-unreadable", offset=block * size) from error
        if len(raw) < size:
            raise FormatError("groups-outside", offset=block * size)
        return raw

    def inode_at(self, number: int) -> int:
        """The byte of inode `number`, which must exist."""
        geometry = self.geometry
        group, index = divmod(number - 1, geometry.inodes_per_group)
        return int(self.inode_table[group]) * geometry.block_size + index * geometry.inode_size

    def inodes_of(self, block: int) -> int | None:
        """The number of the first inode in a block of an inode table; None for other blocks."""
        index = int(np.searchsorted(self._sorted, block, side="right")) - 1
        if index < 0:
            return None
        inside = block - int(self._sorted[index])
        if inside >= self.table_blocks:
            return None
        geometry = self.geometry
        per_block = geometry.block_size // geometry.inode_size
        return int(self._order[index]) * geometry.inodes_per_group + inside * per_block + 1


def _has_copy(group: int) -> bool:
    """Whether a group begins with a copy of the superblock (sparse_super)."""
    if group <= 1:
        return True
    for base in (3, 5, 7):
        power = base
        while power < group:
            power *= base
        if power == group:
            return True
    return False
