"""Joining clips by hand: what the index says of each cluster tells which pieces may come next."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from needlewright.core.codes import Reason, SeamWord
from needlewright.core.stitching.base import Bench
from needlewright.core.stitching.clips.clip_runs import Clip, Run, placed
from needlewright.core.stitching.clips.clip_seams import decided, told
from needlewright.core.stitching.clips.sample_index import ENOUGH
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
from needlewright.core.stopping import StopSignal

NEAR, EVERYWHERE = 4096, 1 << 40
AT_ONCE = 256  # clusters that are read at a time
ROWS_BYTES = 16 << 20
LOOKED = 24  # anchors behind the seam that a piece may begin to be known by
BORNE_OUT = 8  # further anchors in a piece before no others are looked for
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
            # One that only a few anchors speak for may stand there by chance.
            if possible > MAX_FOUND or self._borne_out(found.values(), at, anchor):
                break
        straight = origin + 1
        if straight not in found:
            offer = self._offer(at, straight, used)
            if offer is not None:
                found[straight] = offer
        best = sorted(found.values(), key=lambda o: (-self._samples(at, o.count) - (
            o.first == straight), abs(o.first - origin)))
        cut = tuple(self._cut_where_it_decodes(clusters, offer) for offer in best[:OFFERED])
        return Offers(cut, tried, possible)

    def _cut_where_it_decodes(self, clusters: Sequence[int], offer: Offer) -> Offer:
        """The same piece, the seam set where the frames across it decode: a cluster in which no
        sample begins may stand in line with the last piece and be nobody's, or the next one's."""
        index, runs = self.clip.index, self._runs_of(clusters)
        before = runs[-1]
        last = offer.keep + offer.count - 1
        low = next((n for n in range(offer.keep, last) if index.anchored(n)), last)
        after = Run(offer.keep, last, offer.first, low, last)
        before.high = next((n for n in range(before.last, before.first, -1) if index.anchored(n)),
                           before.first)
        if before.number(before.last) + 1 == offer.first:
            return offer
        tail = [Run(r.first, r.last, r.at, r.low, r.high) for r in self.clip.runs]
        clip = Clip(self._bench, index, self.clip.size, [*runs, after, *tail])
        clip.grow_back(after, before.high + 1)
        cuts, word, reasons = decided(clip, before, after, max(before.high, after.first - 1),
                                      min(before.last, low - 1))
        if not cuts:
            return offer
        keep = cuts[0] + 1
        return replace(offer, first=after.number(keep), count=last + 1 - keep, keep=keep, word=word,
                       reasons=(*offer.reasons, *(r for r in reasons if r not in offer.reasons)))

    def _runs_of(self, clusters: Sequence[int]) -> list[Run]:
        runs, at = list[Run](), 0
        for offset, length in self.pool.span(clusters):
            assert offset is not None
            count = length // self.pool.unit
            runs.append(Run(at, at + count - 1, self.pool.number(offset), at, at + count - 1))
            at += count
        return runs

    def _borne_out(self, found: Iterable[Offer], at: int, anchor: int) -> bool:
        """Whether one of the pieces for cluster `at` holds enough anchors behind `anchor`."""
        for offer in found:
            end = at + offer.count
            behind = range(anchor + 1, min(end, anchor + 1 + 8 * BORNE_OUT))
            if end >= self.stop or sum(map(self.clip.index.anchored, behind)) >= BORNE_OUT:
                return True
        return False

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
        runs, at = self._runs_of(clusters), len(clusters)
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
