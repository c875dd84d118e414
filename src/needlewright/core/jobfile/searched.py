"""What a job knows of its searches: how far steps came, what they covered, the volumes met."""

from __future__ import annotations

import time
from collections.abc import Sequence
from functools import partial

from needlewright.core.jobfile.coverage import CoverageRow
from needlewright.core.jobfile.database import Database
from needlewright.core.jobfile.rows import StepRow
from needlewright.core.search.events import VolumeSeen


class Searched:
    """The steps, coverage and volumes of one job; each change is a transaction of its own."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def save_step(self, row: StepRow) -> None:
        self._database.change(
            "INSERT OR REPLACE INTO steps VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
            (row.source, row.step, ",".join(row.kinds), row.area_start, row.area_stop,
             row.checkpoint, row.ending, time.time(), row.state))

    def cover(self, row: CoverageRow) -> None:
        """Keep how far a pass has come; the same pass replaces its own row."""
        self._database.change(
            "INSERT OR REPLACE INTO coverage VALUES (?, ?, ?, ?, ?, ?, ?)",
            (row.source, row.step, ",".join(row.tokens), int(row.every_byte),
             int(row.every_frame), row.start, row.stop))

    def coverage(self, source: int, step: str) -> list[CoverageRow]:
        """What `step` has covered of a source."""
        rows = self._database.rows(
            "SELECT source, step, tokens, every_byte, every_frame, start, stop FROM coverage"
            " WHERE source = ? AND step = ? AND stop > start", (source, step))
        return self._database.readable(rows, lambda r: CoverageRow(
            r[0], r[1], tuple(r[2].split(",")), bool(r[3]), bool(r[4]), *r[5:]))

    def set_volumes(self, source: int, rows: Sequence[VolumeSeen]) -> None:
        """Keep what was learnt of volumes; one that begins at the same byte replaces its row."""
        told = [(source, r.start, r.size, r.kind, r.label, r.cluster_size, r.state, r.named_by,
                 r.used, r.used_bytes, ",".join(r.limits)) for r in rows]
        self._database.write(partial(
            self._database.many,
            "INSERT OR REPLACE INTO volumes VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)", told))

    def volumes(self, source: int) -> list[VolumeSeen]:
        """The volumes that are known of a source, by place."""
        rows = self._database.rows(
            "SELECT start, size, kind, label, cluster_size, state, named_by, used, used_bytes,"
            " limits FROM volumes WHERE source = ? ORDER BY start", (source,))
        return self._database.readable(rows, lambda r: VolumeSeen(
            r[0], r[1], r[2], r[3], r[4], r[5], r[6], r[7], r[8],
            tuple(filter(None, r[9].split(",")))))

    def steps(self) -> list[StepRow]:
        rows = self._database.rows(
            "SELECT source, step, kinds, area_start, area_stop, checkpoint, ending, state"
            " FROM steps ORDER BY changed")
        return self._database.readable(rows, lambda r: StepRow(
            r[0], r[1], tuple(r[2].split(",")) if r[2] else (), *r[3:]))
