"""The seams between the runs of a clip: where each of them lies, and how sure that is.

What stands in line with one anchor and not yet with the next is divided by decoding the frames
across; a decoder proves only what it would have noticed.
"""

from __future__ import annotations

from itertools import pairwise

import numpy as np

from needlewright.core.codes import Reason, Seam, SeamWord
from needlewright.core.stitching.base import Joined
from needlewright.core.stitching.clips.clip_gaps import inserted
from needlewright.core.stitching.clips.clip_runs import (
    AROUND_S,
    EVERYWHERE,
    LONGER_S,
    NEAR,
    Clip,
    Run,
    extents_of,
    within,
)

SECTOR, LEAST_PADDING = 512, 8  # bytes
MOST_UNTOLD, MOST_CLOSING = 6, 8  # clusters at the end that nothing tells of; pieces tried for them
MAX_DECODES = 240  # for one find and round; then seams stay likely
MAX_GUESSES = 48  # places of one seam that are decoded
MAX_OPEN, TO_THE_END = 6, 1e9  # places of a seam that are left; seconds
CONTROLS = 3  # foreign clusters that a decoder must have refused around a seam
A_FRAME_S = 0.02  # seconds that are decoded behind a seam at least


def told(clip: Clip) -> Joined | None:
    """The thread of its runs, with the seams between its runs decided."""
    clip.runs = sorted(clip.runs, key=lambda r: r.low)
    _close(clip)
    seams: list[Seam] = []
    left_open: list[tuple[int, Run, Run, list[int]]] = []
    for before, after in pairwise(tuple(clip.runs)):
        low = max(before.high, after.first - 1)
        high = min(before.last, after.low - 1)
        told_so = ([], SeamWord.LIKELY, ()) if low > high else decided(
            clip, before, after, low, high)
        open_cuts, word, reasons = told_so
        if not open_cuts:  # a piece between them is elsewhere
            seams_there = _between(clip, before, after)
            if seams_there:
                seams += seams_there
                continue
            if low > high:
                return None
            open_cuts = sorted(range(low, high + 1), key=_roundness, reverse=True)
        cut = open_cuts[0]
        before.last = cut
        after.at, after.first = after.number(cut + 1), cut + 1
        if before.number(cut) + 1 == after.at:
            continue  # they stand in line
        if len(open_cuts) > 1:
            left_open.append((len(seams), before, after, open_cuts))
        seams.append(Seam((cut + 1) * clip.index.unit, word, (
            Reason("index-places", {"samples": _samples(clip, after)}), *reasons)))
    if clip.runs[-1].last < clip.count - 1:
        return None
    for number, before, after, cuts in left_open:
        seams[number] = _settled(clip, before, after, cuts, seams[number])
    extents = extents_of(clip)
    return Joined(extents, tuple(seams), True)


def _between(clip: Clip, before: Run, after: Run) -> list[Seam]:
    """The seams of a piece that lies between two runs and in which no sample begins."""
    found = inserted(clip, before, after)
    if found is None:
        return []
    run, alone = found
    sure = alone and _judged(clip, before, after)
    reasons = (Reason("decodes-across"), *((Reason("only-place"),) if alone else ()))
    return [Seam(first * clip.index.unit, SeamWord.PROVEN if sure else SeamWord.LIKELY, reasons)
            for first in (run.first, run.last + 1)]


def _close(clip: Clip) -> None:
    """Find the last piece where nothing in it tells where it belongs: behind the file's end drivers
    fill the sector with zeros, and the frames must decode to the end."""
    run, last, unit = clip.runs[-1], clip.count - 1, clip.index.unit
    end = clip.size - last * unit
    padding = min(-end % SECTOR, unit - end)
    decodes = clip.bench.decodes
    if decodes is None or padding < LEAST_PADDING or not 0 < last - run.high <= MOST_UNTOLD:
        return
    pool = clip.bench.pool
    if run.last >= last and not pool.read(np.array([run.number(last)]))[
            0, end : end + padding].any():
        return  # it stands in line
    numbers = pool.nearest(run.number(run.high), NEAR if clip.bench.effort == 0 else EVERYWHERE)
    numbers = numbers[~pool.peek(numbers, end, padding).any(axis=1)]
    far = np.abs(numbers - run.number(run.high))
    start = max(0.0, clip.index.time_of(run.high * unit) - AROUND_S)
    for number in numbers[np.argsort(far, kind="stable")][:MOST_CLOSING].tolist():
        clip.bench.rest()
        if clip.check(last, number) is None:
            continue
        closing = Run(last, last, number, last, last)
        clip.grow_back(closing, run.high + 1)
        for cut in range(min(run.last, last - 1), closing.first - 2, -1):
            if cut < run.high:
                break
            clip.decoded += 1
            trial = Clip(clip.bench, clip.index, clip.size, [*clip.runs, closing])
            if decodes(extents_of(trial, run, closing, cut), start, TO_THE_END):
                run.last = min(run.last, last - 1)
                clip.runs.append(closing)
                return


def _samples(clip: Clip, run: Run) -> int:
    return clip.index.starting(run.last)[1] - clip.index.starting(run.first)[0]


def decided(clip: Clip, before: Run, after: Run, low: int,
             high: int) -> tuple[list[int], SeamWord, tuple[Reason, ...]]:
    """(what the last cluster of the run before may be, the most likely first, none where none
    decodes; how sure; why)."""
    if low == high and low == before.high and high + 1 == after.low:
        return [low], SeamWord.PROVEN, (Reason("index-between"),)
    decodes = clip.bench.decodes
    if decodes is None or high - low > MAX_GUESSES or clip.decoded > MAX_DECODES:
        return [high], SeamWord.LIKELY, ()
    unit = clip.index.unit
    start = clip.index.time_of(low * unit) - AROUND_S
    # At first no farther than to what is surely the next run's: seams behind it are not decided.
    stop = clip.index.time_of((high + 1) * unit)
    good = list(range(high, low - 1, -1))
    for longer in (A_FRAME_S, *LONGER_S):
        better = []
        for cut in good:
            clip.bench.rest()
            clip.decoded += 1
            if decodes(extents_of(clip, before, after, cut), max(0.0, start), stop + longer):
                better.append(cut)
        if not better and longer == A_FRAME_S:
            return [], SeamWord.LIKELY, ()
        if not better:
            break
        good = better
        if len(good) == 1:
            break
    if len(good) == high - low + 1 and low < high:
        return sorted(good, key=_roundness, reverse=True), SeamWord.LIKELY, ()
    # Where several decode, recorders write as many clusters at a time as they always do.
    good.sort(key=_roundness, reverse=True)
    sure = len(good) == 1 and _judged(clip, before, after) and _noticed(
        clip, before, after, good[0], CONTROLS - (high - low))
    return good, SeamWord.PROVEN if sure else SeamWord.LIKELY, (Reason("decodes-across"),)


def _noticed(clip: Clip, before: Run, after: Run, cut: int, wanted: int) -> bool:
    """Whether decoders notice a foreign cluster around a seam at all: of large frames they accept
    almost anything. Clusters that only stand in line are replaced by others of the clip, `wanted`
    times, one after another; each must be noticed."""
    decodes, unit, pool = clip.bench.decodes, clip.index.unit, clip.bench.pool
    open_ones = list(range(before.high + 1, after.low))
    if decodes is None or wanted <= 0 or not open_ones:
        return True
    extents = extents_of(clip, before, after, cut)
    step = max(1, len(open_ones) // wanted)
    for turn, cluster in enumerate(open_ones[::step][:wanted]):
        clip.bench.rest()
        clip.decoded += 1
        other = before.number(max(before.first, before.high - 1 - turn))
        spoilt = (*within(extents, 0, cluster * unit), (pool.start(other), unit),
                  *within(extents, (cluster + 1) * unit, clip.size))
        start = max(0.0, clip.index.time_of(cluster * unit) - AROUND_S)
        if decodes(spoilt, start, clip.index.time_of((cluster + 1) * unit) + LONGER_S[0]):
            return False
    return True


def _judged(clip: Clip, before: Run, after: Run) -> bool:
    """Whether a decoder looks at each cluster between two runs that only stands in line with one of
    them: of plain sound anything decodes."""
    return all(map(clip.index.judged, range(before.high + 1, after.low)))


def _settled(clip: Clip, before: Run, after: Run, cuts: list[int], seam: Seam) -> Seam:
    """A seam that was left open, once all others are placed: the rest of the clip tells."""
    decodes, unit = clip.bench.decodes, clip.index.unit
    if decodes is None or len(cuts) > MAX_OPEN:
        return seam
    start = max(0.0, clip.index.time_of(min(cuts) * unit) - AROUND_S)
    good = []
    for cut in cuts:
        clip.bench.rest()
        if decodes(extents_of(clip, before, after, cut), start, TO_THE_END):
            good.append(cut)
    if len(good) != 1:
        return seam
    before.last = good[0]
    after.at, after.first = after.number(good[0] + 1), good[0] + 1
    word = SeamWord.PROVEN if _judged(clip, before, after) else SeamWord.LIKELY
    return Seam((good[0] + 1) * unit, word, (seam.reasons[0], Reason("decodes-across")))


def _roundness(cut: int) -> int:
    """How often the clusters before a seam can be halved."""
    return (cut + 1) & -(cut + 1)


