"""Sectors in uncompressed samples that do not continue their surroundings.

Neighbouring samples of pictures and sound resemble each other; those of compressed or random data
do not. For each sector the mean step between neighbours is measured; a run of sectors is foreign
where it steps far wider than what lies before and behind it.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from numba import njit

WIDE_STEP = 40.0  # random bytes are 64 apart on average, noisy photographs less than 25
TIMES_WIDER = 3.0


@njit(cache=True, nogil=True)
def _steps(data, sector, pixel, width, big, steps):
    """Mean step of the high bytes the short way round, which serves signed samples as well."""
    for s in range(steps.size):
        start = s * sector
        stop = min(start + sector, data.size)
        total = np.int64(0)
        count = np.int64(0)
        begin = start + pixel
        if width == 2:
            # the high byte of each sample
            begin += (begin + (0 if big else 1)) & 1
        for i in range(begin, stop, width):
            apart = (np.int64(data[i]) - np.int64(data[i - pixel])) & 255
            total += apart if apart < 128 else 256 - apart
            count += 1
        steps[s] = total / count if count else 0.0


def mean_steps(data: npt.NDArray[np.uint8], sector: int, pixel_bytes: int, sample_bytes: int = 1,
               big_endian: bool = False) -> npt.NDArray[np.float64]:
    """float64[sectors]: mean step between samples `pixel_bytes` apart, in units of the high byte.

    `data` uint8[n] begins at a sector boundary of the file; `sample_bytes` is 1 or 2.
    """
    if data.dtype != np.uint8 or data.ndim != 1:
        raise TypeError(f"need uint8[n], got {data.dtype}{data.shape}")
    steps = np.zeros(-(-data.size // sector), np.float64)
    _steps(data, sector, pixel_bytes, sample_bytes, big_endian, steps)
    return steps


def foreign_run(steps: npt.NDArray[np.float64]) -> tuple[int, int] | None:
    """(first, stop) of the first run of sectors that step far wider than the rest, or None.

    Noisy content steps wide all over, and then nothing is told.
    """
    if steps.size < 4:
        return None
    usual = float(np.median(steps))
    wide = steps > max(WIDE_STEP, usual * TIMES_WIDER)
    if not wide.any() or wide.mean() > 0.5:
        return None
    first = int(np.argmax(wide))
    stop = first
    while stop < wide.size and wide[stop]:
        stop += 1
    before = float(steps[first - 1]) if first else usual
    behind = float(steps[stop]) if stop < steps.size else usual
    sharp = steps[first] > TIMES_WIDER * max(before, 1.0) or (
        steps[stop - 1] > TIMES_WIDER * max(behind, 1.0))
    return (first, stop) if sharp else None
