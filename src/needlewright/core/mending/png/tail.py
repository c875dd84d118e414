"""The compressed rows of a PNG taken up again behind damage (RFC 1951; W3C PNG, third edition: 9).

A block of Deflate says by itself how its codes are made, so that decoding can begin at any; what
refers back to the lost part stays unknown, and so does every sample whose filter leans on one.
Where the stream comes to its own end, its last byte is that of the last row.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import numpy.typing as npt

from needlewright.core.kernels import deflate
from needlewright.core.kernels.png_rows import unfilter

FRAME_BYTES = 2  # of zlib, in front of the blocks (RFC 1950, 2.2)
MOST_STARTS = 64
FILTERS = 5

Values = npt.NDArray[np.int16]


def tail_of(data: bytes, begin: int | None, row: int, count: int, total: int,
            breathe: Callable[[], None]) -> Values | None:
    """What the end of the stream makes, int16[n] with n at most `total`, UNKNOWN where it refers to
    what is lost; None where its end is not reached. `row`: bytes of each of the last `count` rows;
    `begin`: byte behind which nothing is damaged, None where decoding itself must say it."""
    stream = np.frombuffer(data, np.uint8)
    if begin is None:
        _, bit, reason = deflate.follow(stream, 8 * FRAME_BYTES, total)
        if reason != deflate.WRONG:
            return None
    else:
        bit = 8 * begin
    for _ in range(MOST_STARTS):
        breathe()
        start = deflate.next_start(stream, bit)
        if start is None:
            return None
        found, end, reason = deflate.follow(stream, start, total)
        if reason == deflate.FINAL and _has_rows(found, row, count):
            return found
        bit = max(start + 1, end) if reason == deflate.WRONG else start + 1
    return None


def _has_rows(found: Values, row: int, count: int) -> bool:
    """Whether each of the last `count` rows, which end with it, has a filter that exists."""
    rows = min(count, found.size // row)
    return rows > 0 and int(found[found.size - rows * row :: row].max()) < FILTERS


def joined(head: bytes, tail: Values, total: int) -> Values:
    """int16[total]: what is known of all rows, still filtered."""
    values = np.full(total, deflate.UNKNOWN, np.int16)
    values[values.size - tail.size :] = tail
    values[: len(head)] = np.frombuffer(head, np.uint8)
    return values


def samples(values: Values, step: int, neutral: int) -> tuple[bytes, npt.NDArray[np.bool_]]:
    """(the rows unfiltered, each with filter type 0, `neutral` for what is lost; bool[height,
    bytes] what is not, where all of a pixel is there). `step`: bytes of a pixel."""
    found = unfilter(values, step)
    pixels = (found >= 0).reshape(found.shape[0], -1, step).all(axis=2)
    there: npt.NDArray[np.bool_] = pixels.repeat(step, axis=1)
    rows = np.zeros((found.shape[0], found.shape[1] + 1), np.uint8)
    rows[:, 1:] = np.where(there, found, neutral)
    return rows.tobytes(), there
