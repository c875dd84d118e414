"""Stretches of a source, int64[n, 2] of (start, stop) in bytes, ascending and apart."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from needlewright.core.errors import FormatError, SourceError
from needlewright.core.sources.source import Source
from needlewright.core.volumes.finding import find_volumes, open_volume

Spans = npt.NDArray[np.int64]


def no_spans() -> Spans:
    return np.zeros((0, 2), np.int64)


def merged_spans(spans: Spans) -> Spans:
    """`spans` in order, those that touch or overlap as one."""
    if len(spans) < 2:
        return spans
    spans = spans[np.argsort(spans[:, 0], kind="stable")]
    reach = np.maximum.accumulate(spans[:, 1])
    first = np.concatenate(([True], spans[1:, 0] > reach[:-1]))
    starts = spans[first, 0]
    stops = np.maximum.reduceat(spans[:, 1], np.flatnonzero(first))
    return np.stack((starts, stops), axis=1)


def covers(spans: Spans, at: int) -> bool:
    """Whether byte `at` lies in one of them."""
    index = int(np.searchsorted(spans[:, 0], at, side="right")) - 1
    return index >= 0 and at < int(spans[index, 1])


def next_free(spans: Spans, at: int) -> int:
    """The first byte from `at` on that lies in none of them."""
    index = int(np.searchsorted(spans[:, 0], at, side="right")) - 1
    return max(at, int(spans[index, 1])) if index >= 0 else at


def next_used(spans: Spans, at: int) -> int:
    """The first byte behind `at` that lies in one of them; a huge number where none does."""
    index = int(np.searchsorted(spans[:, 0], at, side="right"))
    return int(spans[index, 0]) if index < len(spans) else 1 << 62


def gaps(spans: Spans, size: int) -> Spans:
    """What of `size` bytes lies in none of them."""
    edges = np.concatenate(([0], spans.ravel(), [size])).reshape(-1, 2)
    return edges[edges[:, 1] > edges[:, 0]]


def in_use(source: Source) -> Spans:
    """What the file systems of `source` use. What they cannot tell of counts as free."""
    found = [no_spans()]
    for volume in find_volumes(source).volumes:
        if not volume.file_system:
            continue
        try:
            now = open_volume(source, volume).allocation()
        except (FormatError, SourceError):
            continue
        if now is not None:
            found.append(now.runs() + volume.span.start)
    return merged_spans(np.concatenate(found))
