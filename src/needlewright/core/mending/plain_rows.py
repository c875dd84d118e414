"""Rows of plain samples of which bytes are missing, or into which foreign ones were put: from where
on all the rest is displaced.

The right border of a picture rarely goes on into the left one: where rows begin, samples step. And
just one row, that in which the damage lies, does not continue the one above.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

LEAST_ROWS = 8
CLEARLY, ORDINARY = 1.8, 1.5  # times what steps at any other place in a row
PHASES = 48  # other places that are looked at
NEAR = 6  # rows in which the damage lies
MOST_BYTES = 1 << 28
LOOKED_AT = 1 << 22  # bytes by which a length of rows is told
BESIDE = 1.05  # times by which rows beside the right length must be less alike

Bytes = npt.NDArray[np.uint8]


def displaced_from(data: Bytes, row: int, pixel: int, by: int) -> int | None:
    """The byte of uint8[n] `data` from which on everything lies `by` bytes too far on (below 0: too
    near); None where nothing shows that, as it does not where these are whole rows.

    `row`, `pixel`: bytes of a row, and of a pixel."""
    count = data.size // row - 1
    if by % row == 0 or count < 2 * LEAST_ROWS or not pixel <= row or data.size > MOST_BYTES:
        return None
    begins = np.arange(1, count) * row
    steps = _steps(data, begins, pixel)
    moved = _steps(data, np.minimum(begins + by % row, data.size - pixel), pixel)
    told = steps.astype(np.float64) - moved
    before = np.concatenate(([0.0], np.cumsum(told)))
    behind = np.concatenate((np.cumsum(-told[::-1])[::-1], [0.0]))
    place = int(np.argmax(before + behind))
    if told.size - place < LEAST_ROWS:
        return None
    others = [_steps(data, np.minimum(begins[place:] + phase, data.size - pixel), pixel).mean()
              for phase in range(pixel * 3, row, max(pixel, row // PHASES // pixel * pixel))]
    usual = float(np.median(others)) + 1
    if moved[place:].mean() < CLEARLY * usual or steps[place:].mean() > ORDINARY * usual:
        return None
    return _within(data, row, place, max(0, by))


def merged(runs: list[tuple[int, int]]) -> list[tuple[int, int]]:
    """Runs of rows in order, those that touch as one."""
    found: list[tuple[int, int]] = []
    for start, stop in sorted(runs):
        if found and start <= found[-1][1]:
            found[-1] = found[-1][0], max(found[-1][1], stop)
        else:
            found.append((start, stop))
    return found


def continue_each_other(data: Bytes, row: int, pixel: int) -> bool:
    """Whether uint8[n] `data` is rows of `row` bytes: pixels are more like those just above them
    than like those anywhere else in that row."""
    count = min(data.size, LOOKED_AT) // row * row
    if count < LEAST_ROWS * row or not pixel <= row:
        return False
    part = data[:count].astype(np.int16)
    apart = {lag: float(np.abs(part[lag:] - part[:-lag]).mean())
             for lag in (row, *(row + pixel * off for off in (-9, -5, -3, 3, 5, 9)))
             if 0 < lag < count}
    if apart[row] == 0:
        return False  # one colour: rows of any length
    return all(apart[row] * BESIDE < value for lag, value in apart.items() if lag != row)


def _steps(data: Bytes, places: npt.NDArray[np.int64], pixel: int) -> npt.NDArray[np.int64]:
    """How much the pixel at each place differs from the one before it."""
    found = np.zeros(places.size, np.int64)
    for index in range(pixel):
        found += np.abs(data[places + index].astype(np.int64) - data[places + index - pixel])
    return found


def _within(data: Bytes, row: int, place: int, foreign: int) -> int:
    """The byte from which on, for `foreign` bytes and one row, samples do not continue those
    above."""
    rows = NEAR + -(-foreign // row)
    first = max(row, (place - rows) * row)
    stop = min(data.size, (place + rows) * row)
    apart = np.abs(data[first:stop].astype(np.int16) - data[first - row : stop - row])
    sums = np.concatenate(([0], np.cumsum(apart, dtype=np.int64)))
    span = min(row + foreign, apart.size)
    return first + int(np.argmax(sums[span:] - sums[:-span]))
