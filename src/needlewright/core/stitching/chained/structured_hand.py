"""Joining by hand what proves itself step by step: pieces by how far the file's walk comes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from needlewright.core.codes import Reason, SeamWord
from needlewright.core.formats.base import Format
from needlewright.core.formats.registry import form_of
from needlewright.core.stitching.base import Bench, Broken
from needlewright.core.stitching.chained.chains.base import chain_of
from needlewright.core.stitching.chained.structured import (
    Reached,
    in_line,
    joined_on,
    reached,
    reason_of,
    tries,
)
from needlewright.core.stitching.hand import OFFERED, Gone, Hand, Offer, Offers, Reach, cluster_list
from needlewright.core.stopping import StopSignal


@dataclass(slots=True)
class StructuredHand(Hand):
    """`total`: bytes that the file is likely to have; 0 where nothing tells."""

    form: Format
    bench: Bench
    head: tuple[int, ...]
    total: int
    by_rows: bool = False
    cut_known: bool = False

    def __post_init__(self) -> None:
        self.pool = self.bench.pool

    def listen(self, stop: StopSignal) -> None:
        self.bench = replace(self.bench, stop=stop)

    def reach(self, clusters: Sequence[int]) -> Reach:
        here = self._walked(clusters)
        if here is None:
            return Reach(())
        unit = self.pool.unit
        good = min(len(clusters), max(1, here.far // unit))
        end = None
        if here.ended and here.walk is not None and here.walk.stop <= len(clusters) * unit:
            good = -(-here.walk.stop // unit)
            end = (here.walk.stop - 1) % unit + 1
        shares = [self._share((i + 1) * unit) for i in range(good)]
        return Reach((*shares[:-1], 1.0) if end is not None else tuple(shares), end)

    def _share(self, at: int) -> float:
        return min(0.99, at / self.total) if self.total else 0.0

    def _walked(self, clusters: Sequence[int]) -> Reached | None:
        return reached(self.bench, self.form, self._pieces(clusters))

    def _pieces(self, clusters: Sequence[int]) -> tuple[tuple[int, int], ...]:
        unit = self.pool.unit
        return tuple((self.pool.number(offset), length // unit)
                     for offset, length in self.pool.span(clusters) if offset is not None)

    def offers(self, clusters: Sequence[int]) -> Offers:
        here = self._walked(clusters)
        if here is None or here.ended:
            return Offers((), 0, 0)
        # What stands in line behind the thread is one way to go on, and what it is cut from.
        *others, (last, count) = here.clusters
        longer = reached(self.bench, self.form, (*others, (last, max(
            count, in_line(self.bench, last)))))
        at = len(clusters)
        best: dict[int, Offer] = {}
        seen = 0
        for number, tried in tries(self.bench, self.form, longer or here):
            seen += 1
            keep = sum(n for _, n in tried.clusters[:-1])
            offer = self._offer(tried, keep, keep - at)
            if offer is not None and (number not in best or offer.share > best[number].share):
                best[number] = offer
        ranked = sorted(best.values(), key=lambda o: (o.end is None, -o.share))
        if ranked and self.form.checked:
            ranked[0] = replace(ranked[0], word=SeamWord.PROVEN)
        return Offers(tuple(ranked[:OFFERED]), self.pool.count, seen)

    def _offer(self, tried: Reached, keep: int, more: int) -> Offer | None:
        unit = self.pool.unit
        first, most = tried.clusters[-1]
        stop = tried.walk.stop if tried.ended and tried.walk is not None else tried.far
        count = min(most, -(-stop // unit) - keep)
        if count <= 0:
            return None
        reasons = [reason_of(self.form, tried, keep * unit)]
        if more:
            reasons.append(Reason("cut-later" if more > 0 else "cut-earlier",
                                  {"bytes": abs(more) * unit}))
        end = None
        if tried.ended:
            reasons.append(Reason("own-end"))
            end = (stop - 1) % unit + 1
        share = 1.0 if tried.ended else self._share(stop)
        return Offer(first, count, keep, share, SeamWord.LIKELY, tuple(reasons), end)

    def gone_on(self, clusters: Sequence[int]) -> Gone | None:
        pieces = self._pieces(clusters)
        *others, (last, count) = pieces
        here = reached(self.bench, self.form, (*others, (last, max(
            count, in_line(self.bench, last)))))
        if here is None:
            return None
        if here.ended and here.walk is not None:
            numbers, stop = [n for f, c in here.clusters for n in range(f, f + c)], here.walk.stop
            unit = self.pool.unit
            return Gone(tuple(numbers[: -(-stop // unit)]), (), (stop - 1) % unit + 1)
        joined = joined_on(self.bench, self.form, here)
        if joined is None:
            return None
        rest = sum(length for _, length in joined.extents) % self.pool.unit
        end = (rest or self.pool.unit) if joined.ended else None
        return Gone(tuple(cluster_list(self.pool, joined.extents)), joined.seams, end)


def structured_by_hand(broken: Broken, bench: Bench) -> StructuredHand | None:
    """The hand for a file that the format's walk puts together; None where it does not begin."""
    form = form_of(broken.format)
    if form is None or chain_of(form.name) is None:
        return None
    first = bench.pool.number(broken.start)
    if bench.pool.start(first) != broken.start:
        return None
    here = reached(bench, form, ((first, in_line(bench, first)),))
    if here is None:
        return None
    total = broken.stated or 0
    if not total and here.walk is not None and 0.0 < here.walk.share < 1.0:
        total = int(here.far / here.walk.share)
    return StructuredHand(form, bench, (first,), total)
