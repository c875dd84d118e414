"""The sources of a job compared, in a thread of its own."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QObject, Signal

from needlewright.app.courtesy import GivingWay
from needlewright.app.worker import Work
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.comparing import Comparing, compare


class CompareWork(Work):
    """Compares, and tells how far it is."""

    told = Signal(int, int)

    def __init__(self, folder: Path, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._folder = folder

    def work(self) -> None:
        with Job(self._folder) as job:
            for event in compare(job, GivingWay(self.stop_signal)):
                if isinstance(event, Comparing) and self._due():
                    self.told.emit(event.done, event.total)


class Comparisons(QObject):
    """One at a time. `done`: it came to its end, so that what is missing is known."""

    changed = Signal()
    done = Signal()
    problem = Signal(str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._work: CompareWork | None = None
        self.told = (0, 0)

    @property
    def busy(self) -> bool:
        return self._work is not None

    def begin(self, folder: Path) -> None:
        """Compare the sources of the job in `folder`."""
        if self._work is not None:
            return
        work = CompareWork(folder, self)
        work.told.connect(self._told)
        work.failed.connect(self.problem)
        work.finished.connect(self._over)
        self._work, self.told = work, (0, 0)
        work.start()
        self.changed.emit()

    def end(self) -> None:
        """Stop and wait, for closing."""
        work, self._work = self._work, None
        if work is not None:
            work.blockSignals(True)
            work.end()
            work.deleteLater()
            self.changed.emit()

    def _told(self, done: int, total: int) -> None:
        self.told = done, total
        self.changed.emit()

    def _over(self) -> None:
        work, self._work = self._work, None
        if work is not None:
            stopped = work.stop_signal.is_set()
            work.deleteLater()
            self.changed.emit()
            if not stopped:
                self.done.emit()
