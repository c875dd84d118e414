"""LZW as GIF uses it (GIF89a, appendix F): how many pixels the codes stand for, and until where.

Only lengths are kept, no pixels: each code's string length follows from the code before it. Where
the codes go wrong, the bit is known from which on, and how wide the next code would be.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from numba import njit

from needlewright.core.kernels.steady import read_only


@njit(cache=True, nogil=True)
def _lengths(data, start, minimum, wanted, marks):
    """(pixels, bytes, whether all is in order, bit behind what is, bits of the next code) of the
    codes from bit `start` on. `marks` int64[4]: the bit of the last code that begins the table
    anew, pixels before it, whether the end code was reached, bits of that code."""
    clear = 1 << minimum
    stop = clear + 1
    length = np.ones(4097, np.int64)
    next_code = clear + 2
    width = minimum + 1
    previous = np.int64(-1)
    at = start >> 3
    bits = np.uint64(0)
    have = 0
    if start & 7 and at < data.size:
        bits = np.uint64(data[at]) >> np.uint64(start & 7)
        have = 8 - (start & 7)
        at += 1
    pixels = np.int64(0)
    while True:
        bit = at * 8 - have
        while have < width:
            if at >= data.size:
                return pixels, at, pixels == wanted, bit, width
            bits |= np.uint64(data[at]) << np.uint64(have)
            have += 8
            at += 1
        code = np.int64(bits & np.uint64((1 << width) - 1))
        bits >>= np.uint64(width)
        have -= width
        if code == clear:
            marks[0], marks[1], marks[3] = bit, pixels, width
            next_code = clear + 2
            width = minimum + 1
            previous = np.int64(-1)
            continue
        if code == stop:
            marks[2] = 1
            # Nothing but a few filler bytes may follow.
            return pixels, at, pixels == wanted and data.size - at <= 2, bit, width
        if previous < 0:
            if code > clear:
                return pixels, at, False, bit, width
            made = np.int64(1)
        else:
            if code > next_code or (code == next_code and next_code >= 4096):
                return pixels, at, False, bit, width
            grown = (length[previous] if previous > stop else 1) + 1
            made = grown if code == next_code else (length[code] if code > stop else 1)
            if next_code < 4096:
                length[next_code] = grown
                next_code += 1
                if next_code == 1 << width and width < 12:
                    width += 1
        if pixels + made > wanted:
            return pixels, at, False, bit, width
        pixels += made
        previous = code


def decode_lengths(data: npt.NDArray[np.uint8], code_size: int,
                   wanted: int) -> tuple[int, int, bool]:
    """(pixels, bytes read, whether all is in order) of LZW `data` that should hold `wanted` pixels.

    `data` uint8[n] without sub-block lengths; `code_size` 1 to 11 bits, as the file states it.
    """
    data = read_only(data)
    if data.dtype != np.uint8 or data.ndim != 1:
        raise TypeError(f"need uint8[n], got {data.dtype}{data.shape}")
    pixels, used, good, _, _ = _lengths(data, 0, code_size, wanted, np.zeros(4, np.int64))
    return int(pixels), int(used), bool(good)


def last_good(data: npt.NDArray[np.uint8], code_size: int, wanted: int) -> tuple[int, int, int]:
    """(pixels of the codes that are in order, bit behind them, bits of the code that would be
    next)."""
    data = read_only(data)
    pixels, _, _, bit, width = _lengths(data, 0, code_size, wanted, np.zeros(4, np.int64))
    return int(pixels), int(bit), int(width)


def last_begun(data: npt.NDArray[np.uint8], code_size: int, wanted: int) -> tuple[int, int, int]:
    """(pixels before, bit, bits of) the last code that begins the table anew, before the codes go
    wrong; no bits where none does."""
    data = read_only(data)
    marks = np.zeros(4, np.int64)
    _lengths(data, 0, code_size, wanted, marks)
    return int(marks[1]), int(marks[0]), int(marks[3])


@njit(cache=True, nogil=True)
def _tail(data, minimum, most, start, stop):
    clear = 1 << minimum
    marks = np.zeros(4, np.int64)
    for bit in range(start, stop):
        for width in range(12, minimum, -1):
            if bit + width > data.size * 8:
                continue
            value = 0
            for index in range(width):
                place = bit + index
                value |= ((int(data[place >> 3]) >> (place & 7)) & 1) << index
            if value != clear:
                continue
            marks[2] = 0
            pixels, at, _, _, _ = _lengths(data, bit + width, minimum, most, marks)
            if marks[2] and pixels > 0 and data.size - at <= 2:
                return bit, width, pixels
    return -1, 0, np.int64(0)


def tail(data: npt.NDArray[np.uint8], code_size: int, most: int, start: int,
         looked: int) -> tuple[int, int, int] | None:
    """(bit, its bits, pixels behind it) of the first code from bit `start` on that begins the table
    anew, and from which the codes lead to their end, within `looked` bits; None where none does."""
    data = read_only(data)
    bit, width, pixels = _tail(data, code_size, most, start,
                               min(start + looked, data.size * 8))
    return (int(bit), int(width), int(pixels)) if bit >= 0 else None
