"""Filtered rows of PNG (W3C PNG, third edition: 9) turned into samples, of which some are lost:
what hangs on a lost one is lost as well.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from numba import njit


@njit(cache=True, nogil=True)
def _unfilter(values, step):
    rows, wide = values.shape[0], values.shape[1] - 1
    out = np.full((rows, wide), -1, np.int16)
    for row in range(rows):
        kind = values[row, 0]
        if kind < 0 or kind > 4:
            continue
        for at in range(wide):
            value = values[row, at + 1]
            if value < 0:
                continue
            left = out[row, at - step] if at >= step else 0
            up = out[row - 1, at] if row else 0
            corner = out[row - 1, at - step] if row and at >= step else 0
            if kind == 1:
                if left < 0:
                    continue
                value += left
            elif kind == 2:
                if up < 0:
                    continue
                value += up
            elif kind == 3:
                if left < 0 or up < 0:
                    continue
                value += (left + up) >> 1
            elif kind == 4:
                if left < 0 or up < 0 or corner < 0:
                    continue
                a, b = abs(up - corner), abs(left - corner)
                c = abs(left + up - 2 * corner)
                value += left if a <= b and a <= c else (up if b <= c else corner)
            out[row, at] = value & 255
    return out


def unfilter(values: npt.NDArray[np.int16], step: int) -> npt.NDArray[np.int16]:
    """int16[rows, bytes]: the samples of `values` int16[rows, 1 + bytes], which begin with the
    filter's type; -1 for what is lost in either. `step`: bytes of a pixel, 1 or more."""
    if values.dtype != np.int16 or values.ndim != 2 or values.shape[1] < 2 or step < 1:
        raise TypeError(f"need int16[rows, 1 + bytes], got {values.dtype}{values.shape}")
    found: npt.NDArray[np.int16] = _unfilter(values, step)
    return found
