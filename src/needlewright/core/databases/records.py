"""Records of SQLite databases (sqlite.org file format, section 2.1): numbers of variable length,
serial types, values."""

from __future__ import annotations

import struct
from dataclasses import dataclass
from typing import Literal

from needlewright.core.errors import FormatError

Value = int | float | str | bytes | None
Encoding = Literal["utf-8", "utf-16-le", "utf-16-be"]

ENCODINGS: dict[int, Encoding] = {1: "utf-8", 2: "utf-16-le", 3: "utf-16-be"}
SIZES = (0, 1, 2, 3, 4, 6, 8, 8, 0, 0)  # of serial types 0 to 9
FIRST_BLOB = 12  # serial types from here on: even a blob, odd a text
MAX_COLUMNS = 32_767


def varint(data: bytes, at: int) -> tuple[int, int]:
    """(a number, the place behind it); FormatError where the data ends first. Negative numbers come
    as they are in 64 bits."""
    if at < len(data) and data[at] < 0x80:
        return data[at], at + 1
    value = 0
    for count in range(9):
        if at + count >= len(data):
            raise FormatError("data-ends", offset=len(data))
        byte = data[at + count]
        if count == 8:
            value = value << 8 | byte
            break
        value = value << 7 | byte & 0x7F
        if byte < 0x80:
            return value, at + count + 1
    return value - (1 << 64) if value >= 1 << 63 else value, at + 9


def length_of(value: int) -> int:
    """Bytes that a number takes as `varint`."""
    if value < 0 or value >= 1 << 56:
        return 9
    return max(1, -(-value.bit_length() // 7))


def size_of(serial: int) -> int:
    """Bytes of a value of this serial type; FormatError for one that there is none of."""
    if serial < FIRST_BLOB:
        if not 0 <= serial < len(SIZES):
            raise FormatError("serial-type-unknown", offset=0)
        return SIZES[serial]
    return (serial - FIRST_BLOB) // 2


#: The same of those that one byte tells, -1 where there is none.
SHORT_SIZES = (*SIZES, -1, -1, *((serial - FIRST_BLOB) // 2 for serial in range(FIRST_BLOB, 0x80)))


@dataclass(frozen=True, slots=True)
class Shape:
    """What the head of a record says. `head`: its bytes; `body`: bytes of all values."""

    types: tuple[int, ...]
    head: int
    body: int

    @property
    def size(self) -> int:
        return self.head + self.body


def may_have(data: bytes, at: int, columns: int) -> bool:
    """Whether the head of a record of so many columns may stand at `at`: each takes one to nine
    bytes of it. A glance before `shape_at`."""
    return at < len(data) and (data[at] >= 0x80 or columns < data[at] <= 3 + 9 * columns)


def shape_at(data: bytes, at: int) -> Shape:
    """The head of the record at `at`; FormatError where it makes no sense."""
    head, place = varint(data, at)
    if not 1 <= head <= 3 + 9 * MAX_COLUMNS or at + head > len(data):
        raise FormatError("record-makes-no-sense", offset=at)
    stop = at + head
    types = []
    body = 0
    while place < stop:
        serial = data[place]
        if serial < 0x80:  # nearly all are: no call for them
            place += 1
            size = SHORT_SIZES[serial]
            if size < 0:
                raise FormatError("serial-type-unknown", offset=place)
        else:
            serial, place = varint(data, place)
            size = size_of(serial)
        body += size
        types.append(serial)
    if place != stop or len(types) > MAX_COLUMNS:
        raise FormatError("record-makes-no-sense", offset=at)
    return Shape(tuple(types), head, body)


def value_of(serial: int, raw: bytes, encoding: Encoding, strict: bool = False) -> Value:
    """A value from its bytes. `strict`: UnicodeDecodeError for text that is none; else what cannot
    be read of it is shown by its bytes."""
    if serial == 0:
        return None
    if serial <= 6:
        return int.from_bytes(raw, "big", signed=True)
    if serial == 7:
        (number,) = struct.unpack(">d", raw)
        return None if number != number else float(number)  # SQLite has no NaN
    if serial <= 9:
        return serial - 8
    if serial % 2 == 0:
        return raw
    return raw.decode(encoding, "strict" if strict else "backslashreplace")


def values_of(data: bytes, at: int, types: tuple[int, ...], encoding: Encoding,
              strict: bool = False) -> tuple[Value, ...]:
    """The values whose bytes begin at `at`; FormatError where the data ends first."""
    values = []
    for serial in types:
        size = size_of(serial)
        if at + size > len(data):
            raise FormatError("data-ends", offset=len(data))
        values.append(value_of(serial, data[at : at + size], encoding, strict))
        at += size
    return tuple(values)
