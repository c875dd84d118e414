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
    defaults = [_default(table, name) for name in wanted]
    shapes: dict[bytes, Plan] = {}
    for leaf in leaves_of(pages, table.root, database.trouble.pages.append):
        if leaf.kind != TABLE_LEAF:
            continue
        data = leaf.data
        for at in leaf.cells:
            try:
                payload, place = varint(data, at) if data[at] & data[at + 1] & 0x80 else (
                    (data[at], at + 1) if data[at] < 0x80 else
                    ((data[at] & 0x7F) << 7 | data[at + 1], at + 2))
                rowid, place = varint(data, place)
                head = data[place]
                if head >= 0x80 or local_bytes(payload, usable, True) != payload or (
                        place + payload > usable):
                    values = read_cell(pages, leaf, at).values
                    yield tuple(rowid if p == ALIAS else defaults[i] if p is None or p >= len(
                        values) else values[p] for i, p in enumerate(places))
                    continue
                begin = data[place : place + head]
                plan = shapes.get(begin)
                if plan is None:
                    plan = _plan(begin, places, defaults)
                    if len(shapes) < MOST_SHAPES:
                        shapes[begin] = plan
                size, parts = plan
                if size > payload:
                    raise FormatError("data-ends", offset=at)
                row: list[Value] = []
                for how, start, stop, value in parts:
                    if how == TEXT:
                        row.append(data[place + start : place + stop].decode(
                            encoding, "backslashreplace"))
                    elif how == NUMBER:
                        row.append(int.from_bytes(data[place + start : place + stop], "big",
                                                  signed=True))
                    elif how == KNOWN:
                        row.append(value)
                    elif how == ALIAS:
                        row.append(rowid)
                    else:
                        row.append(value_of(how, data[place + start : place + stop], encoding))
                yield tuple(row)
            except (FormatError, IndexError):
                database.trouble.pages.append(leaf.number)


ALIAS, TEXT, NUMBER, KNOWN = -1, -2, -3, -4  # how a value is had; else by its serial type
#: Bytes of a record of this shape, and for each value: how, from where, up to where, or the value.
Plan = tuple[int, list[tuple[int, int, int, Value]]]


def _plan(head: bytes, places: Sequence[int | None], defaults: Sequence[Value]) -> Plan:
    """How the wanted values of records with this head are had."""
    spans, at = [], len(head)
    for serial in shape_at(head, 0).types:
        size = size_of(serial)
        spans.append((serial, at, at + size))
        at += size
    parts: list[tuple[int, int, int, Value]] = []
    for column, default in zip(places, defaults):
        if column == ALIAS:
            parts.append((ALIAS, 0, 0, None))
        elif column is None or column >= len(spans):
            parts.append((KNOWN, 0, 0, default))
        else:
            serial, start, stop = spans[column]
            if serial in (0, 8, 9):
                parts.append((KNOWN, 0, 0, value_of(serial, b"", "utf-8")))
            else:
                how = TEXT if serial >= 13 and serial & 1 else NUMBER if serial < 7 else serial
                parts.append((how, start, stop, None))
    return at, parts


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

