"""Samples of length-prefixed NAL units (ISO/IEC 14496-15, 4.2.2 and 8.3): do the lengths add up?"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from numba import njit

from needlewright.core.kernels.steady import read_only

AVC, HEVC = 1, 2


@njit(cache=True, nogil=True)
def _check(data, offsets, sizes, width, coding, good):
    for s in range(offsets.size):
        at = offsets[s]
        stop = at + sizes[s]
        fine = stop <= data.size and sizes[s] > width
        while fine and at < stop:
            if at + width >= stop:
                fine = False
                break
            length = np.int64(0)
            for i in range(width):
                length = (length << 8) | np.int64(data[at + i])
            at += width
            if length < 1 or length > stop - at:
                fine = False
                break
            head = data[at]
            if head & 0x80:  # the forbidden bit
                fine = False
                break
            if coding == 1:
                kind = head & 0x1F
                if kind == 0 or kind > 23:
                    fine = False
                    break
            else:
                kind = (head >> 1) & 0x3F
                if length < 2 or (kind > 40 and kind < 62) or (data[at + 1] & 7) == 0:
                    fine = False
                    break
            at += length
        good[s] = fine


def check_samples(
    data: npt.NDArray[np.uint8], offsets: npt.NDArray[np.int64], sizes: npt.NDArray[np.int64],
    length_bytes: int, coding: int,
) -> npt.NDArray[np.bool_]:
    """bool[samples]: which samples at `offsets` in `data` uint8[n] hold whole NAL units only.

    `length_bytes` 1 to 4; `coding` AVC or HEVC. A sample that reaches past `data` is not good.
    """
    data = read_only(data)
    if data.dtype != np.uint8 or offsets.shape != sizes.shape or not 1 <= length_bytes <= 4:
        raise TypeError("need uint8[n], equal int64[s] and a length of 1 to 4 bytes")
    good = np.zeros(offsets.size, np.bool_)
    _check(data, offsets, sizes, length_bytes, coding, good)
    return good
