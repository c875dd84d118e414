"""The picture as far as it is put together: MCUs in their places, with the edges that others must
join."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from needlewright.core.kernels.jpeg_coefficients import Coefficients
from needlewright.core.kernels.jpeg_edges import MAX_UP, Edges, compare_above, mcu_edges
from needlewright.core.mending.jpeg.anatomy import Layout

Floats = npt.NDArray[np.float32]
Levels = npt.NDArray[np.int64]  # to be added to DC values, one of each component, quantised
UNEVEN = 2.6  # times the median deviation: 1.48 for the spread, 1.25 of a median, 1.4 as they hang
COLOUR = 0.5  # weight of the colours beside brightness


@dataclass(slots=True)
class Strand:
    """MCUs in a row that decode from one place, whose position and levels are still to be found."""

    coefficients: Coefficients
    edges: Edges
    steps: Floats  # float32[n]: how much each MCU's left column differs from what is left of it

    @property
    def size(self) -> int:
        return int(self.coefficients.shape[0])


@dataclass(slots=True)
class Fit:
    """How a stretch of a strand joins what stands above it, MCU by MCU float32[n], grey levels; nan
    where nothing is above. `mean`, `colour`: how much brighter it is; `shape`: what no level
    accounts for."""

    mean: Floats
    shape: Floats
    colour: Floats
    up: npt.NDArray[np.int8]  # how many rows above it is what it is compared with
    rise: Floats  # float32[n, components]: what slopes on both sides explain of the difference

    def levels(self) -> Floats:
        """The usual difference of each component, float32[components]."""
        there = ~np.isnan(self.mean)
        if not there.any():
            return np.zeros(1 + self.colour.shape[1], np.float32)
        return np.concatenate(([np.median(self.mean[there])],
                               np.median(self.colour[there], axis=0))).astype(np.float32)

    def finer(self) -> Floats:
        """The same more exactly, from all that join: what slopes explain is taken off."""
        there = ~np.isnan(self.mean)
        if not there.any():
            return np.zeros(1 + self.colour.shape[1], np.float32)
        found = []
        for index in range(1 + self.colour.shape[1]):
            off = (self.mean if index == 0 else self.colour[:, index - 1])[there]
            near = np.abs(off - np.median(off))
            keep = near <= max(1.0, float(np.quantile(near, 0.7)))
            found.append(float((off - self.rise[there, index])[keep].mean()))
        return np.array(found, np.float32)

    def errors(self) -> tuple[float, ...]:
        """The error of the level of each component: that of a median of so many, which are not
        quite independent."""
        there = ~np.isnan(self.mean)
        count = int(there.sum())
        if count < 4:
            return tuple(99.0 for _ in range(1 + self.colour.shape[1]))
        signals = [self.mean[there], *self.colour[there].T]
        found: list[float] = [float(np.median(np.abs(s - np.median(s)))) for s in signals]
        scale = UNEVEN / float(np.sqrt(count))
        told: tuple[float, ...] = tuple(scale * middle + 0.1 for middle in found)
        return told

    def cost(self, levels: Floats) -> Floats:
        """float32[n] when `levels` are taken off."""
        off = np.abs(self.mean - levels[0]) + self.shape
        for index in range(self.colour.shape[1]):
            off = off + COLOUR * np.abs(self.colour[:, index] - levels[1 + index])
        cost: Floats = off
        return cost


class Canvas:
    """All MCUs of a picture. `there`: which are; `coefficients`: zero, that is neutral grey, where
    none."""

    def __init__(self, layout: Layout) -> None:
        self.layout = layout
        total, blocks = layout.total, layout.coding.blocks
        self.coefficients: Coefficients = np.zeros((total, blocks, 64), np.int16)
        self.there = np.zeros(total, np.bool_)
        width = 8 * (int(layout.dx[layout.coding.component == 0].max()) + 1)
        others = layout.quantisers.shape[0] - 1
        self.edges = Edges(*(np.zeros((total, width), np.float32) for _ in range(2)),
                           *(np.zeros((total, others, 8), np.float32) for _ in range(2)),
                           *(np.zeros((0, 8), np.float32) for _ in range(2)),
                           *(np.zeros((total, others + 1), np.float32) for _ in range(2)))

    def strand(self, coefficients: Coefficients) -> Strand:
        layout = self.layout
        edges = mcu_edges(coefficients, layout.coding.component, layout.dx, layout.dy,
                          layout.quantisers)
        steps = np.zeros(coefficients.shape[0], np.float32)
        steps[1:] = np.abs(edges.left[1:] - edges.right[:-1]).mean(axis=1)
        return Strand(coefficients, edges, steps)

    def fits(self, strand: Strand, first: int, count: int,
             shifts: npt.NDArray[np.int64], most_up: int = MAX_UP) -> list[Fit]:
        """How MCUs `first` to `first + count` join, for each shift: place less number; with what
        stands at most `most_up` rows above."""
        mean, shape, colour, up, rise = self.compared(strand, first, count, shifts, most_up)
        return [Fit(mean[i], shape[i], colour[i], up[i], rise[i]) for i in range(shifts.size)]

    def compared(self, strand: Strand, first: int, count: int, shifts: npt.NDArray[np.int64],
                 most_up: int = MAX_UP) -> tuple[Floats, Floats, Floats, npt.NDArray[np.int8],
                                                 Floats]:
        """The same as arrays of [shifts, MCUs]."""
        return compare_above(strand.edges, first, count, shifts, self.layout.per_row, self.edges,
                             self.there, most_up)

    def in_grey(self, levels: Levels) -> Floats:
        """Levels in grey levels."""
        grey: Floats = (levels * self.layout.quantisers[:, 0] / 8).astype(np.float32)
        return grey

    def quantised(self, grey: Floats) -> Levels:
        """The levels nearest to `grey`."""
        steps = self.layout.quantisers[:, 0]
        levels: Levels = np.rint(grey * 8 / steps).astype(np.int64)
        return levels

    def room(self, strand: Strand, begin: int, count: int) -> tuple[Floats, Floats]:
        """(lowest, highest) grey level of each component that may be added to `count` MCUs from
        `begin` on without any block leaving what samples can be; a few may, as encoders round."""
        low, high = [], []
        for index in range(self.layout.quantisers.shape[0]):
            blocks = self.layout.coding.component == index
            means = strand.coefficients[begin : begin + count, blocks, 0].astype(np.float32) * (
                self.layout.quantisers[index, 0] / 8)
            bottom, top = np.quantile(means, (0.002, 0.998)) if means.size else (0.0, 0.0)
            low.append(-130 - bottom)
            high.append(129 - top)
        return np.array(low, np.float32), np.array(high, np.float32)

    def put(self, strand: Strand, first: int, count: int, place: int, levels: Levels) -> None:
        """Lay MCUs into the picture; what falls outside of it is left off."""
        skip = max(0, -place)
        count = min(count, self.there.size - place)
        if count <= skip:
            return
        rows = slice(first + skip, first + count)
        target = slice(place + skip, place + count)
        part = strand.coefficients[rows].copy()
        part[:, :, 0] = np.clip(part[:, :, 0] + levels[self.layout.coding.component][None, :],
                                -32_000, 32_000)
        self.coefficients[target] = part
        grey = self.in_grey(levels)
        own, mine = strand.edges, self.edges
        mine.top[target], mine.bottom[target] = own.top[rows] + grey[0], own.bottom[rows] + grey[0]
        mine.rise_top[target], mine.rise_bottom[target] = own.rise_top[rows], own.rise_bottom[rows]
        mine.colour_top[target] = own.colour_top[rows] + grey[1:, None]
        mine.colour_bottom[target] = own.colour_bottom[rows] + grey[1:, None]
        self.there[target] = True

    def shift_levels(self, start: int, stop: int, levels: Levels) -> None:
        """Add to the DC values of MCUs that are there."""
        part = self.coefficients[start:stop]
        add = levels[self.layout.coding.component][None, :] * self.there[start:stop, None]
        part[:, :, 0] = np.clip(part[:, :, 0] + add, -32_000, 32_000)

    def clear(self, start: int, stop: int) -> None:
        """Take MCUs out again."""
        start, stop = max(0, start), min(stop, self.there.size)
        if start < stop:
            self.there[start:stop] = False
            self.coefficients[start:stop] = 0

    @property
    def share(self) -> float:
        return float(self.there.mean()) if self.there.size else 0.0
