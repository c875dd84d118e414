"""The tables of an open XFS volume: groups, trees, inodes, and what folders name. Big-endian.

What is there (`reader`) and what was removed (`removed`) are both told from these.
"""

from __future__ import annotations

import struct
from collections import deque
from collections.abc import Iterator

import numpy as np

from needlewright.core.errors import FormatError, SourceError
from needlewright.core.sources.source import Source
from needlewright.core.volumes.allocation import Allocation
from needlewright.core.volumes.base import (
    Extents,
    Reader,
    VolumeFacts,
    VolumeState,
    cut,
    stated,
)
from needlewright.core.volumes.xfs.layout import (
    EXTENTS,
    LOCAL,
    TREE,
    Inode,
    parse_inode,
    read_super,
)

MAX_EXTENTS = 1 << 20
MAX_TREE = 1 << 18  # blocks of one tree
LEAF_BYTES = 32 << 30  # a folder's entries lie before this byte of it
EXTENT = struct.Struct(">QQ")


def probe(volume: Source) -> VolumeFacts | None:
    """Facts of an XFS volume that begins at byte 0."""
    try:
        found = read_super(volume.read_at(0, 512))
    except (FormatError, SourceError):
        return None
    size = found.blocks * found.block_size
    state = VolumeState.DAMAGED if size > volume.size else VolumeState.SOUND
    return VolumeFacts("xfs", size, found.block_size, found.label, found.uuid.hex(), state,
                 ("xfs-names", "xfs-sizes"))


class XfsTables(Reader):
    """An open XFS volume as far as its tables go: trees, inodes, folders' entries."""

    def __init__(self, volume: Source) -> None:
        super().__init__(volume, stated(probe(volume), "XFS"))
        self.geometry = read_super(volume.read_at(0, 512))
        self._allocation = self._free_space()
        self.folders: dict[int, str] = {}

    @property
    def volume(self) -> Source:
        return self._volume

    def problem(self, code: str, offset: int) -> None:
        """Note something damaged."""
        self._problems.add(code, offset)

    def allocation(self) -> Allocation:
        return self._allocation

    # blocks and trees

    def byte(self, block: int) -> int | None:
        """The byte of a block by its number of the file system; None where it lies outside."""
        geometry = self.geometry
        group, inside = block >> geometry.group_log, block & (1 << geometry.group_log) - 1
        if group >= geometry.groups or inside >= geometry.group_blocks:
            return None
        return (group * geometry.group_blocks + inside) * geometry.block_size

    def group_byte(self, group: int, block: int) -> int:
        return (group * self.geometry.group_blocks + block) * self.geometry.block_size

    def tree(self, group: int, root: int, magics: tuple[bytes, bytes], head: tuple[int, int],
              record: int, key: int) -> Iterator[bytes]:
        """The records of a tree of a group (pointers of 32 bits), leaf by leaf."""
        queue, seen = deque([root]), set[int]()
        head_size = head[self.geometry.version == 5]
        while queue:
            block = queue.popleft()
            if block in seen or block >= self.geometry.group_blocks or len(seen) > MAX_TREE:
                self._problems.add("tree-wrong", self.group_byte(group, 0))
                continue
            seen.add(block)
            raw = self._read(self.group_byte(group, block), self.geometry.block_size)
            if raw[:4] not in magics:
                self._problems.add("tree-wrong", self.group_byte(group, block))
                continue
            level, count = struct.unpack_from(">HH", raw, 4)
            if level == 0:
                yield raw[head_size : head_size + count * record]
                continue
            most = (len(raw) - head_size) // (key + 4)
            at = head_size + most * key
            if count <= most:
                queue.extend(struct.unpack_from(f">{count}I", raw, at))

    def _free_space(self) -> Allocation:
        """All blocks are in use but those that the trees of free space name."""
        geometry = self.geometry
        count = self._fitting(geometry.groups * geometry.group_blocks, geometry.block_size)
        used = np.ones(count, np.bool_)
        for group in range(geometry.groups):
            head = self._read(self.group_byte(group, 0) + geometry.sector_size, 64)
            if head[:4] != b"XAGF":
                self._problems.add("group-damaged", self.group_byte(group, 0))
                continue
            root = struct.unpack_from(">I", head, 16)[0]
            for leaf in self.tree(group, root, (b"ABTB", b"AB3B"), (16, 56), 8, 8):
                for start, length in struct.iter_unpack(">II", leaf):
                    first = group * geometry.group_blocks + start
                    used[first : first + min(length, geometry.group_blocks - start)] = False
        return Allocation.of_flags(geometry.block_size, 0, used[: geometry.blocks])

    # inodes

    def inode(self, number: int) -> Inode | None:
        geometry = self.geometry
        shift = geometry.group_log + geometry.inodes_log
        group, inside = number >> shift, number & (1 << shift) - 1
        block, index = inside >> geometry.inodes_log, inside & (1 << geometry.inodes_log) - 1
        if group >= geometry.groups or block >= geometry.group_blocks:
            return None
        at = self.group_byte(group, block) + index * geometry.inode_size
        return self.parse(self._read(at, geometry.inode_size), number)

    def inode_at(self, number: int) -> int:
        geometry = self.geometry
        shift = geometry.group_log + geometry.inodes_log
        group, inside = number >> shift, number & (1 << shift) - 1
        return self.group_byte(group, inside >> geometry.inodes_log) + (
            inside & (1 << geometry.inodes_log) - 1) * geometry.inode_size

    def parse(self, raw: bytes, number: int) -> Inode | None:
        return parse_inode(raw, number)

    def extents(self, inode: Inode) -> tuple[Extents, str]:
        pieces: list[tuple[int, int, int, bool]] = []
        why = ""
        if inode.form == EXTENTS:
            why = self.records(inode.fork[: 16 * min(inode.extents, 1 << 12)], pieces)
        elif inode.form == TREE:
            level, count = struct.unpack_from(">HH", inode.fork)
            most = (len(inode.fork) - 4) // 16
            if count > most:
                return (), "extents-wrong"
            roots = struct.unpack_from(f">{count}Q", inode.fork, 4 + 8 * most)
            why = self._map_tree(roots, pieces, level)
        return self.laid_out(pieces, inode.size, why)

    def _map_tree(self, roots: tuple[int, ...], pieces: list[tuple[int, int, int, bool]],
                  level: int) -> str:
        """Collect the extents below the blocks `roots` of an inode's tree."""
        head = 72 if self.geometry.version == 5 else 24
        queue, seen, why = deque((b, level) for b in roots), 0, ""
        while queue:
            block, above = queue.popleft()
            at = self.byte(block)
            seen += 1
            if at is None or seen > MAX_TREE:
                return "extents-wrong"
            raw = self._read(at, self.geometry.block_size)
            own, count = struct.unpack_from(">HH", raw, 4)
            if raw[:4] not in (b"BMAP", b"BMA3") or own >= above:
                return "extents-wrong"
            most = (len(raw) - head) // 16
            if count > most:
                return "extents-wrong"
            if own == 0:
                why = self.records(raw[head : head + 16 * count], pieces) or why
            else:
                inner = struct.unpack_from(f">{count}Q", raw, head + 8 * most)
                queue.extend((b, own) for b in inner)
        return why

    def records(self, raw: bytes, pieces: list[tuple[int, int, int, bool]]) -> str:
        for high, low in EXTENT.iter_unpack(raw[: len(raw) // 16 * 16]):
            unwritten = bool(high >> 63)
            offset = high >> 9 & (1 << 54) - 1
            block = (high & 0x1FF) << 43 | low >> 21
            count = low & (1 << 21) - 1
            at = self.byte(block)
            last = self.byte(block + count - 1) if count else None
            if at is None or last is None or len(pieces) >= MAX_EXTENTS:
                return "extents-wrong"
            pieces.append((offset, count, at, not unwritten))
        return ""

    def laid_out(self, pieces: list[tuple[int, int, int, bool]], size: int,
                  why: str) -> tuple[Extents, str]:
        block = self.geometry.block_size
        out: list[tuple[int | None, int]] = []
        at = 0
        for first, count, byte, written in sorted(pieces):
            if first < at:
                return tuple(out), "extents-wrong"
            if first > at:
                out.append((None, (first - at) * block))
            out.append((byte if written else None, count * block))
            at = first + count
        if at * block < size:
            out.append((None, size - at * block))
        return cut(out, size), why

    # folders

    def names(self, inode: Inode) -> Iterator[tuple[int, str, bool, int]]:
        """(inode number, name, whether it was removed, byte) of what a folder names.

        Of removed ones only the lower 32 bits of the number are left.
        """
        if inode.form == LOCAL:
            yield from self.short_names(inode)
            return
        size = self.geometry.folder_size
        extents, _ = self.extents(inode)
        at = 0
        for offset, length in extents:
            if offset is not None and at < LEAF_BYTES:
                for place in range(offset, offset + length - size + 1, size):
                    raw = self._read(place, size, "folder-unreadable")
                    for number, name, removed, inside in self._block_names(raw):
                        yield number, name, removed, place + inside
            at += length

    def short_names(self, inode: Inode) -> Iterator[tuple[int, str, bool, int]]:
        raw, wide = inode.fork, inode.fork[1] if len(inode.fork) > 1 else 0
        width = 8 if wide else 4
        at = 2 + width
        for _ in range(max(raw[0] if raw else 0, wide)):
            if at + 3 > len(raw):
                return
            length = raw[at]
            name = raw[at + 3 : at + 3 + length]
            place = at + 3 + length + self.geometry.ftype
            if place + width > len(raw):
                return
            number = int.from_bytes(raw[place : place + width], "big")
            yield number, name.decode("utf-8", "replace"), False, self.inode_at(inode.number)
            at = place + width

    def _block_names(self, raw: bytes) -> Iterator[tuple[int, str, bool, int]]:
        magic = raw[:4]
        if magic not in (b"XD2B", b"XD2D", b"XDB3", b"XDD3"):
            return
        at = 64 if magic in (b"XDB3", b"XDD3") else 16
        stop = len(raw)
        if magic in (b"XD2B", b"XDB3"):
            count = struct.unpack_from(">I", raw, stop - 8)[0]
            stop = max(at, stop - 8 - 8 * min(count, stop // 8))
        while at + 16 <= stop:
            if raw[at : at + 2] == b"\xff\xff":
                length = struct.unpack_from(">H", raw, at + 2)[0]
                if length < 8 or length % 8 or at + length > stop:
                    return
                yield from self._free_names(raw, at, at + length)
                at += length
                continue
            number, length = struct.unpack_from(">QB", raw, at)
            name = raw[at + 9 : at + 9 + length].decode("utf-8", "replace")
            yield number, name, False, at
            at += self.room(length)

    def room(self, length: int) -> int:
        return (8 + 1 + length + self.geometry.ftype + 2 + 7) // 8 * 8

    def _free_names(self, raw: bytes, at: int, stop: int) -> Iterator[tuple[int, str, bool, int]]:
        """Names in freed room: each entry's tag still says where in the block it began."""
        while at + 16 <= stop:
            length = raw[at + 8]
            room = self.room(length)
            tag = struct.unpack_from(">H", raw, at + room - 2)[0] if at + room <= stop else -1
            name = raw[at + 9 : at + 9 + length]
            if length and tag == at and b"\0" not in name and b"/" not in name:
                number = struct.unpack_from(">I", raw, at + 4)[0]
                yield number, name.decode("utf-8", "replace"), True, at
                at += room
            else:
                at += 8
