"""All rows of a SQLite database: those that count now, as SQLite itself tells them, older states of
rows, and rows that were removed, each with where it stands and what is doubted.
"""

from __future__ import annotations

import contextlib
import itertools
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace

from needlewright.core.databases import logs
from needlewright.core.databases.fitting import Fit, Found, kind_of
from needlewright.core.databases.numbering import FRAGMENT, by_place, in_order
from needlewright.core.databases.pages import Pages
from needlewright.core.databases.records import Value
from needlewright.core.databases.removed import Searcher
from needlewright.core.databases.rows import HERE, Evidence, Known, Row, each_once, short
from needlewright.core.databases.schema import Column, Table, affinity_of, read_table
from needlewright.core.databases.trees import (
    INDEX_INNER,
    INDEX_LEAF,
    TABLE_INNER,
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
SEQUENCE = "sqlite_sequence"  # of automatic numbers; its columns are declared without types (2.6.2)
#: Rows with their numbers that stand on a page in their order, from which on that order tells the
#: numbers of those between them: none of 6,400 was wrong then, one in 300 of those with fewer.
SURE_ROWS = 12
LOST_TYPES = 2  # serial types that a free block may write over
LEAST_ROWS, FEW_TYPES = 20, 3  # from which it is learnt what is usual; as many types at most
MAX_FOUND = 2_000_000  # rows that were removed; hostile files must end


@dataclass(slots=True)
class Trouble:
    """What could not be read: codes with pages, in the order met."""

    pages: list[int] = field(default_factory=list)
    free_list: bool = False


def _kinds(table: Table) -> tuple[int, ...]:
    """The kinds of pages in which rows of a table stand."""
    return (INDEX_INNER, INDEX_LEAF) if table.without_rowid else (TABLE_LEAF,)


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
        self._sequence: dict[str, int] | None = None
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
                    if table.name == SEQUENCE:
                        table.columns = [Column("name", "TEXT", "TEXT", not_null=True),
                                         Column("seq", "INTEGER", "INTEGER", not_null=True)]
                    tables.append(table)
        self._schema = schema
        return tables

    # -- rows that were removed -------------------------------------------------------------------

    def removed(self) -> Iterator[Row]:
        """Older states and removed rows, each once. Reads the live rows first, to know what is
        none."""
        known, owners = Known(), self._owners()
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
            if row.evidence.more or row.lost:
                waiting.append(row)
            else:
                yield row
            for page in row.evidence.more:
                claimed[page] = claimed.get(page, 0) + 1
        # Of rows that go on in one and the same page, at least one is not what it was.
        complete = Known()
        yield from each_once(complete, told, [row for row in waiting if all(
            claimed[page] == 1 for page in row.evidence.more)])

    def _survey(self, table: Table, known: Known, owners: dict[int, Table | None]) -> None:
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
        yield from self._in_inner(searcher, table, fits)
        last = 0
        for leaf, following in itertools.pairwise(itertools.chain(leaves, (None,))):
            assert leaf is not None
            found = list(searcher.in_leaf(leaf, fits))
            told: dict[int, int] = {}
            guessed: dict[int, int] = {}  # of the newest ones, whose numbers nothing bounds
            sure = False
            if leaf.kind == TABLE_LEAF:
                numbers = list(row_numbers(leaf))
                rows, low = _in_line([row for where, row in found if where == "free-block"],
                                     [row for where, row in found if where != "free-block"],
                                     leaf.content)
                after = self._after(table) if following is None else next(
                    (number for _, number in row_numbers(following)), None)
                if any(row.rowid is None for row in rows):
                    told = by_place(
                        [(at, searcher.stop_of(leaf, at, fits), n) for at, n in numbers], rows,
                        (self.pages.header.usable, last), (low, after))
                    if following is None and after is None:
                        guessed = in_order(rows, low, max(
                            (number for _, number in numbers), default=last))
                sure = len(numbers) + sum(row.rowid is not None for row in rows) >= SURE_ROWS
                last = max((number for _, number in numbers), default=last)
            for where, row in found:
                number = told.get(row.at)
                if number is None and row.at in guessed and row.rowid is None:
                    yield replace(_of_found(row, where, leaf.number, ("number-likely",)),
                                  probable=guessed[row.at])
                elif number is None or sure:
                    doubts = () if number is None else ("number-by-place",)
                    row = row if number is None else replace(row, rowid=number)
                    yield _of_found(row, where, leaf.number, doubts)
                else:
                    yield replace(_of_found(row, where, leaf.number, ("number-likely",)),
                                  probable=number)

    def _after(self, table: Table) -> int | None:
        """The number that the next row of a table would have, where it counts its rows by itself
        (2.6.2); else None."""
        if self._sequence is None:
            self._sequence = {}
            for other in self.tables:
                if other.name == SEQUENCE:
                    for row in self._live_of(other):
                        if isinstance(row.values[1], int):
                            self._sequence[str(row.values[0])] = row.values[1] + 1
        return self._sequence.get(table.name)

    def _in_inner(self, searcher: Searcher, table: Table, fits: list[Fit]) -> Iterator[Row]:
        """What inner pages of a table still hold of rows: a root was a leaf while all fitted it."""
        for leaf in leaves_of(self.pages, table.root, lambda page: None):
            if leaf.kind == TABLE_INNER and leaf.number != 1:
                for where, row in searcher.in_leaf(leaf, fits):
                    yield _of_found(row, where, leaf.number)

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
        rows, head, stop = self._pointed(searcher, data[:stop], number) if not begin else (
            [], 0, stop)
        taken = [(row.at, row.stop) for row in rows]
        for start, end in _between(taken, max(begin, head), stop):
            rows += searcher.in_stretch(data[:stop], start, end, searcher.fits, guess=False)
        yield from (_of_found(row, where, number) for row in rows)
        owners = {id(row.table) for row in rows}
        if len(owners) == 1:  # a page is of one table: what has lost its first bytes is of that
            fits = [fit for fit in searcher.fits if id(fit.table) in owners]
            taken = [(row.at, row.stop) for row in rows]
            for start, end in _between(taken, max(begin, head), stop):
                for row in searcher.in_stretch(data[:stop], start, end, fits):
                    yield _of_found(row, where, number)

    def _pointed(self, searcher: Searcher, data: bytes, number: int) -> (
            tuple[list[Found], int, int]):
        """(the rows that a page points to, which nothing owns any more; the bytes between which
        others may stand)."""
        rows: list[Found] = []
        with contextlib.suppress(FormatError):
            leaf = read_leaf(data, number, len(data))
            for at in leaf.cells if leaf.kind != TABLE_INNER else ():
                found = searcher.whole(data, at, len(data), searcher.fits, pointed=True)
                if found is not None:
                    rows.append(found)
            # The cells of an inner page were written over what stood there.
            return rows, leaf.gap, leaf.content if leaf.kind == TABLE_INNER else len(data)
        return rows, 0, len(data)

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
                    found = searcher.whole(data[:usable], begin, usable, fits, pointed=True)
                    if found is not None:
                        yield _of_found(found, kind, number, () if valid else ("log-unproven",))
                for _, found in searcher.in_leaf(leaf, fits):
                    yield _of_found(found, kind, number, () if valid else ("log-unproven",))


def _in_line(blocks: list[Found], gap: list[Found], content: int) -> tuple[list[Found], int]:
    """(the rows of free blocks, and those of the gap that stand right in front of the cells; the
    byte at which the first of these begins)."""
    low, rows = content, list(blocks)
    for row in sorted(gap, key=lambda r: r.stop, reverse=True):
        if not 0 <= low - row.stop <= FRAGMENT:
            break
        rows.append(row)
        low = row.at
    return rows, low


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

