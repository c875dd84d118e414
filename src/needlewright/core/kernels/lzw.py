"""LZW as GIF uses it (GIF89a, appendix F): how many pixels the codes stand for, and until where.

Only lengths are kept, no pixels: each code's string length follows from the code before it. Where
the codes go wrong, the bit is known from which on, and how wide the next code would be.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from numba import njit


@njit(cache=True, nogil=True)
def _lengths(data, minimum, wanted):
    clear = 1 << minimum
    stop = clear + 1
    length = np.ones(4097, np.int64)
    next_code = clear + 2
    width = minimum + 1
    previous = np.int64(-1)
    bits = np.uint64(0)
    have = 0
    at = 0
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
            next_code = clear + 2
            width = minimum + 1
            previous = np.int64(-1)
            continue
        if code == stop:
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
    if data.dtype != np.uint8 or data.ndim != 1:
        raise TypeError(f"need uint8[n], got {data.dtype}{data.shape}")
    pixels, used, good, _, _ = _lengths(data, code_size, wanted)
    return int(pixels), int(used), bool(good)


def last_good(data: npt.NDArray[np.uint8], code_size: int, wanted: int) -> tuple[int, int, int]:
    """(pixels of the codes that are in order, bit behind them, bits of the code that would be
    next)."""
    pixels, _, _, bit, width = _lengths(data, code_size, wanted)
    return int(pixels), int(bit), int(width)
