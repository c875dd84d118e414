"""Mending of finds while the window goes on: one run at a time, and the pictures before and
after."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from PySide6.QtCore import QObject, Signal

from needlewright.app.worker import PictureWork, Work
from needlewright.core.checks.decoding import DecodeReport
from needlewright.core.errors import JobError
from needlewright.core.finds import MENDED_FROM
from needlewright.core.jobs.mending import MendedFind, Mending, mend_finds
from needlewright.core.jobs.rows import BYTES, FindRecord
from needlewright.core.jobs.store import Job

SIDE = 1200  # pixels of a picture that is compared


class MendingWork(Work):
    """Mends finds of a job, one after another."""

    told = Signal(object)  # Mending
    done = Signal(object)  # MendedFind

    def __init__(self, folder: Path, ids: Sequence[int], parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._folder, self.ids = folder, list(ids)

    def work(self) -> None:
        with Job(self._folder) as job:
            for event in mend_finds(job, self.ids, self.stop_signal):
                if isinstance(event, MendedFind):
                    self.done.emit(event)
                else:
                    self.told.emit(event)


class Pair:
    """A damaged find and the one that was mended from it, if any, with what they look like."""

    def __init__(self, before: FindRecord, after: FindRecord | None, path: str) -> None:
        self.before, self.after, self.path = before, after, path
        self.pictures: dict[int, bytes] = {}  # id of a find -> JPEG

    @property
    def numbers(self) -> list[int]:
        """The finds of it."""
        return [record.row.id for record in (self.before, self.after) if record is not None]


def pair_of(job: Job, number: int) -> Pair | None:
    """Find `number` with its mended version; alone where it has none and is a file, to which no
    pieces can be joined; else None."""
    try:
        kept = job.related(number, MENDED_FROM, back=True)
        before = job.record(number)
        source = next(s for s in job.sources() if s.id == before.row.source)
        if not kept and source.kind == BYTES:
            return None
        return Pair(before, job.record(kept[0]) if kept else None, source.path)
    except JobError:
        return None


class Mends(QObject):
    """`changed`: how far it is; `came`: a find was mended, or not (MendedFind); `pictured`: a
    picture of the pair is there."""

    changed = Signal()
    came = Signal(object)
    failed = Signal(str)
    pictured = Signal()

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.work: MendingWork | None = None
        self.now: Mending | None = None
        self.pair: Pair | None = None
        self._pictures: PictureWork | None = None
        self._folder: Path | None = None

    def begin(self, folder: Path, ids: Sequence[int]) -> None:
        """Mend these finds, unless others are being mended."""
        if self.work is not None or not ids:
            return
        work = MendingWork(folder, ids, self)
        work.told.connect(self._told)
        work.done.connect(self.came)
        work.failed.connect(self.failed)
        work.finished.connect(self._over)
        self.work = work
        work.start()
        self.changed.emit()

    def stop(self) -> None:
        if self.work is not None:
            self.work.stop()

    def _told(self, event: Mending) -> None:
        if self.sender() is self.work:
            self.now = event
            self.changed.emit()

    def _over(self) -> None:
        if self.sender() is not self.work or self.work is None:
            return
        self.work.deleteLater()
        self.work = self.now = None
        self.changed.emit()

    # before and after

    def show_pair(self, folder: Path, pair: Pair | None) -> None:
        """Look at a pair; its pictures come, the mended one first."""
        self.pair, self._folder = pair, folder
        if pair is None:
            return
        if self._pictures is None:
            self._pictures = PictureWork(self)
            self._pictures.ready.connect(self._decoded)
            self._pictures.start()
        self._pictures.show(pair.after or pair.before, pair.path, SIDE, folder=folder)

    def _decoded(self, number: int, report: DecodeReport) -> None:
        pair = self.pair
        if pair is None or number not in pair.numbers:
            return
        pair.pictures[number] = report.thumbnail
        self.pictured.emit()
        if number != pair.before.row.id and pair.before.row.id not in pair.pictures and (
                self._pictures is not None):
            self._pictures.show(pair.before, pair.path, SIDE, folder=self._folder)

    def end(self) -> None:
        """Stop what runs and wait."""
        if self.work is not None:
            self.work.blockSignals(True)
            self.work.end()
            self.work.deleteLater()
        self.work = self.now = self.pair = None

    def close(self) -> None:
        self.end()
        if self._pictures is not None:
            self._pictures.end()
            self._pictures = None
