"""The sources of a job compared, in a thread of its own."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QObject, Signal

from needlewright.app.courtesy import GivingWay
from needlewright.app.one_work import OneWork
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


class Comparisons(OneWork):
    """`done`: it came to its end, so that what is missing is known."""

    done = Signal()

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.told = (0, 0)

    def begin(self, folder: Path) -> None:
        """Compare the sources of the job in `folder`."""
        if self.busy:
            return
        work = CompareWork(folder, self)
        work.told.connect(self._told)
        self.told = (0, 0)
        self.start(work)

    def came_to_its_end(self) -> None:
        self.done.emit()

    def _told(self, done: int, total: int) -> None:
        self.told = done, total
        self.changed.emit()
