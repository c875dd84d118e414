"""Finds put back onto a phone, in a thread of its own."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from PySide6.QtCore import QObject, Signal

from needlewright.app.worker import Work
from needlewright.core.delivery.onto_phone import PutBack, Putting, check, put_back
from needlewright.core.errors import NeedlewrightError
from needlewright.core.jobfile.rows import Filter, FindRow
from needlewright.core.jobfile.store import Job
from needlewright.wording import errors, finds


class PutBackWork(Work):
    """Puts rows of a job onto a phone."""

    told = Signal(object)  # Putting
    ended = Signal(object)  # PutBack

    def __init__(self, folder: Path, ids: list[int], spec: str, others: Sequence[Path],
                 parent: QObject) -> None:
        super().__init__(parent)
        self._folder, self._ids, self._spec, self._others = folder, ids, spec, others

    def work(self) -> None:
        with Job(self._folder) as job:
            events = put_back(job, job.rows(self._ids), self._spec, finds.file_name,
                              self.stop_signal, self._others)
            for event in events:
                if isinstance(event, PutBack):
                    self.ended.emit(event)
                elif isinstance(event, Putting) and self._due():
                    self.told.emit(event)


class PutBacks(QObject):
    """One at a time. `changed`: it began, went on or ended; `outcome`: of the last; `problem`: why
    there is none, in words."""

    changed = Signal()

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._work: PutBackWork | None = None
        self.spec = ""
        self.told: Putting | None = None
        self.outcome: PutBack | None = None
        self.problem = ""

    @property
    def running(self) -> bool:
        return self._work is not None

    def begin(self, folder: Path, ids: list[int], spec: str, others: Sequence[Path]) -> None:
        """Put finds of the job in `folder` onto the phone `spec`; `others`: jobs that may know
        that phone."""
        if self._work is not None:
            return
        work = PutBackWork(folder, ids, spec, others, self)
        work.told.connect(self._told)
        work.ended.connect(self._ended)
        work.failed.connect(self._failed)
        work.finished.connect(self._over)
        self._work, self.spec = work, spec
        self.forget()
        work.start()

    def forget(self) -> None:
        """What became of the last is not told any more."""
        self.told, self.outcome, self.problem = None, None, ""
        self.changed.emit()

    def stop(self) -> None:
        if self._work is not None:
            self._work.stop()

    def end(self) -> None:
        """Stop and wait, for another job or for closing."""
        work, self._work = self._work, None
        if work is not None:
            work.blockSignals(True)
            work.end()
            work.deleteLater()
        self.forget()

    def _told(self, event: Putting) -> None:
        self.told = event
        self.changed.emit()

    def _ended(self, event: PutBack) -> None:
        self.outcome = event

    def _failed(self, text: str) -> None:
        self.problem = text

    def _over(self) -> None:
        if self._work is not None and self.sender() is self._work:
            self._work.deleteLater()
            self._work = None
            self.changed.emit()


def looked_at(job: Job, spec: str, others: Sequence[Path]) -> tuple[list[FindRow], str]:
    """(the rows of the tray, why they must not be put onto the phone `spec`, which `others` may
    know: "" where they may)."""
    rows = [row for row in job.matching(Filter(tray_only=True)) if row.grade != "gone"]
    try:
        check(job, rows, spec, others)
    except NeedlewrightError as error:
        return rows, errors.explain(error)
    return rows, ""
