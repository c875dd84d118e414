"""Clips by their index: MP4, MOV, 3GP, M4A (ISO/IEC 14496-12).

Once `moov` is there, place and size of every sample are known: see `clip_runs`. Where `moov` lies
behind its data, it is looked for where the data end, by sizes and phase.
"""

from __future__ import annotations

import numpy as np

from needlewright.core.errors import FormatError
from needlewright.core.sources.pieces import PiecedSource
from needlewright.core.stitching.base import Bench, Broken, Joined, Joiner, register
from needlewright.core.stitching.clip_runs import Clip, Run, placed, told
from needlewright.core.stitching.hand import Hand
from needlewright.core.stitching.index_hand import IndexHand
from needlewright.core.stitching.sample_index import ENOUGH, SampleIndex
from needlewright.core.stitching.structured import join_structured
from needlewright.core.stitching.structured_hand import structured_by_hand
from needlewright.core.structures.bmff import Box, top_level
from needlewright.core.structures.bmff_samples import read_tracks
from needlewright.core.structures.view import View

MAX_INDEX = 64 << 20
MAX_FILE = 1 << 41


def _join(broken: Broken, bench: Bench) -> Joined | None:
    pool = bench.pool
    first = pool.number(broken.start)
    found = _opened(bench, broken)
    if found is None:
        return join_structured(broken, bench)  # in fragments
    clip, stop = found
    head = Run(0, 0, first, 0, 0)
    clip.runs.insert(0, head)
    clip.index.learn(0, pool.read(np.array([first]))[0])
    clip.grow(head, stop)
    clip = placed(clip, stop)
    return told(clip) if len(clip.runs) > 1 else None


def _by_hand(broken: Broken, bench: Bench) -> Hand | None:
    found = _opened(bench, broken)
    if found is None:
        return structured_by_hand(broken, bench)
    return IndexHand(*found, head=(bench.pool.number(broken.start),))


def _opened(bench: Bench, broken: Broken) -> tuple[Clip, int] | None:
    """(the clip with what is placed of it, the cluster before which the rest lies); None where no
    index is to be had."""
    pool = bench.pool
    first = pool.number(broken.start)
    if pool.start(first) != broken.start or broken.start >= pool.source.size:
        return None
    room = pool.source.size - pool.start(first)
    straight = PiecedSource(pool.source, ((pool.start(first), room),))
    view = View(straight, 0, room)
    data: Box | None = None
    try:
        for box in top_level(view, 0):
            if box.name == b"moov":
                tracks = read_tracks(view, box, 0)
                index = SampleIndex(tracks, pool.unit)
                if not index.offsets.size:
                    return None
                end = max(index.end, box.stop)
                return Clip(bench, index, end, []), -(-end // pool.unit)
            if box.name == b"mdat":
                data = box
                break
    except FormatError:
        return None
    if data is None or data.open_ended or data.stop > MAX_FILE:
        return None
    return _with_far_index(bench, first, data)


def _with_far_index(bench: Bench, first: int, data: Box) -> tuple[Clip, int] | None:
    """The clip whose `moov` lies behind its data, wherever that is."""
    pool, unit = bench.pool, bench.pool.unit
    cluster, inside = divmod(data.stop, unit)
    best: tuple[Clip, int] | None = None
    numbers = np.array([n for n, at in pool.marks(b"moov", 4) if at == inside], np.int64)
    numbers = numbers[np.argsort(np.abs(numbers - first - cluster), kind="stable")]
    for number in numbers.tolist():
        bench.rest()
        run = max(1, pool.run(number, MAX_INDEX // unit))
        thread = PiecedSource(pool.source, (
            (pool.start(first), unit), (None, max(0, cluster - 1) * unit),
            (pool.start(number), run * unit)))
        if cluster == 0:
            continue
        view = View(thread, 0, max(thread.size, data.stop + unit))
        try:
            box = next(iter(top_level(view, data.stop)), None)
            if box is None or box.name != b"moov" or box.stop > thread.size:
                continue
            index = SampleIndex(read_tracks(view, box, 0), unit)
        except FormatError:
            continue
        if not index.offsets.size or index.end > data.stop or index.offsets[0] < data.body:
            continue
        if data.stop - index.end > unit and best is not None:
            continue
        stop = box.stop
        for more in top_level(view, box.stop):
            if more.name not in (b"free", b"skip", b"udta", b"uuid", b"meta") or (
                    more.stop > thread.size):
                break
            stop = more.stop
        last = -(-stop // unit) - 1
        clip = Clip(bench, index, stop, [Run(cluster, last, number, cluster, last, ENOUGH)])
        best = clip, cluster
        if index.end == data.stop:
            break
    return best


register(Joiner("indexed", frozenset(("mp4", "mov", "m4v", "3gp", "m4a")), _join, order=-1,
                by_hand=_by_hand))
