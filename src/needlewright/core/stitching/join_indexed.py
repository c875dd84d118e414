"""Clips by their index: MP4, MOV, 3GP, M4A (ISO/IEC 14496-12).

Once `moov` is there, place and size of every sample are known: see `clip_runs`. Where `moov` lies
behind its data, it is looked for where the data end, by sizes and phase.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from needlewright.core.errors import FormatError
from needlewright.core.sources.pieces import PiecedSource
from needlewright.core.stitching.base import Bench, Broken, Joined, Joiner, register
from needlewright.core.stitching.chained.structured import join_structured
from needlewright.core.stitching.chained.structured_hand import structured_by_hand
from needlewright.core.stitching.clips.clip_runs import Clip, Run, as_long_as_the_medium, placed
from needlewright.core.stitching.clips.clip_seams import told
from needlewright.core.stitching.clips.fragments_index import in_fragments
from needlewright.core.stitching.clips.index_hand import IndexHand
from needlewright.core.stitching.clips.moov_pieces import broken_at, in_two
from needlewright.core.stitching.clips.sample_index import ENOUGH, SampleIndex
from needlewright.core.stitching.hand import Hand
from needlewright.core.structures.bmff import Box, top_level
from needlewright.core.structures.bmff_samples import read_tracks
from needlewright.core.structures.view import View

MAX_INDEX = 64 << 20
MAX_SPLIT = 16  # beginnings of an index that are tried as its first piece


def _join(broken: Broken, bench: Bench) -> Joined | None:
    pool = bench.pool
    first = pool.number(broken.start)
    found = _opened(bench, broken)
    if found is None:
        clip = in_fragments(bench, first) if pool.start(first) == broken.start else None
        joined = None if clip is None else told(clip)
        return joined if joined is not None and joined.ended else join_structured(broken, bench)
    clip, stop, known = found
    if not known:
        clip.runs.insert(0, Run(0, 0, first, 0, 0))
        clip.index.learn(0, pool.read(np.array([first]))[0])
        known = 1
    clip.grow(clip.runs[known - 1], stop)
    clip = placed(clip, stop, known)
    return told(clip) if len(clip.runs) > 1 else None


def _by_hand(broken: Broken, bench: Bench) -> Hand | None:
    found = _opened(bench, broken)
    if found is None:
        return structured_by_hand(broken, bench)
    clip, stop, known = found
    if known or len(clip.runs) > 1:
        return structured_by_hand(broken, bench)  # its index is in pieces itself
    return IndexHand(clip, stop, (bench.pool.number(broken.start),))


def _opened(bench: Bench, broken: Broken) -> tuple[Clip, int, int] | None:
    """(the clip with what is placed of it, the cluster before which the rest lies, how many of its
    runs stand at its beginning); None where no index is to be had."""
    pool = bench.pool
    first = pool.number(broken.start)
    if pool.start(first) != broken.start or broken.start >= pool.source.size:
        return None
    view = as_long_as_the_medium(pool.source, ((broken.start, pool.source.size - broken.start),))
    data: Box | None = None
    try:
        for box in top_level(view, 0):
            if box.name == b"moov":
                return _with_near_index(bench, view, box, first)
            if box.name == b"mdat":
                data = box
                break
    except FormatError:
        return None
    if data is None or data.open_ended or data.stop > pool.source.size:
        return None
    return _with_far_index(bench, first, data)


def _with_near_index(bench: Bench, view: View, box: Box, first: int) -> (
        tuple[Clip, int, int] | None):
    """The clip whose `moov` stands in front of its data."""
    unit, beginning = bench.pool.unit, box.start
    index = _index_in(view, box, unit)
    if index is not None and index.offsets.size and index.offsets[0] >= box.stop:
        end = max(index.end, box.stop)
        if end > bench.pool.source.size:
            return None  # more than there is on the medium
        return Clip(bench, index, end, []), -(-end // unit), 0

    def sound(thread: PiecedSource) -> SampleIndex | None:
        found = _index_at(thread, beginning, unit)
        fits = found is not None and found.offsets.size and found.offsets[0] >= box.stop
        return found if fits else None

    split = in_two(bench, (), 0, first, beginning, sound)
    if split is None or beginning >= unit:
        return None
    end = max(split.index.end, split.stop)
    if end > bench.pool.source.size:
        return None
    return Clip(bench, split.index, end, [
        Run(0, split.cut - 1, first, 0, split.cut - 1),
        Run(split.cut, split.last, split.begin, split.cut, split.last, ENOUGH),
    ]), -(-end // unit), 2


def _index_at(thread: PiecedSource, at: int, unit: int) -> SampleIndex | None:
    if thread.read_at(at + 4, 4) != b"moov":
        return None
    view = as_long_as_the_medium(thread.parent, thread.extents)
    box = next(iter(top_level(view, at)), None)
    return None if box is None else _index_in(view, box, unit)


def _index_in(view: View, box: Box, unit: int) -> SampleIndex | None:
    """The index in `box`; None where it makes no sense, or where not all of the box is its own."""
    if broken_at(view.source, box.start, box.stop)[1] < box.stop:
        return None
    try:
        return SampleIndex(unit, read_tracks(view, box, 0))
    except FormatError:
        return None


def _with_far_index(bench: Bench, first: int, data: Box) -> tuple[Clip, int, int] | None:
    """The clip whose `moov` lies behind its data, wherever that is."""
    pool, unit = bench.pool, bench.pool.unit
    cluster, inside = divmod(data.stop, unit)
    best: tuple[Clip, int, int] | None = None
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
        except FormatError:
            continue
        index = _index_in(view, box, unit)
        if index is None or not index.offsets.size or index.end > data.stop or (
                index.offsets[0] < data.body):
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
        best = clip, cluster, 0
        if index.end == data.stop:
            break
    return best or _with_split_index(bench, first, data, numbers)


def _with_split_index(bench: Bench, first: int, data: Box,
                      numbers: npt.NDArray[np.int64]) -> tuple[Clip, int, int] | None:
    """The same where `moov` itself lies in two pieces, the first of which is one of `numbers`."""
    pool, unit = bench.pool, bench.pool.unit
    cluster = data.stop // unit
    before = ((pool.start(first), unit), (None, max(0, cluster - 1) * unit))

    def sound(thread: PiecedSource) -> SampleIndex | None:
        found = _index_at(thread, data.stop, unit)
        fits = found is not None and found.offsets.size and (
            found.offsets[0] >= data.body and data.stop - unit <= found.end <= data.stop)
        return found if fits else None

    for number in numbers[:MAX_SPLIT].tolist() if cluster else []:
        split = in_two(bench, before, cluster, number, data.stop, sound)
        if split is not None:
            return Clip(bench, split.index, split.stop, [
                Run(cluster, split.cut - 1, number, cluster, split.cut - 1, ENOUGH),
                Run(split.cut, split.last, split.begin, split.cut, split.last, ENOUGH),
            ]), cluster, 0
    return None


register(Joiner("indexed", frozenset(("mp4", "mov", "m4v", "3gp", "m4a")), _join, order=-1,
                by_hand=_by_hand))
