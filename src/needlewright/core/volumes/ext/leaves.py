"""Leaves of extent trees that outlive their inode, on ext4.

The inode of a removed file is cleared, and the leaves of its tree are freed without being written
over (the kernel's admin guide, ext4 data structures: extent tree). A file has such leaves as soon
as it lies in more than four pieces, or is longer than 512 MiB. Little-endian.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Collection, Iterator
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from needlewright.core.volumes.base import Entry, Placed
from needlewright.core.volumes.ext.inodes import EXTENT_MAGIC, laid_out, walk_extents
from needlewright.core.volumes.ext.lists import MAX_LISTS, READ_BYTES, free_runs
from needlewright.core.volumes.ext.tables import ExtTables

HEAD, EACH = 12, 12  # bytes of a leaf's header, and of an entry
FEW = 256  # leaves that may go on at one block of a file, of which the nearest is looked for
Piece = tuple[int, int, int, bool]  # file block, count, block, written


@dataclass(frozen=True, slots=True)
class Leaf:
    """A leaf in free space: the pieces of the file that it names, in order."""

    block: int
    pieces: tuple[Piece, ...]

    @property
    def first(self) -> int:
        """The first block of the file that it tells of."""
        return self.pieces[0][0]

    @property
    def end(self) -> int:
        """The block of the file behind the last one."""
        return self.pieces[-1][0] + self.pieces[-1][1]


def leftover_leaves(tables: ExtTables) -> list[Leaf]:
    """The blocks in free space that are leaves, all of whose blocks are free as well."""
    size = tables.geometry.block_size
    found: list[Leaf] = []
    now = tables.allocation()
    for begin, count in free_runs(now):
        step = max(1, READ_BYTES // size)
        for at in range(begin, begin + count, step):
            number = min(step, begin + count - at)
            raw = tables._read(at * size, number * size)
            words = np.frombuffer(raw, "<u2").reshape(number, size // 2)
            fits = (words[:, 0] == EXTENT_MAGIC) & (words[:, 3] == 0) & (words[:, 1] > 0) & (
                words[:, 1] <= words[:, 2]) & (words[:, 2] == (size - HEAD) // EACH)
            for row in np.flatnonzero(fits).tolist():
                leaf = _leaf(tables, at + row, raw[row * size : (row + 1) * size])
                if leaf is not None and len(found) < MAX_LISTS and not any(
                        now.used(b) for _, n, start, _ in leaf.pieces for b in (
                            start, start + n - 1)):
                    found.append(leaf)
    return found


def _leaf(tables: ExtTables, block: int, node: bytes) -> Leaf | None:
    """The leaf in `node`; None where its entries are not in order, or leave the volume."""
    pieces: list[Piece] = []
    if walk_extents(node, pieces, tables.geometry.blocks, lambda _: b"", 0):
        return None
    ordered = all(a[0] + a[1] <= b[0] for a, b in pairwise(pieces))
    return Leaf(block, tuple(pieces)) if ordered and pieces[0][2] > 0 else None


class LostLeaves:
    """The files that leaves in free space tell of."""

    def __init__(self, tables: ExtTables) -> None:
        self._tables = tables
        self._leaves = leftover_leaves(tables)
        self._by_first: dict[int, list[Leaf]] = {}
        for leaf in self._leaves:
            self._by_first.setdefault(leaf.first, []).append(leaf)
        for others in self._by_first.values():
            others.sort(key=lambda one: one.block)

    def entries(self, known: Collection[int]) -> Iterator[Entry]:
        """One entry a file, but for those that begin at one of the bytes `known`."""
        size = self._tables.geometry.block_size
        for leaf in self._by_first.get(0, ()):
            if leaf.pieces[0][2] * size in known:
                continue
            pieces = self._whole(leaf)
            length = (pieces[-1][0] + pieces[-1][1]) * size
            extents, why = laid_out(pieces, length, size, "")
            if extents and not why:
                yield Entry("", length, leaf.block * size, True, placed=Placed.GUESS,
                            extents=extents, loose=size)

    def _whole(self, leaf: Leaf) -> list[Piece]:
        """The pieces of a leaf, and of those that go on where it ends, the next on the volume
        first. Each leaf is of one file, so that no volume makes this long."""
        pieces = list(leaf.pieces)
        while others := self._by_first.get(leaf.end):
            behind = bisect_left([o.block for o in others], leaf.block) if len(others) < FEW else -1
            leaf = others.pop(behind if behind < len(others) else -1)
            pieces += leaf.pieces
        return pieces
