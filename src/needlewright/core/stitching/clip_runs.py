"""The runs of clusters that make up a clip: placed by its index, the seams between them decided.

A cluster in which samples begin can be in one place only; such anchors are looked for in file
order, and what stands in line with one goes with it. Which of two runs the clusters between their
anchors belong to is decided by decoding the frames across, where free pieces leave a choice at all.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from needlewright.core.stitching.base import Bench, Extents, Joined, Reason, Seam, SeamWord
from needlewright.core.stitching.sample_index import ENOUGH, PlacedItems

NEAR, EVERYWHERE = 4096, 1 << 40
SECTOR, LEAST_PADDING = 512, 8  # bytes
MOST_UNTOLD, MOST_CLOSING = 6, 8  # clusters at the end that nothing tells of; pieces tried for them
MISSES = 24  # anchors in a row that are nowhere, before the rest is given up
MAX_DECODES = 240  # for one find and round; then seams stay likely
MAX_GUESSES = 48  # places of one seam that are decoded
ROWS_BYTES = 16 << 20
MAX_OPEN, TO_THE_END = 6, 1e9  # places of a seam that are left; seconds
CONTROLS = 3  # foreign clusters that a decoder must have refused around a seam
AROUND_S, A_FRAME_S = 1.5, 0.02  # seconds that are decoded before and behind a seam
LONGER_S = 0.25, 1.5  # ... where several places still decode


@dataclass(slots=True)
class Run:
    """Clusters in line: the file's `first` to `last` lie from the pool's cluster `at` on.
    `low`, `high`: the first and the last of them that is an anchor."""

    first: int
    last: int
    at: int
    low: int
    high: int
    proof: float = 0.0

    def number(self, cluster: int) -> int:
        return self.at + cluster - self.first


@dataclass(slots=True)
class Clip:
    bench: Bench
    index: PlacedItems
    size: int
    runs: list[Run]
    decoded: int = 0  # places that were tried by decoding

    @property
    def count(self) -> int:
        return -(-self.size // self.index.unit)

    def used(self, number: int) -> bool:
        """Whether the pool's cluster `number` is surely another of the file; what only stands in
        line behind a run's last anchor may be the next one's."""
        return any(run.number(run.low) <= number <= run.number(run.high) for run in self.runs)

    def check(self, cluster: int, number: int) -> float | None:
        """What speaks for the pool's cluster `number` being this one; None: it cannot be."""
        pool = self.bench.pool
        if not pool.in_line(number) or self.used(number):
            return None
        raw = pool.read(np.array([number]))[0]
        proof = self.index.check(cluster, raw)
        if proof is not None and proof >= ENOUGH:
            self.index.learn(cluster, raw)
        return proof

    def grow(self, run: Run, stop: int) -> None:
        """Extend `run` forward in line, not to cluster `stop` of the file."""
        while run.last + 1 < stop:
            proof = self.check(run.last + 1, run.number(run.last + 1))
            if proof is None:
                return
            run.last += 1
            run.proof += proof
            if proof >= ENOUGH:
                run.high = run.last

    def grow_back(self, run: Run, behind: int) -> None:
        """Extend `run` backward in line, to no cluster of the file before `behind`."""
        while run.first - 1 >= behind:
            proof = self.check(run.first - 1, run.at - 1)
            if proof is None:
                return
            run.first, run.at = run.first - 1, run.at - 1
            run.proof += proof
            if proof >= ENOUGH:
                run.low = run.first


def placed(clip: Clip, stop: int, known: int = 1) -> Clip:
    """Find the runs behind the first `known`, one after another."""
    current = clip.runs[known - 1]
    cluster, misses = current.high + 1, 0
    tail = clip.runs[known:]  # the index behind the data
    while current.last < stop - 1 or (tail and current.high < stop - 1 and cluster < stop):
        clip.bench.rest()
        while cluster < stop and not clip.index.anchored(cluster):
            cluster = clip.index.following(cluster)
        if cluster >= stop or misses > MISSES:
            break
        number = _found(clip, cluster, current)
        if number is None:
            cluster, misses = cluster + 1, misses + 1
            continue
        misses = 0
        run = Run(cluster, cluster, number, cluster, cluster, ENOUGH)
        clip.runs.insert(clip.runs.index(current) + 1, run)
        clip.grow_back(run, current.high + 1)
        clip.grow(run, stop)
        while clip.runs.index(run) > known and _fits_instead(clip, run, current):
            clip.runs.remove(current)
            current = clip.runs[clip.runs.index(run) - 1]
            clip.grow_back(run, current.high + 1)
        current, cluster = run, run.high + 1
    if tail:
        clip.grow_back(tail[0], current.high + 1)
    return clip


def _fits_instead(clip: Clip, run: Run, weaker: Run) -> bool:
    """Whether `run`, which stands behind `weaker`, would in line be what `weaker` was found for:
    among thousands of clusters one fits by chance more easily than the one in line."""
    if run.first != weaker.high + 1 or run.proof <= weaker.proof:
        return False
    line = Run(run.first, run.last, run.at, run.low, run.high)
    clip.grow_back(line, weaker.low)
    return line.first == weaker.low


def _found(clip: Clip, cluster: int, current: Run) -> int | None:
    """The pool's cluster that is this one of the file: the nearest that anchors."""
    pool, origin = clip.bench.pool, current.number(current.last)
    tried = np.zeros(0, np.int64)
    for most in (NEAR, EVERYWHERE)[: clip.bench.effort + 1]:
        numbers = pool.nearest(origin, most)
        numbers = numbers[~np.isin(numbers, tried)]
        # Behind it first: cards are filled forward.
        key = np.where(numbers > origin, numbers - origin, 2 * (origin - numbers))
        numbers = numbers[np.argsort(key, kind="stable")]
        step = max(64, ROWS_BYTES // pool.unit)
        for at in range(0, numbers.size, step):
            clip.bench.rest()
            part = np.sort(numbers[at : at + step])
            rows = pool.read(part)
            good = np.flatnonzero(clip.index.fitting(cluster, rows))
            best: tuple[float, int, int] | None = None
            for i in good.tolist():
                number = int(part[i])
                if clip.used(number):
                    continue
                proof = clip.index.check(cluster, rows[i])
                if proof is not None and proof >= ENOUGH:
                    far = number - origin if number > origin else 2 * (origin - number)
                    if best is None or (proof, -far) > (best[0], -best[1]):
                        best = proof, far, number
            if best is not None:
                clip.index.learn(cluster, pool.read(np.array([best[2]]))[0])
                return best[2]
        tried = numbers
    return None


# what lies between the runs


def told(clip: Clip) -> Joined | None:
    """The thread of its runs, with the seams between its runs decided."""
    clip.runs = sorted(clip.runs, key=lambda r: r.low)
    _close(clip)
    runs = clip.runs
    seams: list[Seam] = []
    left_open: list[tuple[int, Run, Run, list[int]]] = []
    for before, after in pairwise(runs):
        low = max(before.high, after.first - 1)
        high = min(before.last, after.low - 1)
        if low > high:
            return None  # a piece between them is nowhere
        open_cuts, word, reasons = decided(clip, before, after, low, high)
        cut = open_cuts[0]
        before.last = cut
        after.at, after.first = after.number(cut + 1), cut + 1
        if before.number(cut) + 1 == after.at:
            continue  # they stand in line
        if len(open_cuts) > 1:
            left_open.append((len(seams), before, after, open_cuts))
        seams.append(Seam((cut + 1) * clip.index.unit, word, (
            Reason("index-places", {"samples": _samples(clip, after)}), *reasons)))
    if runs[-1].last < clip.count - 1:
        return None
    for number, before, after, cuts in left_open:
        seams[number] = _settled(clip, before, after, cuts, seams[number])
    extents = _extents(clip)
    return Joined(extents, tuple(seams), True)


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
            if decodes(_extents(trial, run, closing, cut), start, TO_THE_END):
                run.last = min(run.last, last - 1)
                clip.runs.append(closing)
                return


def _samples(clip: Clip, run: Run) -> int:
    return clip.index.starting(run.last)[1] - clip.index.starting(run.first)[0]


def decided(clip: Clip, before: Run, after: Run, low: int,
             high: int) -> tuple[list[int], SeamWord, tuple[Reason, ...]]:
    """(what the last cluster of the run before may be, the most likely first; how sure; why)."""
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
            if decodes(_extents(clip, before, after, cut), max(0.0, start), stop + longer):
                better.append(cut)
        if not better:
            break
        good = better
        if len(good) == 1:
            break
    if len(good) == high - low + 1 and (low < high or not better):
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
    extents = _extents(clip, before, after, cut)
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


def within(extents: Extents, start: int, stop: int) -> Extents:
    """The part of a file's `extents` from its byte `start` to `stop`."""
    out, at = list[tuple[int | None, int]](), 0
    for offset, length in extents:
        low, high = max(start, at), min(stop, at + length)
        if low < high:
            out.append((None if offset is None else offset + low - at, high - low))
        at += length
    return tuple(out)


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
        if decodes(_extents(clip, before, after, cut), start, TO_THE_END):
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


def _extents(clip: Clip, before: Run | None = None, after: Run | None = None,
             cut: int = 0) -> Extents:
    """The whole file, the seam between `before` and `after` behind cluster `cut`; holes where
    nothing is placed yet."""
    pool, out = clip.bench.pool, list[tuple[int | None, int]]()
    at = 0
    for index, run in enumerate(clip.runs):
        first, last = max(run.first, at), run.last
        if run is after:
            first = cut + 1
        elif index and run.first < at:
            first = at
        if run is before:
            last = cut
        elif index + 1 < len(clip.runs):
            last = min(last, clip.runs[index + 1].low - 1)
        if first > at:
            out.append((None, (first - at) * pool.unit))
        if last >= first:
            begin, length = pool.start(run.number(first)), (last - first + 1) * pool.unit
            before_it = out[-1][0] if out else None
            if before_it is not None and before_it + out[-1][1] == begin:
                out[-1] = before_it, out[-1][1] + length
            else:
                out.append((begin, length))
            at = last + 1
    total = sum(length for _, length in out)
    if total > clip.size and out:
        out[-1] = out[-1][0], out[-1][1] - (total - clip.size)
    return tuple(out)
