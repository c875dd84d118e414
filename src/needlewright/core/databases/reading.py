"""All rows of a SQLite database: those that count now, as SQLite itself tells them, older states of
rows, and rows that were removed, each with where it stands and what is doubted.
"""

from __future__ import annotations

import contextlib
import itertools
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace
from hashlib import blake2b

from needlewright.core.databases import logs
from needlewright.core.databases.pages import Pages
from needlewright.core.databases.records import Value
from needlewright.core.databases.removed import Fit, Found, Searcher, by_place, kind_of
from needlewright.core.databases.schema import Column, Table, affinity_of, read_table
from needlewright.core.databases.trees import (
    INDEX_INNER,
    INDEX_LEAF,
    TABLE_LEAF,
    Cell,
    Leaf,
    leaves_of,
    read_cell,
    read_leaf,
    row_numbers,
)
from needlewright.core.errors import FormatError
from needlewright.core.sources.source import Source

SCHEMA = "sqlite_schema"
LONG = 64  # bytes or letters of a value that is kept by its sum
#: Rows with their numbers that stand on a page in their order, from which on that order tells the
#: numbers of those between them: none of 6,400 was wrong then, one in 300 of those with fewer.
SURE_ROWS = 12
LOST_TYPES = 2  # serial types that a free block may write over
LEAST_ROWS, FEW_TYPES = 20, 3  # from which it is learnt what is usual; as many types at most
MAX_FOUND = 2_000_000  # rows that were removed; hostile files must end


@dataclass(frozen=True, slots=True)
class Evidence:
    """Where a row stands. `where`: cell, free-block, unallocated, free-page, lost-page, log,
    journal or file (under a log); `page`: counted from 1; `at`: byte in it; `more`: pages in which
    it goes on."""

    where: str
    page: int
    at: int
    more: tuple[int, ...] = ()


HERE = Evidence("cell", 0, 0)


@dataclass(frozen=True, slots=True)
class Row:
    """A row. `values`: of `columns`, in order; `state`: live, older (the row is there with other
    values now) or removed; `lost`: names of columns whose value nothing tells; `doubts`: codes;
    `probable`: the number that a row without one most likely had, by where it stands."""

    table: str
    columns: tuple[str, ...]
    rowid: int | None
    values: tuple[Value, ...]
    state: str
    evidence: Evidence
    lost: tuple[str, ...] = ()
    doubts: tuple[str, ...] = ()
    probable: int | None = None


@dataclass(slots=True)
class Trouble:
    """What could not be read: codes with pages, in the order met."""

    pages: list[int] = field(default_factory=list)
    free_list: bool = False


class _Known:
    """The live rows, to be asked for."""

    def __init__(self) -> None:
        self._by_rowid: dict[tuple[str, int], tuple[Value, ...]] = {}
        self._every: dict[str, set[tuple[Value, ...]]] = {}
        self._without: dict[tuple[str, tuple[int, ...]], set[tuple[Value, ...]]] = {}

    def add(self, row: Row) -> None:
        values = short(row.values)
        self._every.setdefault(row.table, set()).add(values)
        if row.rowid is not None:
            self._by_rowid[row.table, row.rowid] = values

    def rowid(self, row: Row) -> tuple[Value, ...] | None:
        """The values of the live row of the same number."""
        return None if row.rowid is None else self._by_rowid.get((row.table, row.rowid))

    def has(self, row: Row) -> bool:
        """Whether a row is a live one, or may be, where nothing tells its number."""
        if row.rowid is not None:
            return self.rowid(row) == short(row.values)
        lost = tuple(row.columns.index(name) for name in row.lost)
        key = row.table, lost
        if key not in self._without:
            self._without[key] = {_but(v, lost) for v in self._every.get(row.table, ())}
        return _but(short(row.values), lost) in self._without[key]


def _kinds(table: Table) -> tuple[int, ...]:
    """The kinds of pages in which rows of a table stand."""
    return (INDEX_INNER, INDEX_LEAF) if table.without_rowid else (TABLE_LEAF,)


def short(values: tuple[Value, ...]) -> tuple[Value, ...]:
    """Values to compare by: long ones as their sums, so that a database of pictures fits."""
    return tuple(blake2b(v if isinstance(v, bytes) else v.encode("utf-8", "surrogatepass"),
                         digest_size=16).digest()
                 if isinstance(v, (bytes, str)) and len(v) > LONG else v for v in values)


def _but(values: tuple[Value, ...], lost: tuple[int, ...]) -> tuple[Value, ...]:
    return tuple(v for i, v in enumerate(values) if i not in lost) if lost else values


class Database:
    """A database with its log and journal. FormatError where it is none."""

    def __init__(self, source: Source, log: Source | None = None, journal: Source | None = None,
                 breathe: Callable[[], None] = lambda: None) -> None:
        self._source, self._breathe = source, breathe
        self.trouble = Trouble()
        page_bytes = Pages(source).header.page_bytes
        self._logs: list[logs.Log] = []
        over: dict[int, bytes] = {}
        size = 0
        for read, other in ((logs.read_journal, journal), (logs.read_log, log)):
            found = read(other, page_bytes) if other is not None else None
            if found is None:
                continue
            self._logs.append(found)
            over.update((number, found.content(at)) for number, at in found.over.items())
            size = found.size or size
        self.pages = Pages(source, over, size)
        self._used: dict[int, Table | None] = {}
        self.tables = self._read_tables()

    # -- live rows ------------------------------------------------------------------------------

    def live(self) -> Iterator[Row]:
        """The rows that count now."""
        for table in self.tables:
            if table.root:
                yield from self._live_of(table)

    def _live_of(self, table: Table) -> Iterator[Row]:
        for leaf in leaves_of(self.pages, table.root, self.trouble.pages.append):
            self._breathe()
            for cell in self._cells(leaf, table):
                yield _row(table, cell.rowid, cell.values, "live",
                           Evidence("cell", leaf.number, cell.at))

    def _cells(self, leaf: Leaf, table: Table) -> Iterator[Cell]:
        if leaf.kind not in _kinds(table):
            return
        for at in leaf.cells:
            try:
                yield read_cell(self.pages, leaf, at)
            except FormatError:
                self.trouble.pages.append(leaf.number)

    def _read_tables(self) -> list[Table]:
        """The tables of the schema, and of statements that were removed from it."""
        schema = Table(SCHEMA, 1, [Column(name, kind, affinity_of(kind)) for name, kind in (
            ("type", "TEXT"), ("name", "TEXT"), ("tbl_name", "TEXT"), ("rootpage", "INT"),
            ("sql", "TEXT"))])
        schema.stored = schema.shown
        tables = []
        for row in self._live_of(schema):
            kind, name, _, root, sql = row.values
            if kind == "table" and isinstance(sql, str) and isinstance(root, int) and root > 0:
                table = read_table(str(name), root, sql)
                if table is not None:
                    tables.append(table)
        self._schema = schema
        return tables

    # -- rows that were removed -------------------------------------------------------------------

    def removed(self) -> Iterator[Row]:
        """Older states and removed rows, each once. Reads the live rows first, to know what is
        none."""
        known, owners = _Known(), self._owners()
        for table in self.tables:
            self._survey(table, known, owners)
        told: set[tuple[object, ...]] = set()
        claimed: dict[int, int] = {}
        waiting: list[Row] = []
        free = frozenset(range(2, self.pages.count + 1)).difference(owners)
        searcher = Searcher(self.pages, [*self.tables, *self._dropped()], free)
        for row in self._removed(searcher, owners):
            self._breathe()
            if known.has(row):
                continue
            key = (row.table, short(row.values), row.lost, row.rowid)
            if key in told or len(told) > MAX_FOUND:
                continue
            told.add(key)
            row = replace(row, state="older" if known.rowid(row) is not None else "removed")
            if not row.evidence.more:
                yield row
                continue
            waiting.append(row)
            for page in row.evidence.more:
                claimed[page] = claimed.get(page, 0) + 1
        # Of rows that go on in one and the same page, at least one is not what it was.
        yield from (row for row in waiting if all(claimed[p] == 1 for p in row.evidence.more))

    def _survey(self, table: Table, known: _Known, owners: dict[int, Table | None]) -> None:
        """Take in the live rows of a table: what they are, which pages they have, what kinds of
        values, and which serial types their first columns have, where those are always few."""
        counts: dict[int, Counter[int]] = {}
        rows = 0
        for leaf in leaves_of(self.pages, table.root, lambda page: None):
            self._breathe()
            owners[leaf.number] = table if leaf.kind in _kinds(table) else None
            for cell in self._cells(leaf, table):
                rows += 1
                known.add(_row(table, cell.rowid, cell.values, "live", HERE))
                owners.update(dict.fromkeys(cell.overflow))
                for index, value in zip(table.stored, cell.values):
                    table.seen.setdefault(index, set()).add(kind_of(value))
                for index, serial in enumerate(cell.types[:LOST_TYPES]):
                    counts.setdefault(index, Counter())[serial] += 1
        if rows >= LEAST_ROWS:
            table.usual = {index: set(found) for index, found in counts.items()
                           if len(found) <= FEW_TYPES}

    def _dropped(self) -> list[Table]:
        """Tables whose statements still stand in the free space of the schema."""
        searcher = Searcher(self.pages, [self._schema])
        there = {t.name for t in self.tables}
        found: dict[str, Table] = {}
        for leaf in leaves_of(self.pages, 1, lambda page: None):
            if leaf.kind != TABLE_LEAF:
                continue
            for _, row in searcher.in_leaf(leaf, searcher.fits):
                kind, name, _, _, sql = row.values
                if isinstance(sql, str) and isinstance(name, str) and name not in there and (
                        kind in ("table", None)):
                    table = read_table(name, 0, sql)
                    if table is not None:
                        found.setdefault(name, table)
        return list(found.values())

    def _removed(self, searcher: Searcher, owners: dict[int, Table | None]) -> Iterator[Row]:
        by_table = {id(f.table): [f] for f in searcher.fits}
        for table in self.tables:
            yield from self._in_tree(searcher, table, by_table[id(table)])
        trunks, free, whole = self.pages.free_pages()
        self.trouble.free_list = not whole
        for number in free:
            yield from self._in_free(searcher, number, "free-page", 0)
        for number in trunks:
            with contextlib.suppress(FormatError):
                count = int.from_bytes(self.pages.page(number)[4:8], "big")
                yield from self._in_free(searcher, number, "free-page", 8 + 4 * count)
        taken = {*owners, *trunks, *free}
        for number in range(2, self.pages.count + 1):
            if number not in taken and not self.pages.is_map(number):
                yield from self._in_free(searcher, number, "lost-page", 0)
        yield from self._in_logs(searcher, owners, by_table)

    def _owners(self) -> dict[int, Table | None]:
        """The pages of indexes, of what they overflow into, and of the schema, none a table's."""
        owners: dict[int, Table | None] = {}
        for leaf in leaves_of(self.pages, 1, lambda page: None):
            owners[leaf.number] = None
        for row in self._live_of(self._schema):
            root = row.values[3]
            if row.values[0] == "index" and isinstance(root, int) and root > 0:
                for leaf in leaves_of(self.pages, root, lambda page: None):
                    owners[leaf.number] = None
                    for at in leaf.cells if leaf.kind in (INDEX_INNER, INDEX_LEAF) else ():
                        with contextlib.suppress(FormatError):
                            owners.update(dict.fromkeys(
                                read_cell(self.pages, leaf, at).overflow))
        return owners

    def _in_tree(self, searcher: Searcher, table: Table, fits: list[Fit]) -> Iterator[Row]:
        """The rows between those of the pages of a table."""
        leaves = (leaf for leaf in leaves_of(self.pages, table.root, lambda page: None)
                  if leaf.kind in _kinds(table))
        last = 0
        for leaf, following in itertools.pairwise(itertools.chain(leaves, (None,))):
            assert leaf is not None
            found = list(searcher.in_leaf(leaf, fits))
            told: dict[int, int] = {}
            sure = False
            if leaf.kind == TABLE_LEAF:
                numbers = list(row_numbers(leaf))
                blocks = [row for where, row in found if where == "free-block"]
                after = None if following is None else next(
                    (number for _, number in row_numbers(following)), None)
                if any(row.rowid is None for row in blocks):
                    told = by_place(
                        [(at, searcher.stop_of(leaf, at, fits), n) for at, n in numbers], blocks,
                        (self.pages.header.usable, last), (leaf.content, after))
                sure = len(numbers) + sum(row.rowid is not None for row in blocks) >= SURE_ROWS
                last = max((number for _, number in numbers), default=last)
            for where, row in found:
                number = told.get(row.at)
                if number is None or sure:
                    doubts = () if number is None else ("number-by-place",)
                    row = row if number is None else replace(row, rowid=number)
                    yield _of_found(row, where, leaf.number, doubts)
                else:
                    yield replace(_of_found(row, where, leaf.number, ("number-likely",)),
                                  probable=number)

    def _in_free(self, searcher: Searcher, number: int, where: str,
                 begin: int) -> Iterator[Row]:
        """The rows of a page that nothing owns any more: its cells, if it still has a head, then
        what stands between them."""
        self._breathe()
        try:
            data = self.pages.page(number)
        except FormatError:
            return
        stop = self.pages.header.usable
        taken: list[tuple[int, int]] = []
        if not begin:
            with contextlib.suppress(FormatError):
                leaf = read_leaf(data, number, stop)
                for at in leaf.cells:
                    found = searcher.whole(data[:stop], at, stop, searcher.fits)
                    if found is not None and not searcher.overwritten(
                            data[:stop], found, searcher.fits):
                        taken.append((found.at, found.stop))
                        yield _of_found(found, where, number)
                for _, found in searcher.in_leaf(leaf, searcher.fits):
                    if found.lost:  # of which table is unknown as well: too little is sure
                        continue
                    taken.append((found.at, found.stop))
                    yield _of_found(found, where, number)
        for start, end in _between(taken, begin, stop):
            for found in searcher.in_stretch(data[:stop], start, end, searcher.fits):
                yield _of_found(found, where, number)

    def _in_logs(self, searcher: Searcher, owners: dict[int, Table | None],
                 by_table: dict[int, list[Fit]]) -> Iterator[Row]:
        """Rows on older images of pages: of the log, of the journal, and of the file where a log
        or journal stands over it."""
        images = [(log.content(i.at), i.kind, i.number, i.valid)
                  for log in self._logs for i in log.images]
        size = self.pages.header.page_bytes
        for log in self._logs:
            images += [(self._source.read_at((n - 1) * size, size), "file", n, True)
                       for n in log.over if n * size <= self._source.size]
        for data, kind, number, valid in images:
            table = owners.get(number)
            fits = by_table[id(table)] if table is not None else searcher.fits
            with contextlib.suppress(FormatError, IndexError):
                leaf = read_leaf(data, number, self.pages.header.usable)
                if number == 1 or leaf.kind not in (TABLE_LEAF, INDEX_LEAF, INDEX_INNER):
                    continue
                usable = self.pages.header.usable
                for at in leaf.cells:
                    begin = at + 4 if leaf.kind == INDEX_INNER else at
                    found = searcher.whole(data[:usable], begin, usable, fits)
                    if found is not None:
                        yield _of_found(found, kind, number, () if valid else ("log-unproven",))
                for _, found in searcher.in_leaf(leaf, fits):
                    yield _of_found(found, kind, number, () if valid else ("log-unproven",))


def _between(taken: list[tuple[int, int]], start: int, stop: int) -> Iterator[tuple[int, int]]:
    for first, end in sorted(taken):
        if first > start:
            yield start, first
        start = max(start, end)
    if start < stop:
        yield start, stop


def _row(table: Table, rowid: int | None, values: tuple[Value, ...], state: str,
         evidence: Evidence, lost: tuple[int, ...] = (), doubts: tuple[str, ...] = ()) -> Row:
    """A row with its values in the order of the table; what a record lacks at its end are defaults
    of columns that came later (2.1)."""
    shown = table.shown
    by_index: dict[int, Value] = dict(zip(table.stored, values))
    out: list[Value] = []
    for index in shown:
        column = table.columns[index]
        value = by_index.get(index, column.default)
        if index == table.alias:
            value = rowid
        elif column.affinity == "REAL" and isinstance(value, int):
            value = float(value)
        out.append(value)
    names = tuple(table.columns[i].name for i in shown)
    gone = tuple(table.columns[table.stored[i]].name for i in lost)
    if table.alias is not None and rowid is None and state != "live":
        gone = (table.columns[table.alias].name, *gone)
    return Row(table.name, names, rowid, tuple(out), state, evidence, gone, doubts)


def _of_found(found: Found, where: str, page: int, more: tuple[str, ...] = ()) -> Row:
    doubts = more
    if found.others:
        doubts += ("table-likely",)
    if found.overflow:
        doubts += ("goes-on-in-free-pages",)
    if found.table.root == 0:
        doubts += ("table-dropped",)
    return _row(found.table, found.rowid, found.values, "removed",
                Evidence(where, page, found.at, found.overflow), found.lost, doubts)

