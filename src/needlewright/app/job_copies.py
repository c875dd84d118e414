"""A damaged job copied into a new one, in a thread of its own."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QObject, Signal

from needlewright.app.worker import Work
from needlewright.core.jobs.anew import copy_job
from needlewright.core.stopping import Interrupted


class CopyJobWork(Work):
    """Copies; `copied` carries what came of it."""

    copied = Signal(object)  # CopiedJob

    def __init__(self, folder: Path, to: Path, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._folder, self._to = folder, to

    def work(self) -> None:
        try:
            self.copied.emit(copy_job(self._folder, self._to, self.stop_signal))
        except Interrupted:
            return


class JobCopies(QObject):
    """One at a time. `copied`: a new job is there."""

    copied = Signal(object)
    problem = Signal(str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._work: CopyJobWork | None = None

    def begin(self, folder: Path, to: Path) -> None:
        if self._work is not None:
            return
        work = self._work = CopyJobWork(folder, to, self)
        work.copied.connect(self.copied)
        work.failed.connect(self.problem)
        work.finished.connect(self._over)
        work.start()

    def end(self) -> None:
        """Stop and wait, for closing."""
        work, self._work = self._work, None
        if work is not None:
            work.blockSignals(True)
            work.end()
            work.deleteLater()

    def _over(self) -> None:
        work, self._work = self._work, None
        if work is not None:
            work.deleteLater()
