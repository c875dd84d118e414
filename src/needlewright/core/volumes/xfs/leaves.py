"""Leaves of extent trees that outlive their file, on XFS of version 5. Big-endian.

When a file is removed, the blocks of its tree are freed as they stand; of one that was removed soon
they stand in the log alone. Each says where it lies, of which volume and of which inode it is (the
kernel's fs/xfs/libxfs/xfs_format.h, xfs_btree_block), so that none is taken for another's. Version
4 names no inode in them: not read.
"""

from __future__ import annotations

import struct
from collections import defaultdict
from collections.abc import Iterator, Set
from dataclasses import dataclass

import numpy as np

from needlewright.core.volumes.xfs.log import OldBlock
from needlewright.core.volumes.xfs.tables import XfsTables

MAGIC = b"BMA3"
HEAD, EACH = 72, 16  # bytes of a leaf's header, and of an entry
OWNER = slice(56, 64)
NOBODY, NEVER = (1 << 64) - 1, -1
READ_BYTES = 1 << 20
MAX_LEAF_BYTES = 64 << 20  # that are kept of one volume, and as much of its log
MAX_PIECES = 1 << 19  # of one file
SECTOR = 512
Piece = tuple[int, int, int, bool]  # block of the file, count, byte of the volume, written


@dataclass(frozen=True, slots=True)
class Leaf:
    """A leaf: how many of its entries count, which leaves stand beside it, and when it was written.
    """

    block: bytes
    count: int
    left: int
    right: int
    sequence: int


class LostLeaves:
    """The pieces of files that leaves in free space and in the log name, by inode."""

    def __init__(self, tables: XfsTables) -> None:
        self._tables = tables
        self._logged: dict[int, list[OldBlock]] = defaultdict(list)  # by where the block lies
        self._leaves: dict[int, dict[int, Leaf]] = defaultdict(dict)  # inode, byte -> leaf
        self._room, self._log_room = MAX_LEAF_BYTES, MAX_LEAF_BYTES
        for at, block in self._in_free_space():
            self._take(at, block, struct.unpack_from(">Q", block, 32)[0])

    def note(self, item: OldBlock) -> None:
        """Take a changed stretch of a block from the log; `settle` makes leaves of all of them."""
        begins = item.offset == 0 and item.data[:4] == MAGIC
        if (begins or item.block_at in self._logged) and self._log_room >= len(item.data):
            self._log_room -= len(item.data)
            self._logged[item.block_at].append(item)

    def settle(self) -> None:
        """Add the leaves that the log alone has: they were freed before they were written."""
        size = self._tables.geometry.block_size
        for at, items in self._logged.items():
            stands = self._tables._read(at, size) if 0 <= at < self._tables.volume.size else b""
            block, sequence = bytearray(size), 0
            for item in sorted(items, key=lambda one: one.sequence):
                if item.offset >= size or (item.offset == 0 and item.data[:4] != MAGIC):
                    continue  # another's by now
                if item.offset == 0 and block[OWNER] != item.data[OWNER]:
                    self._take(at, bytes(block), sequence)
                    own = stands[:4] == MAGIC and stands[OWNER] == item.data[OWNER]
                    block = bytearray(stands if own else bytes(size))
                block[item.offset : item.offset + len(item.data)] = item.data
                del block[size:]
                sequence = item.sequence
            self._take(at, bytes(block), sequence)
        self._logged.clear()

    def owners(self) -> Set[int]:
        """The numbers of the inodes that have such leaves."""
        return self._leaves.keys()

    def pieces(self, owner: int) -> tuple[list[Piece], bool]:
        """(pieces of an inode's file in its order, whether no leaf of its tree is missing).

        A tree is unmade from its end, so that entries behind the last one that counts may still
        stand: they are taken where no leaf says otherwise.
        """
        leaves, whole = self._newest(self._leaves.get(owner, {}))
        every: list[tuple[Piece, int]] = []
        for leaf in leaves:
            if len(every) > MAX_PIECES:
                whole = False
                break
            for index, piece in enumerate(self._entries(leaf.block)):
                every.append((piece, leaf.sequence if index < leaf.count else NEVER))
        kept: list[tuple[Piece, int]] = []
        for piece, sequence in sorted(every):
            if not kept or kept[-1][0][0] + kept[-1][0][1] <= piece[0]:
                kept.append((piece, sequence))
            elif sequence > kept[-1][1]:
                kept[-1] = piece, sequence
        return [piece for piece, _ in kept], whole

    def _newest(self, by_place: dict[int, Leaf]) -> tuple[list[Leaf], bool]:
        """The leaves of the tree to which the newest one belongs: a number of an inode may have
        served several files. And whether both ends of the row are there.

        Of two that stand side by side, the right one says so; the left one may have been told
        meanwhile that it is the last.
        """
        if not by_place:
            return [], False
        behind: dict[int | None, list[int]] = defaultdict(list)
        for at, leaf in by_place.items():
            behind[self._tables.byte(leaf.left)].append(at)
        newest = max(by_place, key=lambda at: by_place[at].sequence)
        row, first = {newest}, newest
        while (left := self._tables.byte(by_place[first].left)) in by_place and left not in row:
            assert left is not None
            first = left
            row.add(first)
        last = newest
        while others := [at for at in behind[last] if at not in row]:
            last = max(others, key=lambda at: by_place[at].sequence)
            row.add(last)
        whole = by_place[first].left == NOBODY and by_place[last].right == NOBODY
        return [by_place[at] for at in row], whole

    def _entries(self, raw: bytes) -> list[Piece]:
        """The entries of a leaf as far as they stand in order and within the volume."""
        found: list[Piece] = []
        for at in range(HEAD, len(raw) - EACH + 1, EACH):
            one: list[Piece] = []
            if self._tables.records(raw[at : at + EACH], one) or not one or (
                    found and one[0][0] < found[-1][0] + found[-1][1]):
                break
            found += one
        return found

    def _take(self, at: int, block: bytes, sequence: int) -> None:
        """Keep what stands at this byte of the volume, if it is a leaf of this volume's."""
        level, count, left, right, sector = struct.unpack_from(">HHQQQ", block, 4)
        owner = int.from_bytes(block[OWNER], "big")
        own = block[:4] == MAGIC and sector * SECTOR == at and (
            block[40:56] == self._tables.geometry.metadata_id)
        known = self._leaves[owner].get(at) if owner in self._leaves else None
        if own and level == 0 and count <= (len(block) - HEAD) // EACH and (
                known is None or known.sequence <= sequence) and self._room >= len(block):
            self._room -= len(block)
            self._leaves[owner][at] = Leaf(block, count, left, right, sequence)

    def _in_free_space(self) -> Iterator[tuple[int, bytes]]:
        """(byte of the volume, block) of what looks like a leaf in free space."""
        geometry = self._tables.geometry
        if geometry.version != 5:
            return
        size = geometry.block_size
        for start, stop in self._tables.allocation().runs(want_used=False).tolist():
            for base in range(start, stop, READ_BYTES):
                raw = self._tables._read(base, min(READ_BYTES, stop - base))
                words = np.frombuffer(raw, ">u4")[:: size // 4]
                for row in np.flatnonzero(words == int.from_bytes(MAGIC, "big")).tolist():
                    yield base + row * size, raw[row * size : (row + 1) * size]
