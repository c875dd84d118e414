"""Backups, albums and what opens them, for the open job."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PySide6.QtCore import QObject, Signal

from needlewright.app.albums import Albums
from needlewright.app.asking import Asker
from needlewright.app.backups import Backups
from needlewright.app.comparing import Comparisons
from needlewright.app.desk import Desk
from needlewright.app.settings import Settings
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.loss import Loss, after_find, set_loss
from needlewright.wording.shelves import loss_line


class Shelves(QObject):
    """`compared`: what is on a shelf alone is known; `told`: a sentence that answers a person."""

    compared = Signal()
    told = Signal(str)
    problem = Signal(str)

    def __init__(self, settings: Settings, desk: Desk, folder: Callable[[], Path | None],
                 parent: QObject | None = None) -> None:
        """`folder`: of the open job."""
        super().__init__(parent)
        self._desk, self._folder = desk, folder
        self.asker = Asker(settings, self)
        self.asker.failed.connect(desk.tell_problem)
        self.albums = Albums(self)
        self.backups = Backups(self)
        self.comparisons = Comparisons(self)
        self.comparisons.done.connect(self.compared)
        for other in (self.backups, self.comparisons):
            other.problem.connect(self.problem)

    def find_backups(self, place: Path) -> None:
        """Look which backups there are in a place, and how useful each is to the open job."""
        self.backups.look_in([place], self._folder())

    def keep_loss(self, loss: Loss) -> None:
        """The open job knows from now on when the loss was."""
        self._desk.tell(partial(set_loss, loss=loss))

    def lost_after(self, number: int) -> None:
        """The loss was after the find `number`, as far as its date tells."""
        def keep(job: Job) -> Loss:
            loss = after_find(job, number)
            set_loss(job, loss)
            return loss

        self._desk.tell(keep, self._judged)

    def _judged(self, loss: Loss) -> None:
        self.backups.judge_by(loss)
        self.told.emit(loss_line(loss))

    def compare(self) -> None:
        """Compare the sources of the open job."""
        folder = self._folder()
        if folder is not None:
            self.comparisons.begin(folder)

    def end_work(self) -> None:
        """Another job is opened."""
        self.asker.dismiss()
        self.comparisons.end()

    def close(self) -> None:
        self.asker.end()
        self.backups.end()
        self.comparisons.end()
