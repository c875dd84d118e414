"""A TIFF into which bytes were put, or of which some are missing, with its directory behind them:
all places behind the damage are off by as much as the directory is. The file with that put right.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from needlewright.core.formats import tiff_strips
from needlewright.core.mending import plain_rows
from needlewright.core.mending.tiff import strips
from needlewright.core.mending.tiff.finding import Place
from needlewright.core.sources.memory import MemorySource
from needlewright.core.structures.tiff import ORDERS, Directory, Tiff

HEAD = 8
MOST_MOVED = 1 << 26  # bytes
Reads = Callable[[MemorySource], Tiff | None]
Decodes = Callable[[Tiff, Directory, int, tuple[int, int], int], bool]


def put_back(data: bytes, found: list[Place], read: Reads, decodes: Decodes) -> tuple[
        bytes, int, int] | None:
    """(the file with all in its place, byte at which it was put right, bytes that were put in,
    below 0: taken out); None where the header does not point near a directory that was `found`."""
    order = ORDERS.get(data[:4])
    if order is None or order[1]:
        return None
    stated = int.from_bytes(data[4:8], "little" if order[0] == "little" else "big")
    by = next((p.at - stated for p in found if (p.order == "<") == (order[0] == "little")), 0)
    if not by or abs(by) > MOST_MOVED or stated < HEAD:
        return None
    tiff = read(MemorySource(_with(data, HEAD, by)))
    last = max((stop for _, stop in tiff.spans), default=0) if tiff is not None else 0
    if not HEAD < last <= stated:
        return None
    # With only what stands behind the picture put back, all strips are where they were.
    tiff = read(MemorySource(_with(data, last + min(0, by), by)))
    if tiff is None:
        return None
    place = _place(data, tiff, by, last, decodes)
    return _with(data, place, by), place, -by


def _with(data: bytes, at: int, by: int) -> bytes:
    """Everything from `at` on `by` bytes nearer, or farther on where that is below 0."""
    return data[:at] + data[at + by :] if by > 0 else data[:at] + bytes(-by) + data[at:]


def _place(data: bytes, tiff: Tiff, by: int, last: int, decodes: Decodes) -> int:
    """Where the damage begins: at the first strip that does not decode where it should lie, or
    where rows of plain samples begin to be displaced; `last`: behind all strips."""
    for directory in tiff.directories:
        starts, sizes = tiff.values(directory, 0x111), tiff.values(directory, 0x117)
        coding = tiff.value(directory, tiff_strips.CODING) or strips.PLAIN
        if not starts or len(starts) != len(sizes):
            continue
        if coding == strips.PLAIN:
            first, stop = min(starts), max(map(sum, zip(starts, sizes)))
            region = np.frombuffer(data, np.uint8)[first : max(first, stop + by)]
            bits = tiff.values(directory, tiff_strips.BITS) or [1]
            row = tiff_strips.row_bytes(tiff, directory)
            found = plain_rows.displaced_from(region, row, max(1, sum(bits) // 8), by) if (
                row) else None
            if found is not None:
                return first + found
        for index, span in enumerate(zip(starts, sizes)):
            if not decodes(tiff, directory, index, span, coding):
                return max(HEAD, span[0])
    return last + min(0, by)
