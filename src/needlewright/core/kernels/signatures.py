"""Search for signatures at sector boundaries: one pass for all formats.

A bitmap of first bytes rejects nearly every sector with one load, so the pass costs what the
reading costs.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from numba import njit

MAX_MAGIC = 16  # bytes; longer signatures are cut, the format's own `accept` looks at the rest


@dataclass(frozen=True, slots=True)
class SignatureTable:
    """Signatures as arrays: `magic` uint8[s, 16], `length` and `at` int64[s], `first` bool[256]."""

    magic: npt.NDArray[np.uint8]
    length: npt.NDArray[np.int64]
    at: npt.NDArray[np.int64]
    distinct_at: npt.NDArray[np.int64]
    first: npt.NDArray[np.bool_]


def build_table(signatures: Sequence[tuple[bytes, int]]) -> SignatureTable:
    """A table for (magic, offset of the magic from the file's start) pairs.

    Raises ValueError for an empty magic or one that starts outside its sector.
    """
    count = len(signatures)
    magic = np.zeros((count, MAX_MAGIC), np.uint8)
    length = np.zeros(count, np.int64)
    at = np.zeros(count, np.int64)
    for index, (text, offset) in enumerate(signatures):
        if not text or offset < 0 or offset + len(text) > 512:
            raise ValueError(f"signature {text!r} at {offset} does not fit into a sector")
        cut = text[:MAX_MAGIC]
        magic[index, : len(cut)] = np.frombuffer(cut, np.uint8)
        length[index], at[index] = len(cut), offset
    distinct = np.unique(at)
    first = np.zeros((len(distinct), 256), np.bool_)
    for index in range(count):
        first[np.searchsorted(distinct, at[index]), magic[index, 0]] = True
    return SignatureTable(magic, length, at, distinct, first)


@njit(cache=True, nogil=True)
def _find(data, step, magic, length, at, distinct_at, first, offsets, which):
    found = 0
    last = data.size
    for start in range(0, last, step):
        for group in range(distinct_at.size):
            anchor = start + distinct_at[group]
            if anchor >= last or not first[group, data[anchor]]:
                continue
            for s in range(length.size):
                if at[s] != distinct_at[group] or anchor + length[s] > last:
                    continue
                same = True
                for i in range(length[s]):
                    if data[anchor + i] != magic[s, i]:
                        same = False
                        break
                if same and found < offsets.size:
                    offsets[found] = start
                    which[found] = s
                    found += 1
    return found


def find_signatures(
    data: npt.NDArray[np.uint8], step: int, table: SignatureTable
) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.int64]]:
    """(offsets, signature indices) of all matches at multiples of `step` bytes in `data` uint8[n].

    Offsets are bytes from the start of `data`, ascending; equal offsets in table order.
    """
    if data.dtype != np.uint8 or data.ndim != 1:
        raise TypeError(f"need uint8[n], got {data.dtype}{data.shape}")
    room = (data.size // step + 1) * max(1, len(table.length))
    offsets = np.empty(room, np.int64)
    which = np.empty(room, np.int64)
    count = _find(
        data, step, table.magic, table.length, table.at, table.distinct_at, table.first,
        offsets, which,
    )
    return offsets[:count], which[:count]
