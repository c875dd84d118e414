"""Joining by hand: what a person is offered as the next piece of a file, and what it leads to.

A thread is worked on as the clusters that it has so far, in file order; a `Hand` says how far they
are one file, which pieces may come next, and what the program would make of the rest.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Sequence
from dataclasses import dataclass

from needlewright.core.codes import Reason, Seam, SeamWord
from needlewright.core.stitching.pool import Pool
from needlewright.core.stopping import StopSignal

OFFERED = 4  # pieces at a time
Extents = tuple[tuple[int | None, int], ...]


@dataclass(frozen=True, slots=True)
class Offer:
    """A piece that may come next: `count` clusters in line from the pool's cluster `first` on,
    behind the thread's first `keep`. `share`: how far the file comes with it, 0.0 to 1.0; `word`,
    `reasons` of the seam; `end`: bytes of its last cluster that belong to the file, where it ends
    there."""

    first: int
    count: int
    keep: int
    share: float
    word: SeamWord
    reasons: tuple[Reason, ...]
    end: int | None = None

    @property
    def clusters(self) -> range:
        return range(self.first, self.first + self.count)


@dataclass(frozen=True, slots=True)
class Offers:
    """The best pieces, the best one first. `tried`: free pieces that were looked at; `possible`:
    those that no hard rule refused."""

    best: tuple[Offer, ...]
    tried: int
    possible: int


@dataclass(frozen=True, slots=True)
class Reach:
    """How far clusters in file order are one file. `shares`: how much of it is there with each of
    them; those behind `len(shares)` cannot be its own. `end`: bytes of the last that belong to
    it, where it ends there."""

    shares: tuple[float, ...]
    end: int | None = None

    @property
    def share(self) -> float:
        return self.shares[-1] if self.shares else 0.0


@dataclass(frozen=True, slots=True)
class Gone:
    """What the program made of the rest: the whole thread, and the seams that it set."""

    clusters: tuple[int, ...]
    seams: tuple[Seam, ...]
    end: int | None


class Hand(ABC):
    """One file that is put together by hand. All of it may raise Interrupted."""

    pool: Pool
    head: tuple[int, ...]  # clusters that it begins with, whatever is joined to them
    cut_known = True  # whether the place where a find breaks is where it is to be cut
    by_rows = False  # whether its share says down to which row of the picture it goes

    @abstractmethod
    def listen(self, stop: StopSignal) -> None:
        """Stop what is looked for at this signal from now on."""

    @abstractmethod
    def reach(self, clusters: Sequence[int]) -> Reach:
        """How far these are one file."""

    @abstractmethod
    def offers(self, clusters: Sequence[int]) -> Offers:
        """What may come behind these."""

    @abstractmethod
    def gone_on(self, clusters: Sequence[int]) -> Gone | None:
        """These and what the program finds for the rest; None where it finds nothing."""

    def extents(self, clusters: Sequence[int], end: int | None) -> Extents:
        """The file of these clusters; bytes of the source in file order, None where a hole is."""
        spans = self.pool.span(clusters)
        if end is not None and spans:
            spans[-1] = spans[-1][0], spans[-1][1] - self.pool.unit + end
        return tuple(spans)

    def seconds(self, clusters: int) -> float | None:
        """When what lies behind so many clusters of the file is shown; None of no clip."""
        return None


def cluster_list(pool: Pool, extents: Sequence[tuple[int | None, int]]) -> list[int]:
    """The clusters of `extents`, as far as they begin on the grid."""
    out: list[int] = []
    for offset, length in extents:
        if offset is None or (offset - pool.base) % pool.unit:
            break
        first = pool.number(offset)
        out += range(first, first + -(-length // pool.unit))
    return out
