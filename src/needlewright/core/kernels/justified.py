"""Boxes in justified rows: the layout of a contact sheet, computed while others go on."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from numba import njit

Ints = npt.NDArray[np.int32]


@njit(cache=True, nogil=True)
def _rows(ratios, first, last, room, row_height, y, gap, under, margin, left, top, width, height):
    index = first
    while index < last:
        end, total = index, 0.0
        while end < last and total * row_height + gap * (end - index - 1) < room:
            total += ratios[end]
            end += 1
        free = room - gap * (end - index - 1)
        tall = free / total if total * row_height >= free else float(row_height)
        x = float(margin)
        for at in range(index, end):
            wide = ratios[at] * tall
            left[at], top[at] = np.int32(np.rint(x)), y
            width[at] = max(1, np.int32(np.rint(x + wide)) - np.int32(np.rint(x)))
            height[at] = np.int32(np.rint(tall))
            x += wide + gap
        y += np.int64(np.rint(tall)) + under
        index = end
    return y


def lay_rows(ratios: npt.NDArray[np.float64], first: int, last: int, room: int, row_height: int,
             y: int, gaps: tuple[int, int, int], boxes: tuple[Ints, Ints, Ints, Ints]) -> int:
    """Place items `first` to `last` (exclusive) of float64[n] `ratios` (width over height) from
    pixel `y` on into rows of `room` pixels, each about `row_height` high; where the next begins.

    `gaps`: between boxes, under each row, left of it. `boxes`: int32[n] each, left, top, width and
    height, which are filled in.
    """
    if ratios.dtype != np.float64 or any(box.size != ratios.size for box in boxes):
        raise TypeError("need float64[n] and four times int32[n]")
    return int(_rows(ratios, first, last, room, row_height, y, *gaps, *boxes))
