"""Rows of a database as they are reported, and the set of those that are known."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from hashlib import blake2b

from needlewright.core.databases.records import Value

LONG = 64  # bytes or letters of a value that is kept by its sum


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


def short(values: tuple[Value, ...]) -> tuple[Value, ...]:
    """Values to compare by: long ones as their sums, so that a database of pictures fits."""
    return tuple(blake2b(v if isinstance(v, bytes) else v.encode("utf-8", "surrogatepass"),
                         digest_size=16).digest()
                 if isinstance(v, (bytes, str)) and len(v) > LONG else v for v in values)


def _but(values: tuple[Value, ...], lost: tuple[int, ...]) -> tuple[Value, ...]:
    return tuple(v for i, v in enumerate(values) if i not in lost) if lost else values


class Known:
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

    def add_values(self, table: str, values: tuple[Value, ...]) -> None:
        """The same for a row of which nothing but its values counts."""
        self._every.setdefault(table, set()).add(values)

    def has_values(self, row: Row) -> bool:
        """Whether a row agrees in all that is known of it with one that was added."""
        return self.has(replace(row, rowid=None))

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


def each_once(complete: Known, told: set[tuple[object, ...]], rows: list[Row]) -> Iterator[Row]:
    """`rows` but those of which another copy tells more. `told`: the keys of all rows."""
    for table, values, lost, _ in told:
        if not lost:
            complete.add_values(str(table), values)  # type: ignore[arg-type]
    for row in sorted(rows, key=lambda r: len(r.lost)):
        if row.lost and complete.has_values(row):
            continue
        yield row
        if not row.lost:
            complete.add_values(row.table, short(row.values))
