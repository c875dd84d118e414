"""What a medium looks like, 4 KiB at a time: blank, text, structured, JPEG, compressed, random.

A class is a hint for the eye and for stitching, never a check: short stretches of well compressed
data cannot be told from random ones for certain.
"""

from __future__ import annotations

from enum import IntEnum

import numpy as np
import numpy.typing as npt
from numba import njit

from needlewright.core.kernels.blank import as_words, is_blank
from needlewright.core.kernels.foreign import TEXT_TABLE
from needlewright.core.kernels.steady import read_only

BLOCK_BYTES = 4096

# The histogram is taken of every other byte, 2,048 in all. Uniform data then has a chi-square of
# 255, give or take 23; video and deflated data mostly lie above 330.
RANDOM_BELOW = 330.0
COMPRESSED_BELOW = 2600.0  # about 7 bits a byte


class Texture(IntEnum):
    """The class of one block; `UNSEEN` where nothing has been read yet."""

    UNSEEN = 0
    BLANK = 1
    TEXT = 2
    STRUCTURED = 3
    JPEG = 4
    COMPRESSED = 5
    RANDOM = 6


@njit(cache=True, nogil=True)
def _is_jpeg(data, start, stop):
    """Whether every FF is stuffed or a restart marker, and there are some; ends at the first that
    is neither, which in other data comes soon."""
    stuffed = 0
    for i in range(start, stop - 1):
        if data[i] == 255:
            following = data[i + 1]
            if following == 0:
                stuffed += 1
            elif following & 0xF8 != 0xD0:
                return False
    return stuffed >= 4


@njit(cache=True, nogil=True)
def _classify(data, words, text, classes):
    first = np.zeros(256, np.int32)
    second = np.zeros(256, np.int32)
    third = np.zeros(256, np.int32)
    fourth = np.zeros(256, np.int32)
    for b in range(classes.size):
        start = b * 4096
        stop = min(start + 4096, data.size)
        if is_blank(data, words, start, stop):
            classes[b] = 1
            continue
        first[:] = 0
        second[:] = 0
        third[:] = 0
        fourth[:] = 0
        eights = (stop - start) // 8
        for k in range(eights):
            i = start + 8 * k
            first[data[i]] += 1
            second[data[i + 2]] += 1
            third[data[i + 4]] += 1
            fourth[data[i + 6]] += 1
        sampled = 4 * eights
        if sampled == 0:
            classes[b] = 3
            continue
        readable = 0
        squares = np.int64(0)
        for v in range(256):
            c = np.int64(first[v] + second[v] + third[v] + fourth[v])
            squares += c * c
            readable += c * text[v]
        if readable >= 0.95 * sampled:
            classes[b] = 2
            continue
        chi = 256.0 * squares / sampled - sampled
        if chi >= COMPRESSED_BELOW:
            classes[b] = 3
        elif _is_jpeg(data, start, stop):
            classes[b] = 4
        elif chi < RANDOM_BELOW:
            classes[b] = 6
        else:
            classes[b] = 5


def classify(data: npt.NDArray[np.uint8]) -> npt.NDArray[np.uint8]:
    """uint8[blocks]: the `Texture` of each 4 KiB of `data` uint8[n]; the last may be shorter."""
    data = read_only(data)
    if data.dtype != np.uint8 or data.ndim != 1:
        raise TypeError(f"need uint8[n], got {data.dtype}{data.shape}")
    classes = np.zeros(-(-data.size // BLOCK_BYTES), np.uint8)
    _classify(data, as_words(data), TEXT_TABLE, classes)
    return classes


@njit(cache=True, nogil=True)
def _dominating(classes, starts, stops, found):
    for group in range(found.size):
        counts = np.zeros(7, np.int64)
        for i in range(starts[group], min(stops[group], classes.size)):
            counts[classes[i] if classes[i] < 7 else 0] += 1
        best = 0
        for kind in range(1, 7):  # unseen ones do not count
            if counts[kind] > 0 and (best == 0 or counts[kind] > counts[best]):
                best = kind
        found[group] = best


def dominating(classes: npt.NDArray[np.uint8], starts: npt.NDArray[np.int64],
               stops: npt.NDArray[np.int64]) -> npt.NDArray[np.uint8]:
    """uint8[groups]: the class that most of `classes` uint8[n] from `starts` to `stops` have, int64
    [groups] each; UNSEEN where none has been seen. Indices behind the end are unseen."""
    if starts.shape != stops.shape or (starts.size and starts.min() < 0):
        raise ValueError("groups begin and end somewhere each")
    found = np.zeros(starts.size, np.uint8)
    _dominating(read_only(classes), starts, stops, found)
    return found
