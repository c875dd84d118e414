"""The seven passes of an interlaced PNG (W3C PNG, third edition: 8.1): each is a small picture of
its own, one behind another in the stream.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from needlewright.core.kernels.png_rows import unfilter
from needlewright.core.mending.png.tail import FILTERS, Values

#: (first column, first row, columns apart, rows apart) of each pass.
ADAM7 = ((0, 0, 8, 8), (4, 0, 8, 8), (0, 4, 4, 8), (2, 0, 4, 4), (0, 2, 2, 4), (1, 0, 2, 2),
         (0, 1, 1, 2))
SIDES = (2, 4, 8)  # pixels that one of a coarser pass stands for
Mask = npt.NDArray[np.bool_]


@dataclass(frozen=True, slots=True)
class Pass:
    """`rows` of `row` bytes from byte `start` of the stream on, their filter bytes included, for
    the pixels at `across`, `down` of the picture."""

    start: int
    rows: int
    row: int
    across: slice
    down: slice

    @property
    def stop(self) -> int:
        return self.start + self.rows * self.row


def passes_of(width: int, height: int, step: int) -> list[Pass]:
    """Those that hold pixels of `step` bytes each."""
    found: list[Pass] = []
    start = 0
    for x, y, right, below in ADAM7:
        columns, rows = -(-(width - x) // right), -(-(height - y) // below)
        if columns > 0 and rows > 0:
            found.append(Pass(start, rows, 1 + columns * step, slice(x, None, right),
                              slice(y, None, below)))
            start = found[-1].stop
    return found


def samples(values: Values, passes: list[Pass], width: int, height: int, step: int,
            neutral: int) -> tuple[bytes, Mask, Mask]:
    """(the whole picture's rows, each with filter type 0; bool[height, width]: which pixels are
    there, and for which a coarser pass has one). `values` int16[n]: the whole stream, UNKNOWN where
    it is lost; `step`: bytes of a pixel."""
    out = np.full((height, width, step), neutral, np.uint8)
    there = np.zeros((height, width), np.bool_)
    for one in passes:
        rows = values[one.start : one.stop].reshape(one.rows, one.row)
        found = unfilter(rows, step).reshape(one.rows, -1, step)
        known = (found >= 0).all(axis=2)
        there[one.down, one.across] = known
        out[one.down, one.across][known] = found[known]
    coarse = np.zeros_like(there)
    for side in SIDES:
        above, left = np.arange(height) // side * side, np.arange(width) // side * side
        fill = ~there & ~coarse & there[np.ix_(above, left)]
        out[fill] = out[np.ix_(above, left)][fill]
        coarse |= fill
    made = np.zeros((height, 1 + width * step), np.uint8)
    made[:, 1:] = out.reshape(height, -1)
    return made.tobytes(), there, coarse


def good_until(stream: bytes, passes: list[Pass]) -> int:
    """The byte up to which the rows of `stream` are whole and begin with a filter that exists."""
    for one in passes:
        for row in range(one.rows):
            begin = one.start + row * one.row
            if begin + one.row > len(stream) or stream[begin] >= FILTERS:
                return begin
    return passes[-1].stop if passes else 0
