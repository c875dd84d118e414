"""The outermost pixel rows of decoded MCUs, and how well they join what stands above them (ITU-T
T.81, A.3.3: the inverse transform, taken for single rows of a block only).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from numba import njit

Floats = npt.NDArray[np.float32]

ZIGZAG = np.array([
    0, 1, 8, 16, 9, 2, 3, 10, 17, 24, 32, 25, 18, 11, 4, 5, 12, 19, 26, 33, 40, 48, 41, 34, 27, 20,
    13, 6, 7, 14, 21, 28, 35, 42, 49, 56, 57, 50, 43, 36, 29, 22, 15, 23, 30, 37, 44, 51, 58, 59,
    52, 45, 38, 31, 39, 46, 53, 60, 61, 54, 47, 55, 62, 63], np.int64)
# BASIS[x, u]: what coefficient u adds to sample x
BASIS = np.array([[(0.5 if u else 0.5 / np.sqrt(2)) * np.cos((2 * x + 1) * u * np.pi / 16)
                   for u in range(8)] for x in range(8)], np.float32)
MAX_UP = 16  # rows of MCUs that may be missing between what is compared


@dataclass(frozen=True, slots=True)
class Edges:
    """Of each MCU, in grey levels around 0: `top`, `bottom` float32[n, width]: the first and the
    last row of component 0; `colour_top`, `colour_bottom` float32[n, components - 1, 8]: of the
    others, of their first block across; `left`, `right` float32[n, height]: the outermost columns
    of component 0."""

    top: Floats
    bottom: Floats
    colour_top: Floats
    colour_bottom: Floats
    left: Floats
    right: Floats
    rise_top: Floats
    rise_bottom: Floats


@njit(cache=True, nogil=True)
def _columns(coefficients, component, dx, dy, width, quantisers, zigzag, basis, left, right):
    even = np.zeros(8, np.float32)
    odd = np.zeros(8, np.float32)
    for mcu in range(coefficients.shape[0]):
        for b in range(component.size):
            if component[b] != 0 or (dx[b] > 0 and dx[b] < width):
                continue
            even[:] = 0
            odd[:] = 0
            for k in range(64):
                value = coefficients[mcu, b, k]
                if value == 0:
                    continue
                place = zigzag[k]
                u = place & 7
                amount = np.float32(value) * quantisers[0, k] * basis[0, u]
                if u & 1:
                    odd[place >> 3] += amount
                else:
                    even[place >> 3] += amount
            for y in range(8):
                before = np.float32(0)
                behind = np.float32(0)
                for v in range(8):
                    before += (even[v] + odd[v]) * basis[y, v]
                    behind += (even[v] - odd[v]) * basis[y, v]
                if dx[b] == 0:
                    left[mcu, dy[b] * 8 + y] = before
                if dx[b] == width:
                    right[mcu, dy[b] * 8 + y] = behind


@njit(cache=True, nogil=True)
def _edges(coefficients, component, dx, first, last, quantisers, zigzag, basis, top, bottom,
           colour_top, colour_bottom, rise_top, rise_bottom):
    even = np.zeros(8, np.float32)
    odd = np.zeros(8, np.float32)
    for mcu in range(coefficients.shape[0]):
        for b in range(component.size):
            c = component[b]
            if not first[b] and not last[b]:
                continue
            if c > 0 and dx[b] > 0:
                continue
            even[:] = 0
            odd[:] = 0
            inner_even = np.float32(0)
            inner_odd = np.float32(0)
            for k in range(64):
                value = coefficients[mcu, b, k]
                if value == 0:
                    continue
                place = zigzag[k]
                v = place >> 3
                if place & 7 == 0:  # the mean of a row: the second less the first
                    step = np.float32(value) * quantisers[c, k] * basis[0, 0] * (
                        basis[1, v] - basis[0, v])
                    if v & 1:
                        inner_odd += step
                    else:
                        inner_even += step
                amount = np.float32(value) * quantisers[c, k] * basis[0, v]
                if v & 1:
                    odd[place & 7] += amount
                else:
                    even[place & 7] += amount
            share = np.float32(8.0 / top.shape[1]) if c == 0 else np.float32(1)
            if first[b]:
                rise_top[mcu, c] += share * (inner_even + inner_odd)
            if last[b]:
                rise_bottom[mcu, c] -= share * (inner_even - inner_odd)
            for x in range(8):
                above = np.float32(0)
                below = np.float32(0)
                for u in range(8):
                    above += (even[u] + odd[u]) * basis[x, u]
                    below += (even[u] - odd[u]) * basis[x, u]
                if c == 0:
                    if first[b]:
                        top[mcu, dx[b] * 8 + x] = above
                    if last[b]:
                        bottom[mcu, dx[b] * 8 + x] = below
                else:
                    if first[b]:
                        colour_top[mcu, c - 1, x] = above
                    if last[b]:
                        colour_bottom[mcu, c - 1, x] = below


def mcu_edges(coefficients: npt.NDArray[np.int16], component: npt.NDArray[np.int64],
              dx: npt.NDArray[np.int64], dy: npt.NDArray[np.int64], quantisers: Floats) -> Edges:
    """The edges of int16[n, blocks, 64] quantised coefficients in zig-zag order. `component`, `dx`,
    `dy` int64[blocks]: of each block, and its place in the MCU; `quantisers` float32[components,
    64], zig-zag.
    """
    count, others = coefficients.shape[0], quantisers.shape[0] - 1
    high = np.array([dy[component == c].max() for c in component])
    width = 8 * (int(dx[component == 0].max()) + 1)
    top, bottom = np.zeros((count, width), np.float32), np.zeros((count, width), np.float32)
    colour_top = np.zeros((count, others, 8), np.float32)
    colour_bottom = np.zeros((count, others, 8), np.float32)
    rise_top = np.zeros((count, others + 1), np.float32)
    rise_bottom = np.zeros((count, others + 1), np.float32)
    _edges(coefficients, component, dx, dy == 0, dy == high, quantisers, ZIGZAG, BASIS, top, bottom,
           colour_top, colour_bottom, rise_top, rise_bottom)
    tall = 8 * (int(dy[component == 0].max()) + 1)
    left, right = np.zeros((count, tall), np.float32), np.zeros((count, tall), np.float32)
    _columns(coefficients, component, dx, dy, width // 8 - 1, quantisers, ZIGZAG, BASIS, left,
             right)
    return Edges(top, bottom, colour_top, colour_bottom, left, right, rise_top, rise_bottom)


@njit(cache=True, nogil=True)
def _compare(top, colour_top, rise_top, first, count, shifts, per_row, bottom, colour_bottom,
             rise_bottom, there, most_up, mean, shape, colour, rows_up, rise):
    width, others = top.shape[1], colour_top.shape[1]
    for i in range(shifts.size):
        for n in range(count):
            place = first + n + shifts[i]
            above = place - per_row
            up = 1
            while above >= 0 and up <= most_up and (above >= there.size or not there[above]):
                above -= per_row
                up += 1
            if above < 0 or up > most_up or place >= there.size or place < 0:
                mean[i, n] = np.nan
                continue
            total = np.float32(0)
            for x in range(width):
                total += top[first + n, x] - bottom[above, x]
            middle = total / width
            rows_up[i, n] = up
            for c in range(others + 1):
                rise[i, n, c] = (rise_top[first + n, c] + rise_bottom[above, c]) / 2 * up
            apart = np.float32(0)
            for x in range(width):
                apart += abs(top[first + n, x] - bottom[above, x] - middle)
            mean[i, n] = middle
            shape[i, n] = apart / width
            for c in range(others):
                total = np.float32(0)
                for x in range(8):
                    total += colour_top[first + n, c, x] - colour_bottom[above, c, x]
                colour[i, n, c] = total / 8


def compare_above(edges: Edges, first: int, count: int, shifts: npt.NDArray[np.int64], per_row: int,
                  above: Edges, there: npt.NDArray[np.bool_],
                  most_up: int = MAX_UP) -> tuple[
                      Floats, Floats, Floats, npt.NDArray[np.int8], Floats]:
    """MCUs `first` to `first + count` of a chain against what stands above them in the picture, for
    each of `shifts` int64[s]: how far ahead of its number in the chain an MCU lies in the picture.

    `above`, `there`: edges of the picture so far, by MCU, and which of them are there; `most_up`:
    rows that are gone up for one that is there. Returns float32[s, n] of mean differences (nan
    where nothing is above), float32[s, n] of what is left beside it, and float32[s, n, components -
    1] of the other components' mean differences; grey levels; int8[s, n]: how many rows up that is.
    """
    size = (shifts.size, count)
    rows_up = np.zeros(size, np.int8)
    mean, shape = np.zeros(size, np.float32), np.zeros(size, np.float32)
    colour = np.zeros((*size, edges.colour_top.shape[1]), np.float32)
    rise = np.zeros((*size, edges.rise_top.shape[1]), np.float32)
    _compare(edges.top, edges.colour_top, edges.rise_top, first, count, shifts, per_row,
             above.bottom, above.colour_bottom, above.rise_bottom, there, most_up, mean, shape,
             colour, rows_up, rise)
    return mean, shape, colour, rows_up, rise
