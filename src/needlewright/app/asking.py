"""Passwords and one-time codes, asked for in the window by whatever thread wants one.

A thread that wants a secret waits here until a person has answered; the answer goes to the core's
memory and nowhere else, unless the person asks for the desktop's keyring.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from PySide6.QtCore import QObject, Qt, QThread, Signal
from PySide6.QtWidgets import QApplication

from needlewright.app.settings import Settings
from needlewright.core import keyrings, secrets

KEPT = "in keyring"  # among the settings: what has its secret in the desktop's keyring
Answer = Callable[[str | None, bool], None]  # the secret, None: none; whether it is to be kept


class _Question:
    """One that is asked. `answered`: set when it was."""

    def __init__(self) -> None:
        self.answered = threading.Event()
        self.secret: str | None = None
        self.keep = False


class Asker(QObject):
    """`asked`: what is wanted for which source, whether an earlier answer was wrong, and where the
    answer goes. `failed`: the keyring refused, in words."""

    asked = Signal(str, str, bool, object)
    failed = Signal(object)
    dismissed = Signal()
    _wanted = Signal(str, str, bool, object)

    def __init__(self, settings: Settings, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._settings = settings
        self._open: set[_Question] = set()
        self._lock = threading.Lock()
        self._silent = 0  # how many want nobody to be asked
        self._wanted.connect(self._hand_on, Qt.ConnectionType.QueuedConnection)
        secrets.asked_by(self.ask)

    @property
    def kept(self) -> list[str]:
        """The sources whose secret is in the keyring."""
        known = self._settings.get(KEPT, [])
        return [spec for spec in known if isinstance(spec, str)] if isinstance(known, list) else []

    def ask(self, spec: str, what: str, wrong: bool) -> str | None:
        """Ask, from any thread but the window's, which would wait for itself."""
        app = QApplication.instance()
        if app is None or QThread.currentThread() is app.thread() or self._silent:
            return None
        if what == secrets.PASSWORD and not wrong and spec in self.kept:
            known = keyrings.known(spec)
            if known is not None:
                return known
        question = _Question()
        with self._lock:
            if self._silent:
                return None
            self._open.add(question)
        self._wanted.emit(spec, what, wrong, question)
        question.answered.wait()
        if question.secret is not None and question.keep:
            try:
                keyrings.keep(spec, question.secret)
                self._settings.set(KEPT, sorted({*self.kept, spec}))
            except keyrings.Refused as error:
                self.failed.emit(error)
        return question.secret

    def end(self) -> None:
        """Nobody answers any more."""
        self._silent += 1
        self.dismiss()

    @contextmanager
    def silence(self) -> Iterator[None]:
        """Meanwhile nobody is asked, and whoever asks goes on without: the window's thread waits
        for the others to end, and shows no question."""
        with self._lock:
            self._silent += 1
        self.dismiss()
        try:
            yield
        finally:
            with self._lock:
                self._silent -= 1

    def dismiss(self) -> None:
        """Whoever waits for an answer gets none."""
        self.dismissed.emit()
        with self._lock:
            for question in self._open:
                question.answered.set()
            self._open.clear()

    def _hand_on(self, spec: str, what: str, wrong: bool, question: _Question) -> None:
        def answer(secret: str | None, keep: bool) -> None:
            with self._lock:
                self._open.discard(question)
            question.secret, question.keep = secret, keep
            question.answered.set()

        if self._silent:
            answer(None, False)
        else:
            self.asked.emit(spec, what, wrong, answer)
