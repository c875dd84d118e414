"""A clip's index that lies in two pieces itself: `moov` (ISO/IEC 14496-12, 8.2.1), big-endian.

Its boxes say where the next one begins, so that a piece behind the seam must have one there.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from needlewright.core.sources.pieces import PiecedSource
from needlewright.core.sources.source import Source
from needlewright.core.stitching.base import Bench, Extents
from needlewright.core.stitching.clips.sample_index import SampleIndex

MAX_INDEX = 64 << 20
NEAR, EVERYWHERE = 4096, 1 << 40
MAX_BOXES = 4096
WORK = 1 << 30  # for one index and round
INDEX_WORK, PEEK_WORK = 64, 1 << 10  # of a byte of an index that is read; of a look at a cluster
MAX_CUTS, MAX_TRIED = 64, 96  # cluster boundaries; second pieces for one of them
OUTER = (b"moov", b"trak", b"mdia", b"minf", b"stbl", b"dinf", b"edts", b"mvex")
LARGEST = 1 << 24  # bytes of a box inside
NAMES = frozenset(b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789 -_.\xa9")


@dataclass(frozen=True, slots=True)
class SplitIndex:
    """`stop`: the byte behind the box; the clusters `first` to `cut - 1` of the file are in the
    first piece, those to `last` stand in line from the pool's cluster `begin` on."""

    index: SampleIndex
    stop: int
    cut: int
    last: int
    begin: int


def in_two(bench: Bench, before: Extents, first: int, number: int, box_at: int,
           sound: Callable[[PiecedSource], SampleIndex | None]) -> SplitIndex | None:
    """The index whose box begins at byte `box_at` of the file, in its cluster `first`, which is the
    pool's `number`; None where no second piece fits. `before`: what lies before that cluster;
    `sound`: the index of a thread, where it makes sense."""
    pool, unit = bench.pool, bench.pool.unit
    here = pool.run(number, MAX_INDEX // unit)
    straight = PiecedSource(pool.source, (*before, (pool.start(number), max(1, here) * unit)))
    size = int.from_bytes(straight.read_at(box_at, 4), "big")
    stop = box_at + size
    last = (stop - 1) // unit
    if not 16 <= size <= MAX_INDEX or last <= first:
        return None
    item, bad = broken_at(straight, box_at, stop)
    cuts = [c for c in range(min(bad // unit, last), max(first, item // unit), -1)
            if c - first <= here][:MAX_CUTS]
    until = bench.until(WORK)
    near = pool.nearest(number, NEAR if bench.effort == 0 else EVERYWHERE)
    for cut in cuts:
        bench.rest()
        begins = near
        if bad < stop:
            bench.spend(near.size * PEEK_WORK)
            rows = pool.peek(near, bad - cut * unit, 8)
            begins = near[_box_there(rows)]
        far = np.where(begins > number, begins - number, 2 * (number - begins))
        for begin in begins[np.argsort(far, kind="stable")][:MAX_TRIED].tolist():
            bench.rest()
            if bench.beyond(until):
                return None
            if begin == number + cut - first or pool.run(begin, last - cut + 1) <= last - cut:
                continue
            bench.spend(size * INDEX_WORK)
            index = sound(PiecedSource(pool.source, (
                *before, (pool.start(number), (cut - first) * unit),
                (pool.start(begin), (last - cut + 1) * unit))))
            if index is not None:
                return SplitIndex(index, stop, cut, last, begin)
    return None


def broken_at(file: Source, at: int, stop: int) -> tuple[int, int]:
    """(the last box that says where the next one begins, that byte, where none is; or `stop`)."""
    item = at
    for _ in range(MAX_BOXES):
        head = file.read_at(at, 8)
        size = int.from_bytes(head[:4], "big")
        inner = head[4:] in OUTER
        if len(head) < 8 or at + 8 > stop or not 8 <= size <= stop - at or not all(
                c in NAMES for c in head[4:]):
            return item, min(at, stop)
        item, at = at, at + (8 if inner else size)
        if at >= stop:
            break
    return item, stop


def _box_there(rows: npt.NDArray[np.uint8]) -> npt.NDArray[np.bool_]:
    """bool[n]: whether a box may begin with each of uint8[n, 8]."""
    size = rows[:, :4].astype(np.int64) @ np.array([1 << 24, 1 << 16, 1 << 8, 1])
    return np.asarray(np.isin(rows[:, 4:], list(NAMES)).all(axis=1) & (size >= 8)
                      & (size <= LARGEST))
