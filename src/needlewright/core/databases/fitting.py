"""Whether bytes may be a row of a table: by the kinds of its columns, and by its text."""

from __future__ import annotations

import unicodedata
from dataclasses import dataclass

from needlewright.core.databases.records import FIRST_BLOB, SIZES, Value
from needlewright.core.databases.schema import Table

CONTROLS = frozenset(map(chr, (*range(32), *range(127, 160)))) - frozenset("\t\n\r")
NO_LETTERS = frozenset(("Cn", "Co", "Cs"))  # what no text of a person holds
KINDS = {"INTEGER": "inr", "REAL": "inr", "TEXT": "tn", "NUMERIC": "irtn", "BLOB": "irtbn"}
STRANGE_SHARE = 0.25  # of a text, of characters that no person writes, from which it is none


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


def reads_as_written(values: tuple[Value, ...]) -> bool:
    """Whether texts of a cell that stands complete are such, all in all. Programs keep control
    characters in texts too (escape sequences, ends of fields), so that single ones say nothing."""
    for value in values:
        if not isinstance(value, str) or not value:
            continue
        strange = sum(c in CONTROLS or (not c.isprintable() and
                                        unicodedata.category(c) in NO_LETTERS) for c in value)
        if strange > 1 and strange > STRANGE_SHARE * len(value):
            return False
    return True
