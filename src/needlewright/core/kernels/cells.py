"""Where cells of SQLite tables may begin in bytes that nothing points into (sqlite.org file format,
sections 1.6 and 2.1)."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from numba import njit

FIRST_BLOB = 12


@njit(cache=True, nogil=True)
def _varint(data, at, stop):
    """(value, place behind it), at most five bytes long; -1 where there is none."""
    value = np.int64(0)
    for count in range(5):
        if at + count >= stop:
            return np.int64(-1), at
        byte = np.int64(data[at + count])
        value = value << 7 | byte & 0x7F
        if byte < 0x80:
            return value, at + count + 1
    return np.int64(-1), at


@njit(cache=True, nogil=True)
def _fits(data, at, stop, numbered, counts):
    payload, place = _varint(data, at, stop)
    if payload < 2:
        return False
    if numbered:
        while place < stop and data[place] >= 0x80 and place < at + 12:
            place += 1
        place += 1
    begin = place
    head, place = _varint(data, place, stop)
    if head < 2 or head > payload or begin + head > stop:
        return False
    body = np.int64(0)
    columns = 0
    while place < begin + head:
        serial, place = _varint(data, place, stop)
        if serial < 0 or serial == 10 or serial == 11:
            return False
        if serial >= FIRST_BLOB:
            body += (serial - FIRST_BLOB) // 2
        elif serial <= 4:
            body += serial
        elif serial <= 7:
            body += 6 if serial == 5 else 8
        columns += 1
    return (place == begin + head and head + body == payload and columns < counts.size
            and counts[columns])


@njit(cache=True, nogil=True)
def _starts(data, first, stop, numbered, counts, out):
    found = 0
    for at in range(first, stop - 3):
        if data[at] != 0 and _fits(data, at, stop, numbered, counts):
            out[found] = at
            found += 1
    return found


def cell_starts(data: bytes, first: int, stop: int, numbered: bool,
                counts: npt.NDArray[np.bool_]) -> npt.NDArray[np.int64]:
    """int64[n]: places from `first` to `stop` where the sizes of a cell stand whose record has one
    of the numbers of columns that `counts` bool[n] allows. `numbered`: the row's number stands in
    front of the record."""
    out = np.empty(max(0, stop - first), np.int64)
    if out.size < 4:
        return out[:0]
    return out[: _starts(np.frombuffer(data, np.uint8), first, stop, numbered, counts, out)]
