"""Stretches of coded data that stand twice, one behind the other: copied again when the file was
written.

Eight equal bytes at one distance, many times over, are no chance in coded data.
"""

from __future__ import annotations

from collections import Counter

import numpy as np
import numpy.typing as npt

STEP = 64  # bytes between the places that are looked for elsewhere
LEAST = 256  # bytes that must stand twice
MOST_MATCHES = 200_000


def doubled(raw: npt.NDArray[np.uint8]) -> tuple[int, int] | None:
    """(start, stop) of the second of two equal stretches of `raw` uint8[n] that follow one
    another; None where none do."""
    if raw.size < 4 * LEAST:
        return None
    views = np.lib.stride_tricks.sliding_window_view(raw, 8)
    every = np.ascontiguousarray(views).view(np.uint64).ravel()
    places = np.arange(0, every.size, STEP)
    keys = every[places]
    uneven = raw[places] != raw[places + 7]
    places, keys = places[uneven], keys[uneven]
    if not keys.size:
        return None
    order = np.argsort(keys, kind="stable")
    keys, places = keys[order], places[order]
    found = np.searchsorted(keys, every)
    found[found >= keys.size] = 0
    hits = np.flatnonzero(keys[found] == every)[:MOST_MATCHES]
    lags = hits - places[found[hits]]
    count = Counter(lags[lags > 0].tolist())
    for lag, times in count.most_common(3):
        if times < LEAST // STEP:
            break
        same = np.concatenate(([False], raw[lag:] == raw[:-lag], [False]))
        edges = np.flatnonzero(same[1:] != same[:-1])
        starts, stops = edges[::2], edges[1::2]
        longest = int(np.argmax(stops - starts))
        start, stop = int(starts[longest]), int(stops[longest])
        if stop - start >= max(LEAST, lag):
            return start + lag, start + 2 * lag
    return None
