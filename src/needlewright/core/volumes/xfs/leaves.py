"""Leaves of extent trees that outlive their file, on XFS of version 5. Big-endian.

When a file is removed, the blocks of its tree are freed as they stand. Each says where it lies, of
which volume and of which inode it is (the kernel's fs/xfs/libxfs/xfs_format.h, xfs_btree_block), so
that none is taken for another's. Version 4 names no inode in them: not read.
"""

from __future__ import annotations

import struct
from collections import defaultdict
from collections.abc import Iterator, Set

import numpy as np

from needlewright.core.volumes.xfs.tables import XfsTables

MAGIC = b"BMA3"
HEAD, EACH = 72, 16  # bytes of a leaf's header, and of an entry
READ_BYTES = 1 << 20
MAX_LEAVES = 200_000
SECTOR = 512
Piece = tuple[int, int, int, bool]  # block of the file, count, byte of the volume, written


class LostLeaves:
    """The pieces of files that leaves in free space name, by inode."""

    def __init__(self, tables: XfsTables) -> None:
        self._tables = tables
        self._leaves: dict[int, list[tuple[int, int, bytes]]] = defaultdict(list)
        for sequence, owner, count, raw in self._found():
            self._leaves[owner].append((sequence, count, raw))

    def owners(self) -> Set[int]:
        """The numbers of the inodes that have leaves in free space."""
        return self._leaves.keys()

    def pieces(self, owner: int) -> list[Piece]:
        """The pieces of an inode's file, in its order; those of the newest leaf come first.

        A file that is cut short is unmade from its end, so that entries behind the last one that
        counts may still stand: they are taken where no leaf says otherwise.
        """
        counted: list[Piece] = []
        behind: list[Piece] = []
        for _, count, raw in sorted(self._leaves.get(owner, ()), reverse=True):
            pieces = self._entries(raw)
            _add(counted, pieces[:count])
            behind += pieces[count:]
        _add(counted, sorted(behind))
        return sorted(counted)

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

    def _found(self) -> Iterator[tuple[int, int, int, bytes]]:
        """(log sequence, inode, entries that count, block) of the leaves in free space."""
        geometry = self._tables.geometry
        if geometry.version != 5:
            return
        size, told = geometry.block_size, 0
        for start, stop in self._tables.allocation().runs(want_used=False).tolist():
            for base in range(start, stop, READ_BYTES):
                raw = self._tables._read(base, min(READ_BYTES, stop - base))
                words = np.frombuffer(raw, ">u4")[:: size // 4]
                for row in np.flatnonzero(words == int.from_bytes(MAGIC, "big")).tolist():
                    block = raw[row * size : (row + 1) * size]
                    level, count, _, _, sector, sequence = struct.unpack_from(">HHQQQQ", block, 4)
                    owner = struct.unpack_from(">Q", block, 56)[0]
                    own = sector * SECTOR == base + row * size and (
                        block[40:56] == geometry.metadata_id)
                    if own and level == 0 and count <= (size - HEAD) // EACH and told < MAX_LEAVES:
                        told += 1
                        yield sequence, owner, count, block


def _add(known: list[Piece], more: list[Piece]) -> None:
    """Take those of `more` that lie where nothing is known yet."""
    taken = sorted(known)
    starts = [piece[0] for piece in taken]
    for piece in more:
        at = int(np.searchsorted(starts, piece[0], side="right"))
        free_before = at == 0 or taken[at - 1][0] + taken[at - 1][1] <= piece[0]
        free_behind = at == len(taken) or piece[0] + piece[1] <= taken[at][0]
        if free_before and free_behind:
            taken.insert(at, piece)
            starts.insert(at, piece[0])
    known[:] = taken
