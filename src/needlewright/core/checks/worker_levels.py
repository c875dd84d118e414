"""Changes of level that a picture's own thumbnail does not show: the mark of bytes that were
changed in coded data which decodes to its end all the same.

DC values of JPEG are coded as differences (ITU-T T.81, F.1.2.1), so that one wrong value makes all
that follows brighter, darker or of another colour. Two witnesses must agree: the thumbnail, row by
row, and the picture itself, in which the MCUs of just one row of them differ by the same amount
from what stands above.
"""

from __future__ import annotations

import array
import io
import itertools
import statistics
from typing import Any

from PIL import Image

ROWS, LEAST_ROWS = 12, 6  # of the thumbnail, at either side of a step
STEP, BEYOND = 2.5, 5.0  # grey levels; times what rows usually differ by
MOST_TONE = 0.4  # grey levels by which a level may be told otherwise
NOISE = 0.2  # grey levels: no thumbnail is better
SHOWN, ELSEWHERE = 0.7, 0.4  # of the MCUs that show a step, behind it and around
APART = 3.0  # grey levels by which picture and thumbnail may tell a step otherwise
BESIDE = 2  # MCUs at either side, in which a step may be an edge of the picture
MOST = 6  # places that are looked at
MOST_PIXELS = 1 << 27
LEAST_MCUS = 24  # in a row

Box = tuple[float, float, float, float] | None
Step = tuple[int, tuple[float, float, float]]


def candidates(picture: Image.Image, small: Image.Image, crop: Box, box: Box) -> list[Step]:
    """[(row of the thumbnail, step of each channel in grey levels)] where `picture` (its part
    `crop`) becomes brighter than `small` (its part `box`) and stays so; the clearest first."""
    high = round(box[3] - box[1]) if box is not None else small.height
    ours, theirs = _means(picture, high, crop), _means(small, high, box)
    off = [[a - b for a, b in zip(one, other)] for one, other in zip(ours, theirs)]
    toned = [_without_tone(one, other) for one, other in zip(off, theirs)]
    # A camera that changes tones makes steps where the picture itself becomes brighter.
    plain = [_mean_steps(one) for one in off]
    means = [[_smaller(a, b) for a, b in zip(one, _mean_steps(other))]
             for one, other in zip(plain, toned)]
    count = high - 2 * LEAST_ROWS + 1
    if count < 2 * ROWS:
        return []
    bounds = [max(STEP, BEYOND * (statistics.median(map(abs, channel)) + NOISE))
              for channel in means]
    over = [max(abs(channel[i]) / bound for channel, bound in zip(means, bounds))
            for i in range(count)]
    found: list[Step] = []
    for index in sorted(range(count), key=lambda i: -over[i]):
        if over[index] <= 1 or len(found) == MOST:
            break
        row = index + LEAST_ROWS
        # No edge of the picture sways the median; the mean is largest just where the step is.
        middles = [_median_step(one, row) for one in off]
        sure = any(abs(_smaller(channel[index], middle)) > bound
                   for channel, middle, bound in zip(means, middles, bounds))
        if sure and all(abs(row - other) >= ROWS for other, _ in found):
            step = [_smaller(channel[index], middle) for channel, middle in zip(plain, middles)]
            found.append((row, (step[0], step[1], step[2])))
    return found


def _smaller(one: float, other: float) -> float:
    """The one nearer to 0; 0 where they are of different signs."""
    return min(one, other, key=abs) if one * other > 0 else 0.0


def _mean_steps(channel: list[float]) -> list[float]:
    """By how much the rows from each row on are brighter than those before it, on average."""
    sums = [0.0, *itertools.accumulate(channel)]
    steps = []
    for row in range(LEAST_ROWS, len(channel) - LEAST_ROWS + 1):
        low, high = max(0, row - ROWS), min(len(channel), row + ROWS)
        behind, before = sums[high] - sums[row], sums[row] - sums[low]
        steps.append(behind / (high - row) - before / (row - low))
    return steps


def _median_step(channel: list[float], row: int) -> float:
    return statistics.median(channel[row : row + ROWS]) - statistics.median(
        channel[max(0, row - ROWS) : row])


def _without_tone(off: list[float], theirs: list[float]) -> list[float]:
    """What of the differences does not go with how bright the rows are."""
    middle, level = statistics.fmean(off), statistics.fmean(theirs)
    spread = sum((value - level) ** 2 for value in theirs)
    if spread <= 0:
        return off
    slope = sum((a - middle) * (b - level) for a, b in zip(off, theirs)) / spread
    slope = max(-MOST_TONE, min(MOST_TONE, slope))
    return [a - slope * (b - level) for a, b in zip(off, theirs)]


def _means(picture: Image.Image, high: int, box: Box) -> list[list[float]]:
    """The mean of each of `high` rows, for each channel."""
    flat = picture if picture.mode == "RGB" else picture.convert("RGB")
    found = []
    for band in flat.split():
        column = band.convert("F").resize((1, high), Image.Resampling.BOX, box=box)
        found.append(list(array.array("f", column.tobytes())))
    return found


def first_shown(data: bytes, steps: list[Step], high: int, crop: Box, scale: float) -> int | None:
    """The first pixel row of the picture in the JPEG `data` at which it shows one of `steps`
    itself, along just one row of MCUs. `high`: rows of the thumbnail; `crop`: the part of the
    picture that it shows, in pixels of a picture that is smaller by `scale`."""
    import numpy as np

    with Image.open(io.BytesIO(data), formats=("JPEG",)) as picture:
        if picture.width * picture.height > MOST_PIXELS:
            return None
        layers: list[Any] = getattr(picture, "layer", [])
        across = 8 * max((layer[1] for layer in layers), default=1)
        down = 8 * max((layer[2] for layer in layers), default=1)
        pixels = np.asarray(picture.convert("RGB"))
    per_row = pixels.shape[1] // across
    if per_row < LEAST_MCUS:
        return None
    top, bottom = (crop[1] * scale, crop[3] * scale) if crop is not None else (0, pixels.shape[0])
    found: list[int] = []
    for row, step in steps:
        middle = top + row * (bottom - top) / high
        reach = 1.5 * (bottom - top) / high
        first = max(1, int((middle - reach) // down))
        last = min((pixels.shape[0] - 1) // down, int((middle + reach) // down) + 2)
        edges = np.arange(first, last) * down
        if edges.size < 2:
            continue
        rises = pixels[edges].astype(np.int16) - pixels[edges - 1]
        rises = rises[:, : per_row * across].reshape(edges.size * per_row, across, 3)
        shown = np.median(rises, axis=1)
        told = (np.abs(shown) - np.abs(shown - np.array(step))).sum(axis=1) > 0
        sums = np.concatenate(([0], np.cumsum(told)))
        room = sums.size - per_row
        inside = sums[per_row:] - sums[:room]
        start = int(np.argmax(inside))
        around = told.size - per_row
        elsewhere = (sums[-1] - inside[start]) / around
        column = start % per_row
        if min(column, per_row - column) <= BESIDE:
            continue  # a horizon may lie just between two rows of MCUs, and cameras change tones
        usual = np.median(shown[start : start + per_row], axis=0)
        if (np.abs(usual - step) > np.maximum(APART, 0.5 * np.abs(step))).any():
            continue  # a border of the picture itself, as that of a caption
        if inside[start] >= SHOWN * per_row and elsewhere <= ELSEWHERE:
            found.append(int(edges[start // per_row]))
    return min(found, default=None)
