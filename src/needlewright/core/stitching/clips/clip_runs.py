"""The runs of clusters that make up a clip, placed by its index.

A cluster in which samples begin can be in one place only; such anchors are looked for in file
order, and what stands in line with one goes with it. Where one run ends and the next begins is told
by `clip_seams`.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from needlewright.core.sources.pieces import PiecedSource
from needlewright.core.sources.source import Source
from needlewright.core.stitching.base import Bench, Extents
from needlewright.core.stitching.clips.sample_index import ENOUGH, PlacedItems
from needlewright.core.structures.view import View

NEAR, EVERYWHERE = 4096, 1 << 40
MISSES = 24  # anchors in a row that are nowhere, before the rest is given up
ROWS_BYTES = 16 << 20
AROUND_S = 1.5  # seconds that are decoded before a seam
LONGER_S = 0.25, 1.5  # ... and behind it, where several places decode


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


def extents_of(clip: Clip, before: Run | None = None, after: Run | None = None,
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


def within(extents: Extents, start: int, stop: int) -> Extents:
    """The part of a file's `extents` from its byte `start` to `stop`."""
    out, at = list[tuple[int | None, int]](), 0
    for offset, length in extents:
        low, high = max(start, at), min(stop, at + length)
        if low < high:
            out.append((None if offset is None else offset + low - at, high - low))
        at += length
    return tuple(out)


def as_long_as_the_medium(source: Source, extents: Extents) -> View:
    """A view of `extents` with a hole behind them: the samples that an index names may lie
    anywhere, also in front of it."""
    return View(PiecedSource(source, (*extents, (None, source.size))), 0, source.size)
