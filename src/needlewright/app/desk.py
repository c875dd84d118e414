"""Where questions to the open job and changes of it are handed in: by one clerk each."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, Signal

from needlewright.app.clerk import Clerk
from needlewright.core.jobfile.store import Job
from needlewright.wording import errors


def _nothing(_: object) -> None:
    """For what brings nothing."""


class Desk(QObject):
    """Two clerks, so that a change never waits for an answer. `problem`: what failed, in words."""

    problem = Signal(str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._reads, self._writes = Clerk(True, self), Clerk(False, self)

    @property
    def idle(self) -> bool:
        """Whether nothing asked or told is under way."""
        return self._reads.idle and self._writes.idle

    def open(self, folder: Path) -> None:
        """From now on the job in `folder` is meant; answers of another are dropped."""
        self._reads.open(folder)
        self._writes.open(folder)

    def ask(self, topic: str, act: Callable[[Job], Any], then: Callable[[Any], None]) -> None:
        """Run `act` with the open job, elsewhere; `then` gets what it brings, in this thread.

        A newer question of the same topic takes the place of one that still waits.
        """
        self._reads.ask(topic, act, then, self.tell_problem)

    def tell(self, act: Callable[[Job], Any], then: Callable[[Any], None] = _nothing,
             failed: Callable[[Any], None] | None = None) -> None:
        """Change the job, elsewhere, by `act`."""
        self._writes.ask("", act, then, failed or self.tell_problem)

    def call(self, act: Callable[[], Any], then: Callable[[Any], None]) -> None:
        """Run what makes or opens a job, elsewhere."""
        self._writes.call(act, then, self.tell_problem)

    def tell_problem(self, error: BaseException) -> None:
        self.problem.emit(errors.explain(error))

    def end(self) -> None:
        """End, after everything that was told is written."""
        self._reads.end()
        self._writes.end()
