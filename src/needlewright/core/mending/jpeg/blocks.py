"""All coefficients of a picture whose components are coded apart, as progressive scans do (ITU-T
T.81, A.2, G.1)."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from needlewright.core.errors import FormatError
from needlewright.core.formats import jpeg_segments as seg
from needlewright.core.kernels.jpeg_coefficients import Coding
from needlewright.core.kernels.jpeg_edges import Edges, mcu_edges
from needlewright.core.mending.jpeg.anatomy import MAX_PIXELS, Head, Layout

Bools = npt.NDArray[np.bool_]
Ints = npt.NDArray[np.int64]

MOST_VALUE = 1180  # of a coefficient, eighths of a grey level


class Picture:
    """All coefficients of a picture. `blocks` int16[n, 64]; `base`, `across`, `down` of each
    component: its first block, and how many it has; `lost` bool[n]: blocks without DC; `missing`
    bool[n, 2]: blocks of which a first or a refining scan is not there."""

    def __init__(self, frame: seg.Frame, quantisers: npt.NDArray[np.float32]) -> None:
        self.frame, self.quantisers = frame, quantisers
        self.limits = (MOST_VALUE / np.maximum(quantisers, 1)).astype(np.int64) + 2
        self.across = [frame.mcus_per_row * c.horizontal for c in frame.components]
        self.down = [frame.mcu_rows * c.vertical for c in frame.components]
        sizes = [a * d for a, d in zip(self.across, self.down)]
        self.base = [sum(sizes[:i]) for i in range(len(sizes))]
        self.blocks = np.zeros((sum(sizes), 64), np.int16)
        self.lost = np.zeros(sum(sizes), np.bool_)
        self.missing = np.zeros((sum(sizes), 2), np.bool_)

    def edges(self, units: npt.NDArray[np.int16], members: list[int]) -> Edges:
        """The edges of int16[n, blocks, 64] units of a scan of these components."""
        pattern = self.pattern(members)
        dx, dy = np.zeros(pattern.size, np.int64), np.zeros(pattern.size, np.int64)
        if len(members) > 1:
            for index in members:
                c = self.frame.components[index]
                number = np.arange(c.horizontal * c.vertical)
                dx[pattern == index] = number % c.horizontal
                dy[pattern == index] = number // c.horizontal
        numbers = np.searchsorted(np.array(members), pattern)
        return mcu_edges(units, numbers, dx, dy, self.quantisers[members])

    def order(self, members: list[int]) -> Ints:
        """int64[units * blocks of a unit]: the blocks in the order in which a scan of these
        components codes them (A.2)."""
        frame = self.frame
        if len(members) == 1:
            index = members[0]
            wide, high = frame.component_blocks(index)
            rows = np.arange(high, dtype=np.int64)[:, None] * self.across[index]
            return (self.base[index] + rows + np.arange(wide)).ravel()
        parts = []
        for index in members:
            c = frame.components[index]
            row = np.arange(frame.mcu_rows)[:, None, None, None] * c.vertical
            column = np.arange(frame.mcus_per_row)[None, :, None, None] * c.horizontal
            place = ((row + np.arange(c.vertical)[:, None]) * self.across[index]
                     + column + np.arange(c.horizontal))
            parts.append((self.base[index] + place).reshape(-1, c.vertical * c.horizontal))
        return np.concatenate(parts, axis=1).ravel().astype(np.int64)

    def pattern(self, members: list[int]) -> Ints:
        """int64[b]: the component of each block of a unit."""
        if len(members) == 1:
            return np.array(members, np.int64)
        return np.concatenate([np.full(
            self.frame.components[i].horizontal * self.frame.components[i].vertical, i, np.int64)
            for i in members])

    def places(self, index: int) -> tuple[Ints, Ints]:
        """(across, down) of each block of a component in an MCU, int64[b]."""
        c = self.frame.components[index]
        number = np.arange(c.horizontal * c.vertical, dtype=np.int64)
        return number % c.horizontal, number // c.horizontal

    def layout(self) -> Layout:
        """The picture as MCUs of all components."""
        every = list(range(len(self.frame.components)))
        pattern = self.pattern(every)
        places = [self.places(i) if len(every) > 1 else (np.zeros(1, np.int64),) * 2
                  for i in every]
        none = np.zeros(len(every), np.int64)
        coding = Coding(pattern, none, none, self.limits[:, 0], ())
        return Layout(coding, np.concatenate([p[0] for p in places]),
                      np.concatenate([p[1] for p in places]), self.quantisers,
                      self.frame.mcus_per_row, self.frame.mcu_rows, 0)

    def by_mcu(self, flags: Bools) -> Bools:
        """Whether any block of each MCU is flagged, bool[MCUs]."""
        order = self.order(list(range(len(self.frame.components))))
        mcus = self.frame.mcus_per_row * self.frame.mcu_rows
        return np.asarray(flags[order].reshape(mcus, -1).any(axis=1), np.bool_)


def picture_of(head: Head) -> Picture:
    """An empty picture of the frame and tables of `head`; FormatError where they are none."""
    frame = head.frame
    if frame.precision != 8 or not 0 < frame.width * frame.height <= MAX_PIXELS:
        raise FormatError("dimensions-implausible", offset=0)
    try:
        quantisers = np.stack([head.tables[c.quantiser] for c in frame.components])
    except KeyError as error:
        raise FormatError("quantiser-table-missing", offset=0) from error
    return Picture(frame, quantisers)
