"""How a stretch joins what stands above it, for many places at once: the same figures as of one
`Fit`, over arrays of [places, MCUs].
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from needlewright.core.mending.jpeg.canvas import COLOUR, Canvas, Floats, Strand

FLOOR = 1.2  # grey levels: differences below mean nothing
INDEPENDENT = 4.0  # MCUs beside each other that tell no more than one
ROW_BY_ROW, APART = 0.3, 6.0  # how much worse a row farther up joins; nats at the most
Doubles = npt.NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Scores:
    """Of each place. `there`: MCUs that have something above them; `told`: how badly they join,
    whatever their level, in nats for each MCU that tells by itself; `weight`: how many do; `apart`:
    what the cost says for the rows that are missing in between, in nats."""

    there: npt.NDArray[np.int64]
    told: Doubles
    weight: Doubles
    apart: Doubles


def medians(values: Floats, count: npt.NDArray[np.int64]) -> Floats:
    """The median of each row of float32[rows, n], of which `count` are numbers; 0 where none is."""
    ordered = np.sort(values, axis=1)  # what is no number comes last
    rows = np.arange(values.shape[0])
    low = ordered[rows, np.maximum(0, count - 1) // 2]
    high = ordered[rows, np.minimum(count // 2, values.shape[1] - 1)]
    middle: Floats = np.where(count > 0, (low + high) / 2, 0).astype(np.float32)
    return middle


def typicals(cost: Floats, count: npt.NDArray[np.int64]) -> Doubles:
    """A mean of each row that a few MCUs do not sway; inf where none is there."""
    cap = 3 * medians(cost, count) + np.float32(FLOOR)
    total = np.nansum(np.minimum(cost, cap[:, None]), axis=1, dtype=np.float64)
    with np.errstate(divide="ignore", invalid="ignore"):
        result: Doubles = np.where(count > 0, total / count, np.inf)
    return result


def score(canvas: Canvas, strand: Strand, first: int, count: int, shifts: npt.NDArray[np.int64],
          usual: float) -> Scores:
    """How MCUs `first` to `first + count` join at each shift; `usual`: what a row costs that truly
    touches. They differ in brightness from MCU to MCU, in the shape of each, and in colour, which
    tell of different things."""
    mean, shape, colour, up, _ = canvas.compared(strand, first, count, shifts)
    missing = np.isnan(mean)
    there = (~missing).sum(axis=1)
    shape, colour = shape.copy(), colour.copy()
    shape[missing] = np.nan
    colour[missing] = np.nan
    off = np.abs(mean - medians(mean, there)[:, None])
    told = np.log(typicals(off, there) + 0.3) + np.log(typicals(shape, there) + 0.6)
    cost = off + shape
    for index in range(colour.shape[2]):
        apart = np.abs(colour[:, :, index] - medians(colour[:, :, index], there)[:, None])
        told += 0.5 * np.log(typicals(apart, there) + 0.3)
        cost = cost + COLOUR * apart
    rows = np.where(missing, np.nan, up).astype(np.float32)
    should = usual * (1 + ROW_BY_ROW * (medians(rows, there) - 1))
    weight = there / INDEPENDENT
    with np.errstate(invalid="ignore"):  # of places where nothing is above
        ratio = np.log((typicals(cost, there) + FLOOR) / (should + FLOOR))
        apart_by = -np.minimum(APART, weight / 2 * np.abs(ratio))
    return Scores(there, told, weight, apart_by)
