"""Asks the open job, and tells it things, in a thread of its own: the window never waits for it."""

from __future__ import annotations

import threading
import traceback
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, QThread, Signal

from needlewright.app.courtesy import at_work
from needlewright.core.errors import NeedlewrightError
from needlewright.core.jobfile.store import Job

Then = Callable[[Any], None]


@dataclass(eq=False, slots=True)
class _Errand:
    """`topic`: a newer errand of the same replaces one that still waits. `of`: which opened job."""

    topic: str
    act: Callable[..., Any]
    then: Then
    failed: Then
    folder: Path | None
    of: int


class Clerk(QThread):
    """Runs errands in their order. What they bring is handed over in the thread that asked, unless
    another job was opened meanwhile."""

    _back = Signal(object, object, object)  # errand, what it brings, error

    def __init__(self, read_only: bool, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._read_only = read_only
        self._lock = threading.Condition()
        self._waiting: deque[_Errand] = deque()
        self._folder: Path | None = None
        self._of = self._out = 0
        self._ending = False
        self._job: Job | None = None
        self._back.connect(self._hand_over)

    @property
    def idle(self) -> bool:
        """Whether nothing waits and nothing is under way."""
        return self._out == 0

    def open(self, folder: Path | None) -> None:
        """From now on errands go to the job in `folder`; answers of another are dropped."""
        self._folder, self._of = folder, self._of + 1

    def ask(self, topic: str, act: Callable[[Job], Any], then: Then, failed: Then) -> None:
        """Run `act` with the open job, then `then` with what it brings; nothing without a job.

        An errand of the same topic that still waits is forgotten; "" is no topic.
        """
        if self._folder is not None:
            self._send(_Errand(topic, act, then, failed, self._folder, self._of))

    def call(self, act: Callable[[], Any], then: Then, failed: Then) -> None:
        """Run `act`, which needs no open job."""
        self._send(_Errand("", act, then, failed, None, self._of))

    def end(self) -> None:
        """End, after everything that was told is written."""
        with self._lock:
            self._ending = True
            self._lock.notify()
        self.wait()

    def _send(self, errand: _Errand) -> None:
        with self._lock:
            older = next((e for e in self._waiting if errand.topic and e.topic == errand.topic),
                         None)
            if older is not None:
                self._waiting.remove(older)
            else:
                self._out += 1
            self._waiting.append(errand)
            self._lock.notify()
        if not self.isRunning():
            self.start()

    @at_work
    def _hand_over(self, errand: _Errand, brought: object, error: object) -> None:
        self._out -= 1
        if errand.of != self._of:
            return
        if error is None:
            errand.then(brought)
        else:
            errand.failed(error)

    def run(self) -> None:
        while True:
            with self._lock:
                self._lock.wait_for(lambda: bool(self._waiting) or self._ending)
                if not self._waiting or (self._ending and self._read_only):
                    break
                errand = self._waiting.popleft()
            try:
                job = () if errand.folder is None else (self._job_in(errand.folder),)
                self._back.emit(errand, errand.act(*job), None)
            except Exception as error:  # whoever asked is told, whatever it is; the clerk goes on
                if not isinstance(error, NeedlewrightError | OSError):
                    traceback.print_exc()
                self._back.emit(errand, None, error)
        self._close()

    def _job_in(self, folder: Path) -> Job:
        if self._job is None or self._job.folder != folder:
            self._close()
            self._job = Job(folder, read_only=self._read_only)
        return self._job

    def _close(self) -> None:
        if self._job is not None:
            self._job.close()
            self._job = None
