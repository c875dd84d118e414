"""Joining clips by hand: what the index says of each cluster tells which pieces may come next."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from needlewright.core.finds import Reason, SeamWord
from needlewright.core.stitching.base import Bench
from needlewright.core.stitching.clip_runs import Clip, Run, placed, told
from needlewright.core.stitching.hand import (
    OFFERED,
    Extents,
    Gone,
    Hand,
    Offer,
    Offers,
    Reach,
    cluster_list,
)
from needlewright.core.stitching.sample_index import ENOUGH
from needlewright.core.stopping import StopSignal

NEAR, EVERYWHERE = 4096, 1 << 40
AT_ONCE = 256  # clusters that are read at a time
ROWS_BYTES = 16 << 20
LOOKED = 24  # anchors behind the seam that a piece may begin to be known by
MAX_FOUND = 64  # pieces that are weighed
MAX_PIECE = 1 << 18  # clusters that a piece is followed over
BEHIND_S = 0.2  # seconds behind a seam: what is shown there is the piece's


@dataclass(slots=True)
class IndexHand(Hand):
    """`clip`: with its index and, where that lies behind the data, the run that holds it; `stop`:
    the cluster of the file before which the rest lies."""

    clip: Clip
    stop: int
    head: tuple[int, ...]
    by_rows: bool = False
    _known: tuple[int, ...] = field(default=())

    def __post_init__(self) -> None:
        self.pool = self.clip.bench.pool

    @property
    def _bench(self) -> Bench:
        return self.clip.bench

    def listen(self, stop: StopSignal) -> None:
        self.clip.bench = replace(self.clip.bench, stop=stop)

    def reach(self, clusters: Sequence[int]) -> Reach:
        clusters = tuple(clusters[: self.stop])
        same = next((i for i, (a, b) in enumerate(zip(clusters, self._known)) if a != b),
                    min(len(clusters), len(self._known)))
        good = same
        while good < len(clusters):
            self._bench.rest()
            part = clusters[good : good + AT_ONCE]
            for number, raw in zip(part, self.pool.read(np.array(part))):
                proof = self.clip.index.check(good, raw)
                if proof is None and number not in self.head:
                    return self._reached(clusters[:good])
                if proof is not None and proof >= ENOUGH:
                    self.clip.index.learn(good, raw)
                good += 1
        return self._reached(clusters)

    def _reached(self, clusters: tuple[int, ...]) -> Reach:
        self._known = clusters
        end = None
        if len(clusters) >= self.stop:
            end = self.pool.unit if self._tail else (self.clip.size - 1) % self.pool.unit + 1
        return Reach(tuple((i + 1) / max(1, self.stop) for i in range(len(clusters))), end)

    @property
    def _tail(self) -> Run | None:
        """The run that holds the index, where that lies behind the data."""
        return self.clip.runs[-1] if self.clip.runs else None

    def offers(self, clusters: Sequence[int]) -> Offers:
        at, index = len(clusters), self.clip.index
        used = set(clusters)
        if at >= self.stop or not clusters:
            return Offers((), 0, 0)
        origin = clusters[-1]
        found: dict[int, Offer] = {}
        tried = possible = 0
        anchors = [n for n in range(at, min(self.stop, at + 8 * LOOKED)) if index.anchored(n)]
        for anchor in anchors[:LOOKED]:
            numbers = self.pool.nearest(
                origin, NEAR if self._bench.effort == 0 else EVERYWHERE)
            tried = max(tried, int(numbers.size))
            for number in self._fitting(anchor, numbers):
                possible += 1
                first = number - (anchor - at)
                if first not in found and first not in used:
                    offer = self._offer(at, first, used)
                    if offer is not None:
                        found[first] = offer
            if found or possible > MAX_FOUND:
                break
        straight = origin + 1
        if straight not in found:
            offer = self._offer(at, straight, used)
            if offer is not None:
                found[straight] = offer
        best = sorted(found.values(), key=lambda o: (-self._samples(at, o.count) - (
            o.first == straight), abs(o.first - origin)))
        return Offers(tuple(best[:OFFERED]), tried, possible)

    def _fitting(self, anchor: int, numbers: np.ndarray) -> list[int]:
        """Those that may be the cluster `anchor` of the file."""
        good: list[int] = []
        step = max(64, ROWS_BYTES // self.pool.unit)
        for at in range(0, numbers.size, step):
            self._bench.rest()
            part = numbers[at : at + step]
            rows = self.pool.read(part)
            for i in np.flatnonzero(self.clip.index.fitting(anchor, rows)).tolist():
                proof = self.clip.index.check(anchor, rows[i])
                if proof is not None and proof >= ENOUGH:
                    good.append(int(part[i]))
        return good

    def _offer(self, at: int, first: int, used: set[int]) -> Offer | None:
        """The piece from the pool's cluster `first` on as the file's clusters from `at` on."""
        count = 0
        while at + count < self.stop and count < MAX_PIECE:
            number = first + count
            if not self.pool.in_line(number) or number in used:
                break
            if count % AT_ONCE == 0:
                self._bench.rest()
            raw = self.pool.read(np.array([number]))[0]
            if self.clip.index.check(at + count, raw) is None:
                break
            count += 1
        samples = self._samples(at, count)
        if count == 0:
            return None
        index = self.clip.index
        sure = samples > 0 and at > 0 and index.anchored(at) and index.anchored(at - 1)
        reasons = [Reason("index-places", {"samples": samples})]
        if sure:
            reasons.append(Reason("index-between"))
        ends = at + count >= self.stop
        if ends:
            reasons.append(Reason("own-end"))
        end = self._reached_end() if ends else None
        return Offer(first, count, at, (at + count) / max(1, self.stop),
                     SeamWord.PROVEN if sure else SeamWord.LIKELY, tuple(reasons), end)

    def _reached_end(self) -> int:
        return self.pool.unit if self._tail else (self.clip.size - 1) % self.pool.unit + 1

    def _samples(self, at: int, count: int) -> int:
        if count <= 0:
            return 0
        return self.clip.index.starting(at + count - 1)[1] - self.clip.index.starting(at)[0]

    def gone_on(self, clusters: Sequence[int]) -> Gone | None:
        runs, at = list[Run](), 0
        for offset, length in self.pool.span(clusters):
            assert offset is not None
            count = length // self.pool.unit
            runs.append(Run(at, at + count - 1, self.pool.number(offset), at, at + count - 1))
            at += count
        clip = Clip(self._bench, self.clip.index, self.clip.size,
                    [*runs, *(Run(r.first, r.last, r.at, r.low, r.high) for r in self.clip.runs)])
        clip.grow(clip.runs[len(runs) - 1], self.stop)
        joined = told(placed(clip, self.stop, len(runs)))
        if joined is None:
            return None
        numbers = cluster_list(self.pool, joined.extents)[: self.stop]
        unit = self.pool.unit
        seams = tuple(s for s in joined.seams if at * unit <= s.at)
        return Gone(tuple(numbers), seams, self._reached_end())

    def extents(self, clusters: Sequence[int], end: int | None) -> Extents:
        spans = [*self.pool.span(clusters[: self.stop])]
        tail = self._tail
        if tail is None:
            return Hand.extents(self, clusters, end)
        missing = self.stop - len(clusters)
        if missing > 0:
            spans.append((None, missing * self.pool.unit))
        spans.append((self.pool.start(tail.number(self.stop)),
                      self.clip.size - self.stop * self.pool.unit))
        return tuple(spans)

    def seconds(self, clusters: int) -> float | None:
        return self.clip.index.time_of(clusters * self.pool.unit) + BEHIND_S
