"""The rows of one table that count now, quickly: for lists of hundreds of thousands.

The same rows in the same order as `Database.live`. Rows of one table mostly have heads of the same
few shapes, so that each shape is made sense of once; what is longer than its cell, and what makes
no sense, is left to the patient reader.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from needlewright.core.databases.reading import Database
from needlewright.core.databases.records import Value, shape_at, size_of, value_of, varint
from needlewright.core.databases.schema import Table
from needlewright.core.databases.trees import TABLE_LEAF, leaves_of, local_bytes, read_cell
from needlewright.core.errors import FormatError

MOST_SHAPES = 1 << 14  # that are remembered
Values = tuple[Value, ...]


def table_named(database: Database, name: str) -> Table | None:
    """The table of this name that has rows of the usual kind."""
    return next((t for t in database.tables if t.name == name and t.root and not t.without_rowid),
                None)


def rows_of(database: Database, table: Table, wanted: Sequence[str]) -> Iterator[Values]:
    """The columns `wanted` of each row of `table`; None for a column that there is not. Each page
    is read once, whatever the tree says; what is damaged goes to `database.trouble`."""
    pages, encoding = database.pages, database.pages.header.encoding
    usable = pages.header.usable
    places = [_place(table, name) for name in wanted]
    shapes: dict[bytes, list[tuple[int, int, int]]] = {}
    defaults = [_default(table, name) for name in wanted]
    for leaf in leaves_of(pages, table.root, database.trouble.pages.append):
        if leaf.kind != TABLE_LEAF:
            continue
        data = leaf.data
        for at in leaf.cells:
            try:
                payload, place = varint(data, at)
                rowid, place = varint(data, place)
                head = data[place]
                if head >= 0x80 or local_bytes(payload, usable, True) != payload or (
                        place + payload > usable):
                    cell = read_cell(pages, leaf, at)
                    yield tuple(rowid if p == ALIAS else defaults[i] if p is None or p >= len(
                        cell.values) else cell.values[p] for i, p in enumerate(places))
                    continue
                begin = data[place : place + head]
                shape = shapes.get(begin)
                if shape is None:
                    shape = _shape(begin)
                    if len(shapes) < MOST_SHAPES:
                        shapes[begin] = shape
                row: list[Value] = []
                for index, column in enumerate(places):
                    if column == ALIAS:
                        row.append(rowid)
                    elif column is None or column >= len(shape):
                        row.append(defaults[index])
                    else:
                        serial, start, stop = shape[column]
                        if stop > payload:
                            raise FormatError("data-ends", offset=at)
                        raw = data[place + start : place + stop]
                        if serial >= 13 and serial & 1:
                            row.append(raw.decode(encoding, "backslashreplace"))
                        elif 0 < serial < 7:
                            row.append(int.from_bytes(raw, "big", signed=True))
                        else:
                            row.append(value_of(serial, raw, encoding))
                yield tuple(row)
            except (FormatError, IndexError):
                database.trouble.pages.append(leaf.number)


ALIAS = -1


def _place(table: Table, name: str) -> int | None:
    """Where a column stands in a record; ALIAS where it is the row's number."""
    for index, column in enumerate(table.columns):
        if column.name.lower() == name.lower():
            if index == table.alias:
                return ALIAS
            return table.stored.index(index) if index in table.stored else None
    return None


def _default(table: Table, name: str) -> Value:
    return next((c.default for c in table.columns if c.name.lower() == name.lower()), None)


def _shape(head: bytes) -> list[tuple[int, int, int]]:
    """(serial type, first byte, byte behind) of each value, counted from the record's first."""
    types = shape_at(head, 0).types
    found, at = [], len(head)
    for serial in types:
        size = size_of(serial)
        found.append((serial, at, at + size))
        at += size
    return found
