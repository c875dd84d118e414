"""Rows that were removed from a SQLite database, from what its pages still hold.

SQLite lets the bytes of a removed row stand. In a free block it writes over the first four, which
held the sizes: they are found again from what follows, where there is one way only to read it
(file format, 1.6). Rows in the gap between pointers and cells, on free pages and on pages of no
tree are whole, or they are not taken. A row counts only if its head and all values fit the columns
of a table; what fits several says so.
"""

from __future__ import annotations

import itertools
import unicodedata
from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np

from needlewright.core.databases.pages import Pages
from needlewright.core.databases.records import (
    FIRST_BLOB,
    SIZES,
    Shape,
    Value,
    length_of,
    shape_at,
    size_of,
    values_of,
    varint,
)
from needlewright.core.databases.schema import Table
from needlewright.core.databases.trees import Leaf, follow, local_bytes
from needlewright.core.errors import FormatError
from needlewright.core.kernels.cells import cell_starts

LEAST = 12  # bytes of a row that is found by its looks alone: shorter ones stand everywhere
FRAGMENT = 3  # bytes that may be left over behind a cell
OVERWRITTEN = 4  # at the start of a free block
MAX_ROWID = 1 << 48  # of a row that is found by its looks
CONTROLS = frozenset(map(chr, (*range(32), *range(127, 160)))) - frozenset("\t\n\r")
NO_LETTERS = frozenset(("Cn", "Co", "Cs"))  # what no text of a person holds
KINDS = {"INTEGER": "inr", "REAL": "inr", "TEXT": "tn", "NUMERIC": "irtn", "BLOB": "irtbn"}


@dataclass(frozen=True, slots=True)
class Found:
    """A row in a stretch of bytes. `lost`: indexes, in the order of the record, of values that
    nothing tells; `overflow`: the free pages in which it goes on."""

    table: Table
    rowid: int | None
    values: tuple[Value, ...]
    at: int
    stop: int
    lost: tuple[int, ...] = ()
    overflow: tuple[int, ...] = ()
    others: int = 0  # tables whose columns it fits as well


def kind_of(value: Value) -> str:
    """n, i, r, t or b."""
    if value is None:
        return "n"
    if isinstance(value, (int, float)):
        return "r" if isinstance(value, float) else "i"
    return "t" if isinstance(value, str) else "b"


class Fit:
    """Whether rows fit the columns of a table."""

    def __init__(self, table: Table) -> None:
        """Uses what kinds of values live rows were seen to hold, beside those of the columns."""
        self.table = table
        self.count = len(table.stored)
        columns = [table.columns[i] for i in table.stored]
        self._kinds = [set(KINDS[c.affinity]) | table.seen.get(i, set())
                       for i, c in zip(table.stored, columns)]
        self._null = [not c.not_null or i == table.alias
                      for i, c in zip(table.stored, columns)]
        self.alias = table.stored.index(table.alias) if table.alias in table.stored else None

    def types(self, types: tuple[int, ...]) -> bool:
        """Whether serial types can be those of a row."""
        if len(types) != self.count:
            return False
        return all(self.one(index, serial) for index, serial in enumerate(types))

    def one(self, index: int, serial: int) -> bool:
        """Whether column `index` may hold this serial type."""
        if serial == 0:
            return self._null[index]
        if index == self.alias:
            return False
        kinds = self._kinds[index]
        if serial >= FIRST_BLOB:
            return ("t" if serial % 2 else "b") in kinds
        return bool(kinds & set("ir")) if serial <= 6 or serial >= 8 else "r" in kinds

    def of_size(self, index: int, size: int) -> list[int]:
        """Serial types of `size` bytes that column `index` may have, below 128."""
        found = [s for s in range(10) if SIZES[s] == size and self.one(index, s)]
        if size:
            found += [s for s in (FIRST_BLOB + 2 * size, FIRST_BLOB + 2 * size + 1)
                      if s < 128 and self.one(index, s)]
        return found


def fits_text(values: tuple[Value, ...]) -> bool:
    """Whether texts may be such: no control characters, and no letters of one byte that are read
    as UTF-16 the wrong way round."""
    for value in values:
        if not isinstance(value, str) or not value:
            continue
        if not CONTROLS.isdisjoint(value) or value[0] in "\t\r\n":
            return False
        if any(unicodedata.category(c) in NO_LETTERS for c in value if not c.isprintable()):
            return False
        turned = sum(c >= "\u2000" and not ord(c) & 0xFF and chr(ord(c) >> 8).isprintable()
                     for c in value)
        if turned > 1 and turned > len(value) // 4:
            return False
    return True


class Searcher:
    """Looks for rows of some tables in stretches of pages. `free`: pages that nothing owns."""

    def __init__(self, pages: Pages, tables: list[Table],
                 free: frozenset[int] = frozenset()) -> None:
        self.pages, self.free = pages, free
        self.fits = [Fit(t) for t in tables if t.stored]
        self._usable, self._encoding = pages.header.usable, pages.header.encoding

    def in_leaf(self, leaf: Leaf, fits: list[Fit]) -> Iterator[tuple[str, Found]]:
        """(where, row) of what free blocks and the gap of a page hold."""
        data = leaf.data[: self._usable]
        for start, size in leaf.blocks:
            for found in self._block(data, start, start + size, fits):
                yield "free-block", found
        for found in self.in_stretch(data, leaf.gap, leaf.content, fits):
            yield "unallocated", found

    def in_stretch(self, data: bytes, start: int, stop: int, fits: list[Fit]) -> Iterator[Found]:
        """Whole rows anywhere in bytes `start` to `stop`. What follows each must be the end, or
        another one: else its own end may have been written over."""
        behind = start
        for at in self._starts(data, start, stop, fits):
            if at < behind:
                continue
            found = self.whole(data, at, stop, fits)
            if found is None or found.stop - at < LEAST or not self._leads_on(
                    data, found.stop, stop, fits) or self.overwritten(data, found, fits):
                continue
            yield self._with_its_end(data, found, fits)
            behind = found.stop

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
        return found.table.without_rowid and self._under_a_pointer(data, found, fits)

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
        return stop - at <= FRAGMENT or self.whole(data, at, stop, fits) is not None

    def whole(self, data: bytes, at: int, stop: int, fits: list[Fit]) -> Found | None:
        """A row whose cell stands whole at `at`; None where there is none."""
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
                found = self._record(data, place, payload, stop, fit)
            except FormatError:
                continue
            if found is not None:
                owner, values, end, chain, others = found
                return Found(owner.table, rowid, values, at, end, (), chain, others)
        return None

    def _record(self, data: bytes, place: int, payload: int, stop: int, fits: list[Fit]) -> (
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
        values = self._values(record, shape)
        if values is None:
            return None
        return fit[0], values, end, chain, len(fit) - 1

    def _values(self, record: bytes, shape: Shape) -> tuple[Value, ...] | None:
        try:
            values = values_of(record, shape.head, shape.types, self._encoding, strict=True)
        except (UnicodeDecodeError, FormatError):
            return None
        return values if fits_text(values) else None

    # -- free blocks --------------------------------------------------------------------------

    def _block(self, data: bytes, start: int, stop: int, fits: list[Fit]) -> list[Found]:
        """The rows of a free block, whose first one has lost four bytes; later ones were joined to
        it, and are whole, or were free blocks themselves."""
        rows: list[Found] = []
        at, damaged = start, True
        while at < stop - OVERWRITTEN:
            found = self._damaged(data, at, stop, fits) if damaged else None
            if not damaged or found is None:
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

    def _followed(self, data: bytes, at: int, stop: int, fits: list[Fit]) -> Found | None:
        """A whole row at `at` whose end leads on."""
        found = self.whole(data, at, stop, fits)
        if found is None or self.overwritten(data, found, fits):
            return None
        leads = self._leads_on(data, found.stop, stop, fits) or self._old_block(
            data, found.stop, stop)
        return found if leads else None

    def _damaged(self, data: bytes, at: int, stop: int, fits: list[Fit]) -> Found | None:
        """The row at `at` without its first four bytes, where only one reading fits the bytes up to
        `stop`, or up to where another row begins."""
        readings: list[Found] = []
        for fit in fits:
            for found in self._readings(data, at, stop, fit):
                leads = self._old_block(data, found.stop, stop) or self._leads_on(
                    data, found.stop, stop, fits)
                if leads and _says_something(found) and not self.overwritten(data, found, fits):
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
        size = int.from_bytes(data[at + 2 : at + 4], "big")
        return 4 <= size <= stop - at

    def _readings(self, data: bytes, at: int, stop: int, fit: Fit) -> Iterator[Found]:
        """Ways to read a row of one table; see the cases in `_heads`."""
        for types, head, begin, prefix, lost in self._heads(data, at, stop, fit):
            body = sum(size_of(t) for t in types)
            payload = head + body
            number = prefix - length_of(payload)  # bytes of the row's number
            if number not in ((0,) if fit.table.without_rowid else range(1, 10)):
                continue
            if begin + body > stop:
                continue
            if local_bytes(payload, self._usable, not fit.table.without_rowid) != payload:
                continue
            try:
                values = values_of(data, begin, types, self._encoding, strict=True)
            except (UnicodeDecodeError, FormatError):
                continue
            values = tuple(None if i in lost else v for i, v in enumerate(values))
            if fits_text(values):
                yield Found(fit.table, None, values, at, begin + body, lost)

    def _heads(self, data: bytes, at: int, stop: int, fit: Fit) -> Iterator[
            tuple[tuple[int, ...], int, int, int, tuple[int, ...]]]:
        """(serial types, bytes of the head, where values begin, bytes of sizes in front of the
        head, values that are not known).

        A cell begins with the size of its payload (p bytes), the row's number (r bytes, none
        without) and the size of its head (h bytes). Four bytes are lost: with p + r + h = 4 the
        types are all there; with less, the first one is lost; with more, the size of the head is
        there, which must be right.
        """
        place = at + OVERWRITTEN
        read = self._types(data, place, stop, fit.count)
        if read is not None and fit.types(read[0]):
            head = read[1] - place + 1
            if length_of(head) == 1:
                yield read[0], head, read[1], 3, ()
        for skip in range(8):  # bytes of the row's number that are left in front
            try:
                shape = shape_at(data[:stop], place + skip)
            except FormatError:
                continue
            if fit.types(shape.types):
                yield (shape.types, shape.head, place + skip + shape.head, 4 + skip, ())
        if fit.count > 1 and not fit.table.without_rowid:
            yield from self._type_lost(data, place, stop, fit)
        elif fit.count > 2 and fit.table.without_rowid:
            yield from self._two_lost(data, place, stop, fit)

    def _two_lost(self, data: bytes, place: int, stop: int, fit: Fit) -> Iterator[
            tuple[tuple[int, ...], int, int, int, tuple[int, ...]]]:
        """The same of a table without numbers, whose cells lose two serial types: they are known
        where those of all live rows are the same few."""
        read = self._types(data, place, stop, fit.count - 2)
        usual = [fit.table.usual.get(index) for index in range(2)]
        if read is None or not all(usual):
            return
        rest, begin = read
        if all(fit.one(i + 2, t) for i, t in enumerate(rest)):
            for pair in itertools.product(*(sorted(types or ()) for types in usual)):
                yield (*pair, *rest), begin - place + 3, begin, 1, ()

    def _type_lost(self, data: bytes, place: int, stop: int, fit: Fit) -> Iterator[
            tuple[tuple[int, ...], int, int, int, tuple[int, ...]]]:
        """The same where the first serial type is lost: it is known from the bytes that are left
        for its value, as far as the column allows one only; else the value is not known."""
        read = self._types(data, place, stop, fit.count - 1)
        if read is None:
            return
        rest, begin = read
        if not all(fit.one(i + 1, t) for i, t in enumerate(rest)):
            return
        head = begin - place + 2
        if fit.alias == 0:
            yield (0, *rest), head, begin, 2, ()
            return
        left = stop - begin - sum(size_of(t) for t in rest)
        if left < 0:
            return
        fixed = fit.of_size(0, left)
        if len(fixed) == 1:
            yield (fixed[0], *rest), head, begin, 2, ()
        elif fixed:  # a blob stands for what is not known: the rest is read where it stands
            yield (FIRST_BLOB + 2 * left, *rest), head, begin, 2, (0,)

    def _types(self, data: bytes, place: int, stop: int, count: int) -> tuple[
            tuple[int, ...], int] | None:
        """(`count` serial types from `place` on, the byte behind them)."""
        types = []
        try:
            for _ in range(count):
                serial, place = varint(data[:stop], place)
                size_of(serial)
                types.append(serial)
        except FormatError:
            return None
        return tuple(types), place


def _says_something(found: Found) -> bool:
    """Whether a row whose sizes are lost holds more than what cleared bytes look like."""
    told = [v for v in found.values if v not in (None, 0, 1, "", b"")]
    return bool(told) and found.stop - found.at >= LEAST


def by_place(cells: list[tuple[int, int, int]], found: list[Found], first: tuple[int, int],
             last: tuple[int, int | None]) -> dict[int, int]:
    """Numbers of rows of `found` that have lost theirs, by where they stand: rows that were written
    one behind another stand so on a page, from its end on. `cells`: (byte, byte behind, number) of
    the live ones; `first`: (the end of the page, the number on the page before), `last`: (where
    cells begin, the number on the page behind). Only where just as many rows as numbers are
    missing, and the rows fill all bytes between those whose numbers are known."""
    known = {at: number for at, _, number in cells} | {
        f.at: f.rowid for f in found if f.rowid is not None}
    ends = {at: stop for at, stop, _ in cells} | {f.at: f.stop for f in found}
    order = sorted(ends, reverse=True)
    above, before = first
    numbers = [known[at] for at in order if at in known]
    if numbers != sorted(set(numbers)) or any(not before < n for n in numbers):
        return {}
    told: dict[int, int] = {}
    row: list[int] = []
    filled = True
    for at in (*order, None):
        stop, number = (last[0], last[1]) if at is None else (ends[at], known.get(at))
        filled = filled and 0 <= above - stop <= FRAGMENT
        above = stop if at is None else at
        if at is not None and number is None:
            row.append(at)
            continue
        if row and filled and number is not None and number - before - 1 == len(row):
            told.update(zip(row, range(before + 1, number)))
        row, filled, before = [], True, number if number is not None else before
    return told
