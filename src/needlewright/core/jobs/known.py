"""What a job knows of one of its sources, for the steps of a search (see search.knowledge)."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from itertools import groupby
from pathlib import Path

import numpy as np

from needlewright.core.contents import Content
from needlewright.core.jobfile.rows import SourceRow
from needlewright.core.jobfile.store import Job
from needlewright.core.jobfile.texture import TextureFile
from needlewright.core.jobs.already import already_there
from needlewright.core.search.knowledge import BrokenFind
from needlewright.core.search.spans import Spans, gaps, in_use, merged_spans
from needlewright.core.sources.shelf import Offered
from needlewright.core.sources.source import Source


class JobKnowledge:
    """The knowledge of `job` about the source `row`, whose bytes are `medium`."""

    def __init__(self, job: Job, row: SourceRow, medium: Source, texture: TextureFile) -> None:
        self._job, self._row, self._medium, self._texture = job, row, medium, texture

    def whole(self) -> Spans:
        rows = self._job.places.whole_spans(self._row.id)
        return merged_spans(np.array(rows, np.int64).reshape(-1, 2))

    def covered(self, number: int) -> Spans:
        extents = self._job.record(number).extents
        spans = [(offset, offset + length) for offset, length in extents if offset is not None]
        return merged_spans(np.array(spans, np.int64).reshape(-1, 2))

    def owned(self) -> Spans:
        rows = self._job.places.owned_spans(self._row.id)
        return merged_spans(np.array(rows, np.int64).reshape(-1, 2))

    def starts(self) -> list[int]:
        return self._job.places.whole_starts(self._row.id)

    def threads(self) -> Iterator[list[tuple[int, int]]]:
        for _, rows in groupby(self._job.places.pieces(self._row.id), key=lambda row: row[0]):
            yield [(offset, length) for _, offset, length in rows]

    def proven(self) -> Iterator[tuple[int, Content]]:
        for number, size in self._job.places.proven(self._row.id):
            yield size, self._job.record(number).content

    def broken(self) -> Iterator[BrokenFind]:
        for number, key, form, place, why in self._job.places.broken(self._row.id):
            told = self._job.record(number)
            row = told.row
            stated = row.size if told.record is not None else None
            yield BrokenFind(number, key, form, told.content, place, why, row.share, stated,
                             row.removed)

    def texture(self, start: int, stop: int) -> bytes:
        return self._texture.blocks(start, stop).tobytes()

    def folder(self) -> Path | None:
        return self._job.folder

    def lacks(self) -> Callable[[Offered], bool]:
        there = already_there(self._job, but=self._row.id)
        return lambda offered: not there.has(offered)

    def free(self) -> Spans:
        return gaps(in_use(self._medium), self._medium.size)
