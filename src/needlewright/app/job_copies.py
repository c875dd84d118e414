"""A damaged job copied into a new one, in a thread of its own."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QObject, Signal

from needlewright.app.one_work import OneWork
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


class JobCopies(OneWork):
    """`copied`: a new job is there."""

    copied = Signal(object)  # CopiedJob

    def begin(self, folder: Path, to: Path) -> None:
        if self.busy:
            return
        work = CopyJobWork(folder, to, self)
        work.copied.connect(self.copied)
        self.start(work)
