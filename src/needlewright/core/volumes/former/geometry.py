"""Deduces the geometry of a former volume by votes: where its clusters lie, and how large they are.

A folder or a file that states its own cluster's number votes for every geometry that would put that
cluster where it was found.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence
from typing import NamedTuple

CLUSTER_SIZES = tuple(512 << n for n in range(17))  # 512 bytes to 32 MiB
MAX_VOTERS = 4000
MAX_PAIRS = 64  # neighbours that each voter is compared with


class Geometry(NamedTuple):
    """`base`: the byte at which cluster 0 would begin (the first real one is 2), `cluster_size`."""

    base: int
    cluster_size: int

    def offset(self, cluster: int) -> int:
        return self.base + cluster * self.cluster_size


def by_own_numbers(places: Sequence[tuple[int, int]], known: Iterable[Geometry] = ()) -> list[
        tuple[Geometry, int]]:
    """(geometry, votes), the most voted first, from (byte, cluster number) of what states both.

    One voice is enough for a geometry that is `known`; others are those on which two agree.
    """
    chosen = sorted(set(places))[:MAX_VOTERS]
    candidates = set(known)
    for index, (at, cluster) in enumerate(chosen):
        for other_at, other in chosen[index + 1 : index + 1 + MAX_PAIRS]:
            if other == cluster or (other_at - at) % (other - cluster):
                continue
            size = (other_at - at) // (other - cluster)
            if size in CLUSTER_SIZES:
                candidates.add(Geometry(at - cluster * size, size))
    found = [(g, sum(g.offset(c) == at for at, c in chosen)) for g in candidates]
    found = [item for item in found if item[1]]
    return sorted(found, key=lambda item: (-item[1], item[0]))


def by_heads(wanted: Sequence[tuple[int, str]], heads: Sequence[tuple[int, str]],
             fixed: Sequence[Geometry] = ()) -> list[tuple[Geometry, int]]:
    """(geometry, votes) from files' first clusters and formats, and where such formats begin.

    `wanted`: (cluster, format); `heads`: (byte, format); `fixed`: geometries to be counted first.
    """
    places = {(at, form) for at, form in heads}
    some = wanted[:MAX_VOTERS]
    found = [(g, _agree(g, some, places)) for g in fixed]
    if any(count * 2 > len(some) for _, count in found):
        return sorted(found, key=lambda item: -item[1])
    by_format: dict[str, list[int]] = {}
    for at, form in heads[:MAX_VOTERS]:
        by_format.setdefault(form, []).append(at)
    for size in CLUSTER_SIZES[:11]:
        votes: Counter[int] = Counter()
        for cluster, form in some[:200]:
            for at in by_format.get(form, ())[:400]:
                votes[at - cluster * size] += 1
        for base, count in votes.most_common(3):
            if count >= 2:
                geometry = Geometry(base, size)
                found.append((geometry, _agree(geometry, some, places)))
    return sorted(found, key=lambda item: -item[1])


def _agree(geometry: Geometry, wanted: Sequence[tuple[int, str]],
           places: set[tuple[int, str]]) -> int:
    return sum((geometry.offset(c), form) in places for c, form in wanted)
