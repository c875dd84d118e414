"""Rows that were removed from a SQLite database, from what its pages still hold.

SQLite lets the bytes of a removed row stand. In a free block it writes over the first four, which
held the sizes: they are found again from what follows, where there is one way only to read it
(file format, 1.6). Rows in the gap between pointers and cells, on free pages and on pages of no
tree are whole, or they are not taken. A row counts only if its head and all values fit the columns
of a table; what fits several says so.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from needlewright.core.databases.fitting import Fit, Found, reads_as_written
from needlewright.core.databases.headless import (
    LEAST,
    OVERWRITTEN,
    Headless,
    OldBlocks,
    is_likely,
    old_blocks,
    says_something,
)
from needlewright.core.databases.pages import Pages
from needlewright.core.databases.records import (
    Shape,
    Value,
    may_have,
    shape_at,
    values_of,
    varint,
)
from needlewright.core.databases.schema import Table
from needlewright.core.databases.trees import Leaf, follow, local_bytes
from needlewright.core.errors import FormatError
from needlewright.core.kernels.cells import cell_starts

FRAGMENT = 3  # bytes that may be left over behind a cell
LONG_ROW = 100  # bytes, from which a head that fits is none by chance
MAX_ROWID = 1 << 48  # of a row that is found by its looks


class Searcher:
    """Looks for rows of some tables in stretches of pages. `free`: pages that nothing owns."""

    def __init__(self, pages: Pages, tables: list[Table],
                 free: frozenset[int] = frozenset()) -> None:
        self.pages, self.free = pages, free
        self.fits = [Fit(t) for t in tables if t.stored]
        self._usable, self._encoding = pages.header.usable, pages.header.encoding
        self._headless = Headless(self._usable, self._encoding)

    def in_leaf(self, leaf: Leaf, fits: list[Fit]) -> Iterator[tuple[str, Found]]:
        """(where, row) of what free blocks and the gap of a page hold."""
        data = leaf.data[: self._usable]
        for start, size in leaf.blocks:
            for found in self._block(data, start, start + size, fits):
                yield "free-block", found
        for found in self.in_stretch(data, leaf.gap, leaf.content, fits):
            yield "unallocated", found

    def in_stretch(self, data: bytes, start: int, stop: int, fits: list[Fit],
                   guess: bool = True) -> Iterator[Found]:
        """Rows anywhere in bytes `start` to `stop` that nothing points into: whole ones, and such
        that have lost their first bytes where a free block began once. What follows each must be
        the end, or another one: else its own end may have been written over. `guess`: whether such
        without their first bytes count; not where the bytes may be of any table."""
        blocks = old_blocks(data, start, stop, self._usable)
        behind = start
        for at in sorted({*self._starts(data, start, stop, fits), *blocks}):
            if at < behind:
                continue
            found = self._followed(data, at, stop, fits, blocks)
            if found is None and guess and at in blocks:
                found = self._in_old_block(data, at, blocks, stop, fits)
            if found is None or found.stop - at < LEAST or self._crossed(
                    data, found, blocks, stop, fits):
                continue
            yield self._with_its_end(data, found, fits)
            behind = found.stop

    def _crossed(self, data: bytes, found: Found, blocks: OldBlocks, stop: int,
                 fits: list[Fit]) -> bool:
        """Whether a free block began within the first bytes of a row, which are then its head, or
        within the rest and reached to the end of the stretch."""
        heads = [p for p in range(found.at - OVERWRITTEN + 1, found.at) if p in blocks]
        if any(inner.stop == found.stop for p in heads for fit in fits
               for inner in self._headless.readings(data, p, min(blocks[p], stop), fit)):
            return True
        return any(end == stop and found.at < p < found.stop - OVERWRITTEN and end > found.stop
                   for p, end in blocks.items())

    def stop_of(self, leaf: Leaf, at: int, fits: list[Fit]) -> int:
        """The byte behind the row whose cell is at `at`; 0 where that is not known."""
        found = self.whole(leaf.data, at, self._usable, fits)
        return 0 if found is None else found.stop

    def overwritten(self, data: bytes, found: Found, fits: list[Fit]) -> bool:
        """Whether another row stands within the values of one: it was written there later."""
        begin = found.at + len(found.values) + 2
        for at in self._starts(data, begin, found.stop, fits):
            inner = self.whole(data, at, len(data), fits)
            if inner is not None and inner.stop - at >= LEAST and not inner.overflow:
                return True
            if inner is None and varint(data, at)[0] >= LONG_ROW and any(
                    self._head_fits(data, at, fit) for fit in fits):
                return True  # one that goes on in pages which hold something else now
        blocks = old_blocks(data, begin, found.stop, self._usable)
        for at, end in blocks.items():
            if any(self._full(inner) for fit in fits
                   for inner in self._headless.readings(data, at, end, fit)):
                return True
        return found.table.without_rowid and self._under_a_pointer(data, found, fits)

    def _full(self, found: Found) -> bool:
        """Whether enough of a row without its first bytes was read that it is one."""
        return not found.lost and any(isinstance(v, str) and len(v) > 3 for v in found.values)

    def _under_a_pointer(self, data: bytes, found: Found, fits: list[Fit]) -> bool:
        """Whether the last bytes of a row of an index are the first ones of what was written there
        later: a pointer to a page, or to a free block and its size, in front of another row."""
        for at in range(found.stop + 1, min(found.stop + OVERWRITTEN, len(data))):
            row = self.whole(data, at, len(data), fits)
            if row is None:
                continue
            front = data[at - OVERWRITTEN : at]
            block, size = int.from_bytes(front[:2], "big"), int.from_bytes(front[2:], "big")
            if 1 < int.from_bytes(front, "big") <= self.pages.count or (
                    block < len(data) and size == row.stop - at + OVERWRITTEN):
                return True
        return False

    def _with_its_end(self, data: bytes, found: Found, fits: list[Fit]) -> Found:
        """`found`, without its last values where they end in the byte with which the row behind it
        begins: rows of an index are of much the same size, and one that was written a byte earlier
        for a while leaves that byte behind."""
        at = found.stop
        if not found.table.without_rowid or (
                at + OVERWRITTEN >= len(data) or data[at - 1] != data[at]):
            return found
        if all(self.whole(data, place, len(data), fits) is None
               for place in (at, at + OVERWRITTEN)):
            return found
        # 0 and 1 may stand without a byte: then it was one of the value in front of them.
        last = max((i for i, v in enumerate(found.values) if v not in (None, 0, 1)), default=0)
        gone = range(last, len(found.values))
        return replace(found, values=(*found.values[:last], *(None for _ in gone)),
                       lost=tuple(sorted({*found.lost, *gone})))

    def _starts(self, data: bytes, start: int, stop: int, fits: list[Fit]) -> list[int]:
        """Where sizes of cells stand, in order."""
        starts: set[int] = set()
        for numbered in (True, False):
            counts = [f.count for f in fits if f.table.without_rowid != numbered]
            if counts:
                allowed = np.zeros(max(counts) + 1, np.bool_)
                allowed[counts] = True
                starts.update(cell_starts(data, start, stop, numbered, allowed).tolist())
        return sorted(starts)

    def _leads_on(self, data: bytes, at: int, stop: int, fits: list[Fit]) -> bool:
        """Whether a row may end at `at`: at the end of the stretch, or where another begins."""
        return stop - at <= FRAGMENT or self.whole(data, at, stop, fits) is not None or (
            self._begins(data, at, fits))

    def whole(self, data: bytes, at: int, stop: int, fits: list[Fit],
              pointed: bool = False) -> Found | None:
        """A row whose cell stands whole at `at`; None where there is none. `pointed`: its page
        points to it, so that its text is not judged."""
        for table in (True, False):
            fit = [f for f in fits if f.table.without_rowid != table]
            if not fit:
                continue
            try:
                payload, place = varint(data, at)
                rowid = None
                if table:
                    rowid, place = varint(data, place)
                    if not -1 < rowid < MAX_ROWID:
                        continue
                if not 2 <= payload <= self.pages.count * self._usable or place >= stop:
                    continue
                found = self._record(data, place, payload, stop, fit, pointed)
            except FormatError:
                continue
            if found is not None:
                owner, values, end, chain, others = found
                return Found(owner.table, rowid, values, at, end, (), chain, others)
        return None

    def _record(self, data: bytes, place: int, payload: int, stop: int, fits: list[Fit],
                pointed: bool) -> (
            tuple[Fit, tuple[Value, ...], int, tuple[int, ...], int] | None):
        """(whose, values, byte behind, pages it goes on in, how many others it fits) of the record
        of `payload` bytes at `place`."""
        shape = shape_at(data, place)
        if shape.size != payload:
            return None
        fit = [f for f in fits if f.types(shape.types)]
        if not fit:
            return None
        local = local_bytes(payload, self._usable, not fit[0].table.without_rowid)
        if place + local > stop:
            return None
        record, end = data[place : place + local], place + local
        chain: tuple[int, ...] = ()
        if local < payload:
            if end + 4 > stop:
                return None
            record, chain = follow(self.pages, record, int.from_bytes(data[end : end + 4], "big"),
                                   payload)
            if not self.free.issuperset(chain) or self.pages.page(chain[-1])[:4] != bytes(4) or any(
                    map(self.pages.was_trunk, chain)):
                return None  # something else was written there since
            end += 4
        values = self._values(record, shape, pointed)
        if values is None:
            return None
        return fit[0], values, end, chain, len(fit) - 1

    def _values(self, record: bytes, shape: Shape, pointed: bool) -> tuple[Value, ...] | None:
        try:
            values = values_of(record, shape.head, shape.types, self._encoding, not pointed)
        except (UnicodeDecodeError, FormatError):
            return None
        return values if pointed or reads_as_written(values) else None

    # -- free blocks --------------------------------------------------------------------------

    def _block(self, data: bytes, start: int, stop: int, fits: list[Fit]) -> list[Found]:
        """The rows of a free block, whose first one has lost four bytes; later ones were joined to
        it, and are whole, or were free blocks themselves."""
        rows: list[Found] = []
        blocks = old_blocks(data, start, stop, self._usable)
        at, damaged = start, True
        while at < stop - OVERWRITTEN:
            found = self._in_old_block(data, at, blocks, stop, fits) if at in blocks else None
            if found is None and damaged:
                found = self._damaged(data, at, stop, fits)
            if found is None or (not damaged and at not in blocks):
                found = self._followed(data, at, stop, fits) or found
            if found is None and not damaged:
                found = self._damaged(data, at, stop, fits)
            if found is None:
                rows += self.in_stretch(data, at + 1, stop, fits)
                break
            rows.append(self._with_its_end(data, found, fits))
            at, damaged = found.stop, False
            for step in range(1, FRAGMENT + 1):  # what was left over between two cells
                if at < stop - OVERWRITTEN and self.whole(data, at, stop, fits) is None and (
                        self.whole(data, at + step, stop, fits) is not None):
                    at += step
                    break
        return rows

    def _followed(self, data: bytes, at: int, stop: int, fits: list[Fit],
                  blocks: dict[int, int] | None = None) -> Found | None:
        """A whole row at `at` whose end leads on. `blocks`: where free blocks may have begun; None:
        wherever a size stands that fits."""
        found = self.whole(data, at, stop, fits)
        if found is None or self.overwritten(data, found, fits):
            return None
        old = found.stop in blocks if blocks is not None else self._old_block(
            data, found.stop, stop)
        old = old and not (blocks is not None and found.table.without_rowid)
        return found if old or self._leads_on(data, found.stop, stop, fits) else None

    def _in_old_block(self, data: bytes, at: int, blocks: OldBlocks, stop: int,
                      fits: list[Fit]) -> Found | None:
        """The row at `at`, where the head of a free block is left over, without its first bytes: it
        fills the block, or behind it stands a whole row, or the head of an older block that ended
        where this one does."""
        end = blocks[at]
        same = blocks.same_end(at)
        edge = min(end, stop) if same is None else same  # a lost type is known by what it leaves
        readings = [
            found for fit in fits for found in self._headless.readings(data, at, edge, fit)
            if says_something(found) and is_likely(found) and self._ends_well(
                data, found, edge, end, blocks, fits)]
        known = {(id(r.table), r.values, r.lost) for r in readings}
        if len(known) != 1 or self.overwritten(data, readings[0], fits):
            return None
        return readings[0]

    def _ends_well(self, data: bytes, found: Found, edge: int, end: int, blocks: dict[int, int],
                   fits: list[Fit]) -> bool:
        """Whether a row that was read up to `edge`, in an old block up to `end`, ends where that is
        borne out."""
        behind = found.stop
        if any(place in blocks for place in range(behind - FRAGMENT, behind)):
            return False  # another block began before its end
        if edge < end:
            return 0 <= edge - behind <= FRAGMENT or self._begins(data, behind, fits)
        if 0 <= end - behind <= FRAGMENT or blocks.get(behind) == end:
            return True
        return self._begins(data, behind, fits) or (behind in blocks and not found.lost)

    def _begins(self, data: bytes, at: int, fits: list[Fit]) -> bool:
        """Whether the head of a row stands at `at`, whatever became of its values. Not of an index:
        its rows are of one size, and what was written a byte earlier looks alike."""
        return any(self._head_fits(data, at, fit) for fit in fits if not fit.table.without_rowid)

    def _head_fits(self, data: bytes, at: int, fit: Fit) -> bool:
        try:
            payload, place = varint(data, at)
            if not fit.table.without_rowid:
                rowid, place = varint(data, place)
                if not -1 < rowid < MAX_ROWID:
                    return False
            if not may_have(data, place, fit.count):
                return False
            shape = shape_at(data, place)
        except FormatError:
            return False
        return 2 <= payload == shape.size and fit.types(shape.types)

    def _damaged(self, data: bytes, at: int, stop: int, fits: list[Fit]) -> Found | None:
        """The row at `at` without its first four bytes, where only one reading fits the bytes up to
        `stop`, or up to where another row begins."""
        readings: list[Found] = []
        for fit in fits:
            for found in self._headless.readings(data, at, stop, fit):
                leads = self._old_block(data, found.stop, stop) or self._leads_on(
                    data, found.stop, stop, fits)
                if leads and says_something(found) and not self.overwritten(data, found, fits):
                    readings.append(found)
        if not readings:
            return None
        known = {(id(r.table), r.values, r.lost) for r in readings}
        exact = [r for r in readings if r.stop == stop]
        if len(known) == 1:
            return readings[0]
        return exact[0] if len({(id(r.table), r.values, r.lost) for r in exact}) == 1 else None

    def _old_block(self, data: bytes, at: int, stop: int) -> bool:
        """Whether a free block that was joined to this one may begin here: its size leads on."""
        if at + OVERWRITTEN > stop:
            return False
        following = int.from_bytes(data[at : at + 2], "big")
        size = int.from_bytes(data[at + 2 : at + 4], "big")
        return 4 <= size <= stop - at and (following == 0 or at + size <= following < self._usable)
