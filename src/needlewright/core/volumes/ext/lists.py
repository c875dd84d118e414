"""Lists of blocks that outlive their inode, on ext2 and ext3.

Removing a file clears its inode and frees its blocks, but the indirect blocks keep the numbers of
its blocks until something is written over them (the kernel's admin guide, ext4 data structures:
direct/indirect block addressing). The first twelve blocks stand in no list: they are looked for in
front of it, and the content proves them. Little-endian.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from needlewright.core.volumes.allocation import Allocation
from needlewright.core.volumes.base import Entry, Extents, Placed, cut
from needlewright.core.volumes.ext.inodes import DIRECT
from needlewright.core.volumes.ext.tables import ExtTables

READ_BYTES = 1 << 20
MAX_LISTS = 200_000
ASCENDING = 0.8  # of the steps of a list, at least: drivers look for room onwards
NEAREST = 3  # double lists that are tried where none goes on exactly
LEVELS = 3  # of lists that an inode has
MOST_STRIDE = 65  # blocks from run to run of files that were written in turns
Words = npt.NDArray[np.uint32]


@dataclass(frozen=True, slots=True)
class Leftover:
    """A list that nothing points to any more. `entries`: the blocks that it names."""

    block: int
    entries: Words


def leftover_lists(tables: ExtTables) -> dict[int, Leftover]:
    """The blocks in free space that may be lists of blocks, by their numbers."""
    size, blocks = tables.geometry.block_size, tables.geometry.blocks
    first = tables.geometry.first_block + 1
    found: dict[int, Leftover] = {}
    for begin, count in free_runs(tables.allocation()):
        step = max(1, READ_BYTES // size)
        for at in range(begin, begin + count, step):
            number = min(step, begin + count - at)
            raw = tables._read(at * size, number * size)
            rows = np.frombuffer(raw, "<u4").reshape(number, size // 4)
            for row in _likely(rows, first, blocks):
                entries = rows[row][: int(np.count_nonzero(rows[row]))]
                if np.unique(entries).size == entries.size and len(found) < MAX_LISTS:
                    found[at + row] = Leftover(at + row, entries.copy())
    return found


def free_runs(now: Allocation) -> Iterator[tuple[int, int]]:
    """(first, count) of the runs of free blocks."""
    free = np.unpackbits(now.bits, bitorder="little")[: now.count] == 0
    edges = np.flatnonzero(np.diff(np.concatenate(([False], free, [False])).astype(np.int8)))
    for begin, end in edges.reshape(-1, 2).tolist():
        yield begin, end - begin


def _likely(rows: Words, first: int, blocks: int) -> list[int]:
    """Which rows are numbers of blocks, mostly rising, with nothing but zeros behind them."""
    there = rows != 0
    counts = there.sum(axis=1)
    inside = (rows[:, 0] >= first) & (rows.max(axis=1) < blocks)
    # No hole: sparse files are rare among what is looked for.
    packed = inside & there[np.arange(len(rows)), np.maximum(counts, 1) - 1] & (
        ~there[:, 1:] | there[:, :-1]).all(axis=1)
    chosen = []
    for row in np.flatnonzero(packed).tolist():
        steps = np.diff(rows[row][: counts[row]].astype(np.int64))
        if not steps.size or (steps > 0).mean() >= ASCENDING:
            chosen.append(row)
    return chosen


class LostLists:
    """The files that lists of blocks in free space tell of."""

    def __init__(self, tables: ExtTables) -> None:
        self._tables = tables
        self._size = tables.geometry.block_size
        self._full = self._size // 4
        self._lists = leftover_lists(tables)
        self._upper = {b for b, one in self._lists.items() if all(
            int(e) in self._lists for e in one.entries)}
        inner = {int(e) for b in self._upper for e in self._lists[b].entries}
        self._first = sorted(set(self._lists) - self._upper - inner)
        self._named = {int(e) for one in self._lists.values() for e in one.entries}
        self._places: dict[int, list[Extents]] = {}

    def entries(self) -> Iterator[Entry]:
        """One entry a file; where its first blocks may lie, `placements` says."""
        for block in self._first:
            ways = [(direct, named) for named in self._of_file(block)
                    for direct in self._directs(block)]
            if ways:
                places = [self._laid_out(*way) for way in ways]
                self._places[block * self._size] = places
                yield Entry("", sum(n for _, n in places[0]), block * self._size, True,
                            placed=Placed.GUESS, extents=places[0], loose=self._size)

    def placements(self, entry: Entry) -> list[Extents] | None:
        """Where the file of one of these entries may lie; None for another."""
        return self._places.get(entry.record_at) if not entry.path else None

    def _of_file(self, block: int) -> list[list[int]]:
        """All blocks of a file behind its first twelve, in the ways that are likely: a full list is
        followed by a double one, that by a triple one."""
        named = self._lists[block].entries.tolist()
        return self._gone_on(named, 2) if len(named) == self._full else [named]

    def _gone_on(self, named: list[int], level: int) -> list[list[int]]:
        ways = []
        for upper in self._uppers(named[-1], level):
            more = self._below(upper, level)
            longer = [*named, *more]
            full = len(more) == self._full**level and level < LEVELS
            ways += self._gone_on(longer, level + 1) if full else [longer]
        return [*ways, named]

    def _uppers(self, last: int, level: int) -> list[int]:
        """The double or triple lists that may go on behind block `last`: data goes on where it was,
        if there was room, so the one whose first block is the next, or the nearest ones."""
        firsts = {b: below[0] for b in self._upper if (below := self._below(b, level))}
        exact = [b for b, first in firsts.items() if first == last + 1]
        return exact or sorted(firsts, key=lambda b: abs(firsts[b] - last))[:NEAREST]

    def _below(self, block: int, level: int) -> list[int]:
        one = self._lists.get(block)
        if one is None:
            return []
        if level == 1:
            return [int(e) for e in one.entries]
        return [e for inner in one.entries for e in self._below(int(inner), level - 1)]

    def _directs(self, block: int) -> list[list[int]]:
        """Ways in which the first twelve blocks of a file may lie, the likeliest first: in front of
        what the list names, in front of the list, in runs like its first one that others lie
        between, or over what others do not use."""
        first = int(self._lists[block].entries[0])
        ways = [list(range(begin, begin + DIRECT))
                for begin in (first - DIRECT, block - DIRECT, first - DIRECT - 1)]
        for run in range(1, DIRECT):  # written in turns with others, `stride` from turn to turn
            for stride in range(run + 1, MOST_STRIDE):
                base = first - DIRECT // run * stride - DIRECT % run
                ways.append([base + i // run * stride + i % run for i in range(DIRECT)])
        ways += [near for near in (self._free_before(first), self._free_before(block))
                 if len(near) == DIRECT]
        now = self._tables.allocation()
        kept: dict[tuple[int, ...], None] = {}
        for way in ways:
            if way[0] > 0 and not any(
                    b in self._named or b in self._lists or now.used(b) for b in way):
                kept.setdefault(tuple(way))
        return [list(way) for way in kept]

    def _free_before(self, block: int) -> list[int]:
        """The twelve blocks in front of a list that are free and that no list names."""
        now = self._tables.allocation()
        found: list[int] = []
        for at in range(block - 1, max(0, block - 64 * DIRECT), -1):
            if not now.used(at) and at not in self._named and at not in self._lists:
                found.append(at)
                if len(found) == DIRECT:
                    break
        return found[::-1]

    def _laid_out(self, direct: list[int], named: list[int]) -> Extents:
        every = [(b * self._size, self._size) for b in (*direct, *named)]
        return cut(every, len(every) * self._size)
