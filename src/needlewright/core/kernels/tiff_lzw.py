"""LZW as TIFF has it (TIFF 6.0, section 13): codes from the highest bit, of 9 bits at first, and
longer one code early."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from numba import njit

from needlewright.core.kernels.steady import read_only

CLEAR, END, FIRST, MOST_BITS = 256, 257, 258, 12


@njit(cache=True, nogil=True)
def _lzw_end(data, at, stop, need):
    lengths = np.zeros(1 << MOST_BITS, np.int64)
    width, following, before, made = 9, FIRST, 0, np.int64(0)
    bit, last = np.int64(at) * 8, np.int64(stop) * 8
    while bit + width <= last:
        code = 0
        for i in range(bit, bit + width):
            code = code << 1 | (data[i >> 3] >> (7 - (i & 7)) & 1)
        bit += width
        if code == CLEAR:
            width, following, before = 9, FIRST, 0
            continue
        if code == END:
            return (bit + 7) // 8 if made == need else np.int64(-1)
        if code < CLEAR:
            length = np.int64(1)
        elif code < following:
            length = lengths[code]
        elif code == following and before:
            length = np.int64(before + 1)
        else:
            return np.int64(-1)
        made += length
        if made > need:
            return np.int64(-1)
        if before and following < 1 << MOST_BITS:
            lengths[following] = before + 1
            following += 1
            if following == (1 << width) - 1 and width < MOST_BITS:
                width += 1
        before = length
    return np.int64(-1)


def lzw_end(data: npt.NDArray[np.uint8], start: int, need: int) -> int:
    """The byte of `data` uint8[n] behind the codes from `start` on that make `need` bytes and say
    that they end; -1 where none do."""
    data = read_only(data)
    return int(_lzw_end(data, start, data.size, need))
