"""What the sectors of a file look like, where nothing else tells: uncompressed samples, and data
that some decoder reads whatever it is.

Neighbouring samples of pictures and sound can be foretold from those before them; foreign data
cannot. Compressed data never holds a blank sector, nor one that is text from end to end.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from numba import njit

from needlewright.core.kernels.steady import read_only

PLAIN, BLANK, TEXT = 0, 1, 2
Bytes = npt.NDArray[np.uint8]


def _text_table() -> Bytes:
    table = np.zeros(256, np.uint8)
    table[32:127] = 1
    table[[9, 10, 13]] = 1
    return table


TEXT_TABLE = _text_table()


@njit(cache=True, nogil=True, inline="always")
def _apart(a, b):
    """Distance of two bytes the short way round, which serves signed samples as well."""
    d = (a - b) & 255
    return d if d < 128 else 256 - d


@njit(cache=True, nogil=True)
def _surprise(data, sector, pixel, width, big, row, shift, surprise):
    """Mean distance of each sample from what its neighbours foretell, sector by sector."""
    for s in range(surprise.size):
        start = s * sector
        stop = min(start + sector, data.size)
        total = np.int64(0)
        count = np.int64(0)
        begin = max(start, 2 * pixel, row + pixel if row > 0 else 0)
        if width > 1:
            high = 0 if big else width - 1  # the high byte of each sample
            begin += (high - shift - begin) % width
        for i in range(begin, stop, width):
            left = np.int64(data[i - pixel])
            if row > 0:
                up = np.int64(data[i - row])
                corner = np.int64(data[i - row - pixel])
                low, high = min(left, up), max(left, up)
                guess = left + up - corner
                if corner >= high:
                    guess = low
                elif corner <= low:
                    guess = high
            else:
                guess = 2 * left - np.int64(data[i - 2 * pixel])
            total += _apart(np.int64(data[i]), guess)
            count += 1
        surprise[s] = total / count if count else -1.0


def surprise(data: Bytes, sector: int, pixel_bytes: int, sample_bytes: int = 1,
             big_endian: bool = False, row_bytes: int = 0,
             shift: int = 0) -> npt.NDArray[np.float64]:
    """float64[sectors]: mean distance of samples from their forecast, in steps of the high byte.

    `data` uint8[n] begins at a sector boundary of the file; samples `pixel_bytes` apart belong
    together; `sample_bytes` is 1 to 4; `row_bytes` 0 where there are no rows (sound); `shift`:
    bytes of a sample that stand in front of `data`. Sectors before the first forecast hold -1.
    """
    data = read_only(data)
    if data.dtype != np.uint8 or data.ndim != 1:
        raise TypeError(f"need uint8[n], got {data.dtype}{data.shape}")
    found = np.zeros(-(-data.size // sector), np.float64)
    _surprise(data, sector, pixel_bytes, sample_bytes, big_endian, row_bytes, shift, found)
    return found


@njit(cache=True, nogil=True)
def _pitch(data, sector, pixel, row, apart):
    for s in range(apart.size):
        start = max(s * sector, row + pixel)
        stop = min((s + 1) * sector, data.size)
        up = np.int64(0)
        left = np.int64(0)
        for i in range(start, stop):
            value = np.int64(data[i])
            up += abs(value - np.int64(data[i - row]))
            left += abs(value - np.int64(data[i - pixel]))
        count = stop - start
        apart[s] = 0.0
        if count > 0 and up > 12 * count:
            apart[s] = up / (left + count)


def pitch(data: Bytes, sector: int, pixel_bytes: int,
          row_bytes: int) -> npt.NDArray[np.float64]:
    """float64[sectors]: how many times more samples differ from the row above than from their left
    neighbours; 0 where that is little, where there are no rows, or none above."""
    data = read_only(data)
    found = np.zeros(-(-data.size // sector), np.float64)
    if row_bytes > 0:
        _pitch(data, sector, pixel_bytes, row_bytes, found)
    return found


@njit(cache=True, nogil=True)
def _looks(data, sector, text, kinds):
    for s in range(kinds.size):
        start = s * sector
        stop = min(start + sector, data.size)
        value = data[start]
        blank = value == 0 or value == 255
        readable = True
        for i in range(start, stop):
            if data[i] != value:
                blank = False
            if text[data[i]] == 0:
                readable = False
            if not blank and not readable:
                break
        kinds[s] = 1 if blank else 2 if readable else 0


def sector_looks(data: Bytes, sector: int) -> Bytes:
    """uint8[sectors] of `data` uint8[n]: BLANK (all 0x00 or 0xFF), TEXT (nothing else), or PLAIN.
    """
    data = read_only(data)
    if data.dtype != np.uint8 or data.ndim != 1:
        raise TypeError(f"need uint8[n], got {data.dtype}{data.shape}")
    kinds = np.zeros(-(-data.size // sector), np.uint8)
    _looks(data, sector, TEXT_TABLE, kinds)
    return kinds


@njit(cache=True, nogil=True)
def _runs(data, expected):
    made = np.int64(0)
    at = 0
    while at < data.size and made < expected:
        head = data[at]
        if head < 128:
            at += 2 + np.int64(head)
            made += np.int64(head) + 1
        elif head > 128:
            at += 2
            made += 257 - np.int64(head)
        else:
            at += 1
    return made == expected and at <= data.size and data.size - at <= 1


def runs_make(data: Bytes, expected: int) -> bool:
    """Whether PackBits `data` uint8[n] (TIFF 6.0 section 9) makes exactly `expected` bytes."""
    data = read_only(data)
    return bool(_runs(data, expected))
