"""Deflate taken up in the middle of a stream (RFC 1951): block starts found among all bits, and
what they make, with the places marked that refer to what is not there.

Codes are read bit by bit, in the canonical way of 3.2.2: damaged streams are short.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from numba import njit

from needlewright.core.kernels.steady import read_only

UNKNOWN = -1  # a value that refers to what is lost
FINAL, RAN_OUT, WRONG, FULL = 0, 1, 2, 3
MOST_BITS = 15
TRIED_SYMBOLS = 200  # that a block must give before its start is taken for one

_LENGTHS = np.array([3, 4, 5, 6, 7, 8, 9, 10, 11, 13, 15, 17, 19, 23, 27, 31, 35, 43, 51, 59, 67,
                     83, 99, 115, 131, 163, 195, 227, 258], np.int64)
_LENGTH_BITS = np.array([0, 0, 0, 0, 0, 0, 0, 0, 1, 1, 1, 1, 2, 2, 2, 2, 3, 3, 3, 3, 4, 4, 4, 4,
                         5, 5, 5, 5, 0], np.int64)
_AWAY = np.array([1, 2, 3, 4, 5, 7, 9, 13, 17, 25, 33, 49, 65, 97, 129, 193, 257, 385, 513, 769,
                  1025, 1537, 2049, 3073, 4097, 6145, 8193, 12289, 16385, 24577], np.int64)
_AWAY_BITS = np.array([0, 0, 0, 0, 1, 1, 2, 2, 3, 3, 4, 4, 5, 5, 6, 6, 7, 7, 8, 8, 9, 9, 10, 10,
                       11, 11, 12, 12, 13, 13], np.int64)
_ORDER = np.array([16, 17, 18, 0, 8, 7, 9, 6, 10, 5, 11, 4, 12, 3, 13, 2, 14, 1, 15], np.int64)


@njit(cache=True, nogil=True)
def _bits(data, at, count):
    value = 0
    for index in range(count):
        place = at + index
        value |= ((int(data[place >> 3]) >> (place & 7)) & 1) << index
    return value


@njit(cache=True, nogil=True)
def _build(lengths, count, counts, symbols):
    """Counts by length and symbols in order of a code; how much of all codes is left over, below 0
    where there are too many."""
    counts[:] = 0
    for index in range(count):
        counts[lengths[index]] += 1
    left = 1
    for size in range(1, MOST_BITS + 1):
        left = (left << 1) - counts[size]
        if left < 0:
            return left
    place = np.zeros(MOST_BITS + 2, np.int64)
    for size in range(1, MOST_BITS + 1):
        place[size + 1] = place[size] + counts[size]
    for index in range(count):
        if lengths[index]:
            symbols[place[lengths[index]]] = index
            place[lengths[index]] += 1
    return left


@njit(cache=True, nogil=True)
def _symbol(data, at, stop, counts, symbols):
    """(symbol, bit behind it); -1 where no code is, -2 where the data ends."""
    code, first, index = 0, 0, 0
    for size in range(1, MOST_BITS + 1):
        if at >= stop:
            return -2, at
        code |= (int(data[at >> 3]) >> (at & 7)) & 1
        at += 1
        count = counts[size]
        if code - count < first:
            return symbols[index + code - first], at
        index += count
        first = (first + count) << 1
        code <<= 1
    return -1, at


@njit(cache=True, nogil=True)
def _tables(data, at, stop, counts, symbols, away_counts, away_symbols):
    """The bit behind the codes of a dynamic block (3.2.7) whose header begins at `at`; below 0
    where none is."""
    if at + 14 > stop:
        return -2
    literals = _bits(data, at, 5) + 257
    away = _bits(data, at + 5, 5) + 1
    codes = _bits(data, at + 10, 4) + 4
    at += 14
    if literals > 286 or away > 30 or at + 3 * codes > stop:
        return -1
    lengths = np.zeros(320, np.int64)
    for index in range(codes):
        lengths[_ORDER[index]] = _bits(data, at, 3)
        at += 3
    if _build(lengths, 19, counts, symbols) != 0:
        return -1
    found = np.zeros(320, np.int64)
    index = 0
    while index < literals + away:
        symbol, at = _symbol(data, at, stop, counts, symbols)
        if symbol < 0:
            return symbol
        if symbol < 16:
            found[index] = symbol
            index += 1
            continue
        value, extra, base = 0, 7, 11
        if symbol == 16:
            if index == 0:
                return -1
            value, extra, base = found[index - 1], 2, 3
        elif symbol == 17:
            extra, base = 3, 3
        if at + extra > stop:
            return -2
        times = base + _bits(data, at, extra)
        at += extra
        if index + times > literals + away:
            return -1
        found[index : index + times] = value
        index += times
    if found[256] == 0:
        return -1
    left = _build(found, literals, counts, symbols)
    if left < 0 or (left > 0 and literals - counts[0] != 1):
        return -1
    left = _build(found[literals:], away, away_counts, away_symbols)
    if left < 0 or (left > 0 and away - away_counts[0] > 1):
        return -1
    return at


@njit(cache=True, nogil=True)
def _fixed(counts, symbols, away_counts, away_symbols):
    lengths = np.full(288, 8, np.int64)
    lengths[144:256] = 9
    lengths[256:280] = 7
    _build(lengths, 288, counts, symbols)
    _build(np.full(30, 5, np.int64), 30, away_counts, away_symbols)


@njit(cache=True, nogil=True)
def _block(data, at, stop, counts, symbols, away_counts, away_symbols, out, made, most):
    """(bit, values made, reason) of one coded block; at most `most` symbols."""
    for _ in range(most):
        symbol, at = _symbol(data, at, stop, counts, symbols)
        if symbol < 0:
            return at, made, RAN_OUT if symbol == -2 else WRONG
        if symbol < 256:
            if made >= out.size:
                return at, made, FULL
            out[made] = symbol
            made += 1
            continue
        if symbol == 256:
            return at, made, FINAL
        symbol -= 257
        if symbol >= 29:
            return at, made, WRONG
        if at + _LENGTH_BITS[symbol] > stop:
            return at, made, RAN_OUT
        length = _LENGTHS[symbol] + _bits(data, at, _LENGTH_BITS[symbol])
        at += _LENGTH_BITS[symbol]
        far, at = _symbol(data, at, stop, away_counts, away_symbols)
        if far < 0 or far >= 30:
            return at, made, RAN_OUT if far == -2 else WRONG
        if at + _AWAY_BITS[far] > stop:
            return at, made, RAN_OUT
        away = _AWAY[far] + _bits(data, at, _AWAY_BITS[far])
        at += _AWAY_BITS[far]
        if made + length > out.size:
            return at, made, FULL
        for _ in range(length):
            out[made] = out[made - away] if made >= away else UNKNOWN
            made += 1
    return at, made, FULL


@njit(cache=True, nogil=True)
def _follow(data, at, stop, out):
    counts, symbols = np.zeros(16, np.int64), np.zeros(288, np.int64)
    away_counts, away_symbols = np.zeros(16, np.int64), np.zeros(32, np.int64)
    made = 0
    while True:
        if at + 3 > stop:
            return at, made, RAN_OUT
        final, kind = _bits(data, at, 1), _bits(data, at + 1, 2)
        at += 3
        if kind == 3:
            return at, made, WRONG
        if kind == 0:
            at = (at + 7) >> 3 << 3
            if at + 32 > stop:
                return at, made, RAN_OUT
            size = _bits(data, at, 16)
            if size ^ _bits(data, at + 16, 16) != 0xFFFF:
                return at, made, WRONG
            at += 32
            if at + 8 * size > stop:
                return at, made, RAN_OUT
            if made + size > out.size:
                return at, made, FULL
            for index in range(size):
                out[made + index] = data[(at >> 3) + index]
            made += size
            at += 8 * size
        else:
            if kind == 1:
                _fixed(counts, symbols, away_counts, away_symbols)
            else:
                behind = _tables(data, at, stop, counts, symbols, away_counts, away_symbols)
                if behind < 0:
                    return at, made, RAN_OUT if behind == -2 else WRONG
                at = behind
            at, made, reason = _block(data, at, stop, counts, symbols, away_counts, away_symbols,
                                      out, made, out.size + 1)
            if reason != FINAL:
                return at, made, reason
        if final:
            return at, made, FINAL


@njit(cache=True, nogil=True)
def _next_start(data, at, stop, tried):
    counts, symbols = np.zeros(16, np.int64), np.zeros(288, np.int64)
    away_counts, away_symbols = np.zeros(16, np.int64), np.zeros(32, np.int64)
    while at + 17 < stop:
        if _bits(data, at + 1, 2) == 2:
            behind = _tables(data, at + 3, stop, counts, symbols, away_counts, away_symbols)
            if behind >= 0:
                _, _, reason = _block(data, behind, stop, counts, symbols, away_counts,
                                      away_symbols, tried, 0, TRIED_SYMBOLS)
                if reason in (FULL, FINAL):
                    return at
        at += 1
    return -1


def follow(data: npt.NDArray[np.uint8], bit: int,
           most: int) -> tuple[npt.NDArray[np.int16], int, int]:
    """(int16[n] of values, UNKNOWN where they refer to what stood before `bit`; the bit behind
    them; why it ends: FINAL, RAN_OUT, WRONG or FULL) of the blocks of raw Deflate from `bit` on.
    Never more than `most` values."""
    data = read_only(data)
    out = np.empty(most, np.int16)
    at, made, reason = _follow(data, bit, data.size * 8, out)
    return out[:made], int(at), int(reason)


def next_start(data: npt.NDArray[np.uint8], bit: int) -> int | None:
    """The first bit from `bit` on at which a block with codes of its own begins: they are complete,
    and stand for many symbols that exist. None where none does."""
    data = read_only(data)
    found = int(_next_start(data, bit, data.size * 8, np.empty(1 << 16, np.int16)))
    return found if found >= 0 else None
