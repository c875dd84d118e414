"""How well the rows of blocks in a decoded JPEG continue each other.

Foreign coded data often decodes; what it decodes to does not join the row above. Each block's top
and bottom edge is extrapolated from its DC and first two vertical AC coefficients (T.81 A.3.3, at
y = -0.5 and 7.5), and the jump from row to row is set against the jumps in the row above.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from numba import njit

ROOT2 = np.float32(1.4142135)
SMOOTHING = 3  # MCUs on either side that make up the local scale
FLOOR = np.float32(1.5)  # grey levels: jumps below this mean nothing

# Log-likelihood ratios of 'does not belong' for jumps of so many times the local scale, rounded
# from splices of drawn and photographed pictures; the middle class speaks slightly against.
STEPS = np.array([1.5, 3.0, 8.0], np.float32)
RATIOS = np.array([-0.25, -0.2, 1.5, 3.0], np.float32)


@njit(cache=True, nogil=True)
def _scores(dc, edge1, edge2, quantisers, high, wide, mcus, scores):
    rows, columns = dc.shape
    mcu_rows, per_row = rows // high, columns // wide
    q0, q1, q2 = quantisers[0], quantisers[1] * ROOT2, quantisers[2] * ROOT2
    scale = np.zeros(per_row, np.float32)
    smooth = np.zeros(per_row, np.float32)
    jump = np.zeros(per_row, np.float32)
    bottom = np.zeros(columns, np.float32)  # edges of the blocks above
    apart = np.zeros(columns, np.float32)
    for r in range(mcu_rows):
        scale[:] = 0
        jump[:] = 0
        for y in range(high):
            row = r * high + y
            for c in range(columns):
                middle = dc[row, c] * q0 + edge2[row, c] * q2
                slope = edge1[row, c] * q1
                apart[c] = abs(middle + slope - bottom[c]) * np.float32(0.125)
                bottom[c] = middle - slope
            if row == 0:
                continue
            for m in range(per_row):
                total = np.float32(0)
                for x in range(wide):
                    total += apart[m * wide + x]
                scale[m] += total / wide
                if y == 0:
                    jump[m] = total / wide
        for m in range(per_row):
            index = r * per_row + m
            if index >= mcus:
                return
            score = RATIOS[0]
            if r > 1:
                ratio = jump[m] / (smooth[m] + FLOOR)
                if ratio > STEPS[2]:
                    score = RATIOS[3]
                elif ratio > STEPS[1]:
                    score = RATIOS[2]
                elif ratio > STEPS[0]:
                    score = RATIOS[1]
            scores[index] = score
        for m in range(per_row):
            low, top_m = max(0, m - SMOOTHING), min(per_row, m + SMOOTHING + 1)
            total = np.float32(0)
            for i in range(low, top_m):
                total += scale[i]
            smooth[m] = total / (high * (top_m - low))


def edge_scores(
    dc: npt.NDArray[np.int16], edge1: npt.NDArray[np.int16], edge2: npt.NDArray[np.int16],
    quantisers: tuple[int, int, int], mcu_height: int, mcu_width: int, mcus: int,
) -> npt.NDArray[np.float32]:
    """For each of the first `mcus` MCUs, how much its upper edge speaks for foreign data.

    `dc`, `edge1`, `edge2`: int16[block rows, block columns] of quantised coefficients (0,0), (1,0),
    (2,0); `quantisers`: their divisors; an MCU is `mcu_height` x `mcu_width` blocks. Returns
    float32[mcus] of log-likelihood ratios, RATIOS[0] to RATIOS[-1].
    """
    if dc.shape != edge1.shape or dc.shape != edge2.shape or dc.ndim != 2:
        raise TypeError("the three grids must have one shape")
    scores = np.full(mcus, RATIOS[0], np.float32)
    _scores(dc, edge1, edge2, np.array(quantisers, np.float32), mcu_height, mcu_width, mcus, scores)
    return scores


def strongest_run(scores: npt.NDArray[np.float32]) -> tuple[int, int, float]:
    """(start, stop, sum) of the stretch with the largest sum; (0, 0, 0.0) when none is positive."""
    start, stop, weight = _strongest(scores)
    return int(start), int(stop), float(weight)


@njit(cache=True, nogil=True)
def _strongest(scores):
    total = lowest = most = 0.0
    low_at = start = stop = 0
    for index in range(scores.size):
        total += np.float64(scores[index])
        if total - lowest > most:
            start, stop, most = low_at, index + 1, total - lowest
        if total < lowest:
            lowest, low_at = total, index + 1
    return start, stop, most
