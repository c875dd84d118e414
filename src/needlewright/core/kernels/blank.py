"""Stretches that hold one value only, told eight bytes at a time."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from numba import njit


def as_words(data: npt.NDArray[np.uint8]) -> npt.NDArray[np.uint64]:
    """The whole eight-byte words of `data` uint8[n], uint64[n // 8], without a copy."""
    return data[: data.size // 8 * 8].view(np.uint64)


@njit(cache=True, nogil=True)
def is_blank(data, words, start, stop):
    """Whether data[start:stop] holds one value only; `start` is a multiple of 8."""
    value = data[start]
    if data[stop - 1] != value or data[start + ((stop - start) >> 1)] != value:
        return False
    # Slices start at zero: an index that cannot be negative lets the loop vectorise.
    whole = words[start >> 3 : stop >> 3]
    if whole.size > 0:
        word = whole[0]
        apart = np.uint64(0)
        for w in range(whole.size):
            apart |= whole[w] ^ word
        if apart != 0:
            return False
    rest = data[(stop >> 3) << 3 : stop] if whole.size > 0 else data[start:stop]
    apart = np.uint64(0)
    for i in range(rest.size):
        apart |= np.uint64(rest[i] ^ value)
    for i in range(min(8, stop - start)):
        apart |= np.uint64(data[start + i] ^ value)
    return apart == 0
