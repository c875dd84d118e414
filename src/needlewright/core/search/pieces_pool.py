"""The pools of a source: one a volume, on its grid; one for what lies in none."""

from __future__ import annotations

import numpy as np

from needlewright.core.errors import FormatError, SourceError
from needlewright.core.search.knowledge import Knowledge
from needlewright.core.search.registry import Context
from needlewright.core.search.spans import in_use, merged_spans
from needlewright.core.sources.source import Source, Span
from needlewright.core.stitching.base import Broken
from needlewright.core.stitching.pool import Pool, voted_grid
from needlewright.core.volumes.finding import find_volumes, open_volume

AGREED = 0.85  # of the files on a volume begin on its grid, or it is a former one's


def pools_of(context: Context, finds: list[Broken]) -> list[tuple[Pool, list[Broken]]]:
    """(pool, the finds that begin in it), for every pool that any does."""
    return pools_around(context.source, context.knowledge, finds, context.area)


def pools_around(source: Source, knowledge: Knowledge, finds: list[Broken],
                 area: Span | None = None) -> list[tuple[Pool, list[Broken]]]:
    """The same; pieces lie in `area`, or anywhere."""
    area = area or Span(0, source.size)
    owned = merged_spans(np.concatenate((knowledge.owned(), in_use(source))))
    threads = list(knowledge.threads())
    starts = [*knowledge.starts(), *(f.start for f in finds)]
    out: list[tuple[Pool, list[Broken]]] = []
    left = list(finds)
    for start, stop, unit, first in [*_grids(source), (area.start, area.stop, 0, 0)]:
        mine = [f for f in left if start <= f.start < stop]
        if not mine:
            continue
        left = [f for f in left if f not in mine]
        here = sorted({s for s in starts if start <= s < stop})
        fits = sum((s - first) % unit == 0 for s in here) if unit else 0
        if not unit or fits < AGREED * len(here):
            unit, first = voted_grid(here, source.sector_size)
        base = first % unit
        low, high = max(start, area.start), min(stop, area.stop)
        pool = Pool(source, unit, base, owned, (low, high))
        for extents in threads:
            if all(low <= offset < high for offset, _ in extents):
                pool.learn(extents)
        out.append((pool, mine))
    return out


def _grids(source: Source) -> list[tuple[int, int, int, int]]:
    """(first byte, end, bytes of a cluster, first byte of one) of each volume that tells."""
    out = []
    for volume in find_volumes(source).volumes:
        try:
            now = open_volume(source, volume).allocation() if volume.file_system else None
        except (FormatError, SourceError):
            continue
        if now is not None:
            span = volume.span
            out.append((span.start, span.stop, now.unit, span.start + now.first))
    return out
