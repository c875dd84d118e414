"""Backups in the window: which there are in some places, the most useful to the job first."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from PySide6.QtCore import QObject, Signal

from needlewright.app.worker import Work
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.already import Already, already_there
from needlewright.core.jobs.loss import UNKNOWN, Loss, loss_of
from needlewright.core.jobs.usefulness import Use, places_of, ranked
from needlewright.core.names import one_line
from needlewright.core.shelves.backups.finding import FoundBackup, find_backups
from needlewright.core.stopping import Interrupted

Ranked = tuple[tuple[FoundBackup, Use], ...]


class FindWork(Work):
    """Looks through places for backups, and judges each by what the job lost."""

    came = Signal(object)  # FoundBackup
    looking = Signal(str)  # which is being looked at
    judged = Signal(object, object)  # Loss, Already

    def __init__(self, places: Sequence[Path], job: Path | None,
                 parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._places, self._job = places, job

    def work(self) -> None:
        loss, there, own = UNKNOWN, Already(), list[Path]()
        if self._job is not None:
            with Job(self._job, read_only=True) as job:
                loss, there, own = loss_of(job), already_there(job), places_of(job)
        self.judged.emit(loss, there)
        try:
            for found in find_backups([*self._places, *own], self.stop_signal,
                                      self._looks_at, own):
                self.came.emit(found)
        except Interrupted:
            pass

    def _looks_at(self, path: Path) -> None:
        self.looking.emit(one_line(str(path)))


class Backups(QObject):
    """`found`: what was found in `places`; `loss`: by which day it is judged; `looking`: at what is
    looked just now, "" when all was."""

    changed = Signal()
    problem = Signal(str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.places: tuple[Path, ...] = ()
        self.loss: Loss = UNKNOWN
        self.looking = ""
        self._found: list[FoundBackup] = []
        self._already = Already()
        self._work: FindWork | None = None
        self._ending: list[FindWork] = []

    @property
    def busy(self) -> bool:
        return self._work is not None

    @property
    def ranked(self) -> Ranked:
        """What was found so far, the most useful first."""
        return tuple(ranked(self._found, self.loss, self._already))

    def look_in(self, places: Sequence[Path], job: Path | None) -> None:
        """Look through `places` anew, for the job in the folder `job`."""
        self._let_go()
        self.places, self._found, self.looking = tuple(places), [], str(places[0])
        work = FindWork(places, job, self)
        work.came.connect(self._came)
        work.looking.connect(self._looks)
        work.judged.connect(self._judged)
        work.failed.connect(self.problem)
        work.finished.connect(self._over)
        self._work = work
        work.start()
        self.changed.emit()

    def judge_by(self, loss: Loss) -> None:
        """Rank what was found by another day."""
        self.loss = loss
        self.changed.emit()

    def leave(self) -> None:
        """Show none any more."""
        self._let_go()
        self.places, self._found, self.looking = (), [], ""
        self.changed.emit()

    def _let_go(self) -> None:
        """Stop what is under way; it ends by itself, and nothing waits for it meanwhile."""
        work, self._work = self._work, None
        if work is not None:
            for told in (work.came, work.looking, work.judged, work.failed, work.finished):
                told.disconnect()
            self._ending = [old for old in self._ending if old.isRunning()]
            self._ending.append(work)
            work.stop()

    def end(self) -> None:
        """Stop and wait, for closing."""
        self._let_go()
        for work in self._ending:
            work.wait()
        self._ending = []

    def _is_mine(self) -> bool:
        """Whether what was just told comes from the look that is under way."""
        sender = self.sender()
        return sender is None or sender is self._work

    def _judged(self, loss: Loss, there: Already) -> None:
        if self._is_mine():
            # What was told before there was a job counts on.
            self.loss = loss if loss.known else self.loss
            self._already = there

    def _came(self, found: FoundBackup) -> None:
        if self._is_mine():
            self._found.append(found)
            self.changed.emit()

    def _looks(self, path: str) -> None:
        if self._is_mine():
            self.looking = path
            self.changed.emit()

    def _over(self) -> None:
        if self._is_mine() and self._work is not None:
            self._work.deleteLater()
            self._work, self.looking = None, ""
            self.changed.emit()
