"""Phones and cameras in the window: which are known, and how far one of them is ready.

A thread asks the phone again and again, so that what its owner does shows by itself.
"""

from __future__ import annotations

import contextlib
import threading
from dataclasses import dataclass

from PySide6.QtCore import QObject, QTimer, Signal

from needlewright.app.worker import Work
from needlewright.core.errors import NeedlewrightError, SourceError
from needlewright.core.phones.addresses import NAMED, Known, checked, known_phones
from needlewright.core.phones.phone import Phone, State
from needlewright.core.sources.registry import open_source
from needlewright.core.stopping import Interrupted
from needlewright.wording import errors

LOOK_SECONDS = 1.0
LOOK_MS = 2000  # between two looks at which are known


@dataclass(frozen=True, slots=True)
class Readiness:
    """How far a phone is: its `state`, what it says that it is, its stores by label, and its raw
    storage (name, address), as far as that is handed out."""

    spec: str
    state: State
    model: str = ""
    stores: tuple[str, ...] = ()
    raw: tuple[tuple[str, str], ...] = ()


def raw_storage(spec: str) -> tuple[tuple[str, str], ...]:
    """(name, address) of the raw storage that a phone hands out now."""
    known = next((k for k in known_phones() if spec == f"{NAMED}{k.name}"), None)
    found = []
    for name, address in (known.raw if known is not None else {}).items():
        with contextlib.suppress(SourceError), open_source(address):
            found.append((name, address))
    return tuple(found)


class PhoneWatch(Work):
    """Asks one phone how far it is, until it is told to stop."""

    told = Signal(object)  # Readiness

    def __init__(self, spec: str, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.spec = spec
        self._pause = threading.Event()

    def stop(self) -> None:
        super().stop()
        self._pause.set()

    def work(self) -> None:
        phone = Phone(self.spec, self.stop_signal)
        try:
            while not self.stop_signal.is_set():
                # What passes by itself is a state; the rest, such as rights to the device or
                # another program that holds it, is told in words.
                state, stores = phone.state()
                device = phone.device
                self.told.emit(Readiness(self.spec, state, device.model if device else "",
                                         tuple(s.label for s in stores), raw_storage(self.spec)))
                self._pause.wait(LOOK_SECONDS)
        except Interrupted:
            pass
        finally:
            phone.close()


class Phones(QObject):
    """`changed`: other phones are known, or how far the one that is watched is."""

    changed = Signal()
    problem = Signal(str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.known: list[Known] = []
        self.ready: Readiness | None = None  # of the one that is watched
        self._watch: PhoneWatch | None = None
        timer = QTimer(self)
        timer.timeout.connect(self.look)
        timer.start(LOOK_MS)
        self.look()

    @property
    def watched(self) -> str:
        """What the phone that is watched was given by; "" where none is."""
        return self._watch.spec if self._watch is not None else ""

    def look(self) -> None:
        """Look which are known by name."""
        known = known_phones()
        if known != self.known:
            self.known = known
            self.changed.emit()

    def watch(self, spec: str) -> None:
        """Look at the phone at `spec` from now on; `problem` tells where that is no address."""
        try:
            checked(spec)
        except NeedlewrightError as error:
            self.problem.emit(errors.explain(error))
            return
        self.leave()
        watch = PhoneWatch(spec, self)
        watch.told.connect(self._told)
        watch.failed.connect(self._failed)
        self._watch = watch
        watch.start()
        self.changed.emit()

    def leave(self) -> None:
        """Look at none any more."""
        watch, self._watch, self.ready = self._watch, None, None
        if watch is not None:
            watch.blockSignals(True)
            watch.end()
            watch.deleteLater()
            self.changed.emit()

    def _told(self, ready: Readiness) -> None:
        if self.sender() is self._watch and ready != self.ready:
            self.ready = ready
            self.changed.emit()

    def _failed(self, text: str) -> None:
        if self.sender() is self._watch:
            self.leave()
            self.problem.emit(text)
