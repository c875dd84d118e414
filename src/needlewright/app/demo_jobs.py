"""The demo's jobs: its card, drawn where it is not there yet, and the copy of the drowned card."""

from __future__ import annotations

import json
import os
import re
import subprocess
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol

from PySide6.QtCore import QObject, QProcess, QProcessEnvironment, Signal

from needlewright.app.settings import jobs_folder
from needlewright.core import processes
from needlewright.core.jobs.loss import Loss
from needlewright.wording import errors

if TYPE_CHECKING:
    from needlewright.standins.start import CardReader

DEMO_TITLE = "Fernbeck Valley otter survey"
DROWNED_SCALE = 40.0  # so many times faster than a real one, for the sake of the demo
DISPLAY = ("DISPLAY", "WAYLAND_DISPLAY", "XAUTHORITY", "QT_QPA_PLATFORM", "NEEDLEWRIGHT_PHONES",
           "NEEDLEWRIGHT_ALBUMS")
DROWNED_TITLE = "Fernbeck Valley, drowned card"


class Opener(Protocol):
    """What the demo needs of a session."""

    problem: Any
    copies: Any
    shelves: Any

    def open_phone(self, spec: str) -> None: ...

    def open_image(self, image: Path, folder: Path | None = None, title: str = "",
                   then: Callable[[], None] | None = None) -> None: ...

    def make_job(self, spec: str, title: str, then: Callable[[], None]) -> None: ...

    def begin_copy(self, spec: str) -> None: ...


class DemoJobs(QObject):
    """Opens the demo's jobs in a session."""

    changed = Signal()
    opened = Signal()

    def __init__(self, session: Opener, parent: QObject) -> None:
        super().__init__(parent)
        self._session = session
        self.builder: QProcess | None = None
        self.told = (0, 0)  # photos drawn, photos in all
        self._reader: CardReader | None = None
        self._phone: subprocess.Popen[bytes] | None = None
        self._services: dict[str, QProcess] = {}
        self._drawing: QProcess | None = None

    def close(self) -> None:
        """End what the demo has started."""
        if self._reader is not None:
            self._reader.close()
            self._reader = None
        if self._phone is not None:
            self._phone.terminate()
            self._phone.wait()
            self._phone = None
        for service in self._services.values():
            service.blockSignals(True)
            service.terminate()  # it takes itself off the list
            service.waitForFinished()
        self._services = {}
        for drawing in (self.builder, self._drawing):
            if drawing is not None:
                drawing.blockSignals(True)
                drawing.kill()
                drawing.waitForFinished()

    def open_card(self) -> None:
        """Open the demo's job; draws its card first, in a process of its own, where needed."""
        from needlewright.demo import card

        path = card.folder() / card.CARD
        if path.exists() and (card.folder() / card.TRUTH).exists():
            self._open_card(path)
            return
        if self.builder is not None:
            return
        builder = QProcess(self)
        builder.readyReadStandardError.connect(self._hear_builder)
        builder.finished.connect(self._builder_ended)
        self.builder = builder
        environment = QProcessEnvironment()
        for name, value in processes.environment().items():
            environment.insert(name, value)
        builder.setProcessEnvironment(environment)
        program, *arguments = processes.command("needlewright.demo")
        builder.start(program, arguments)
        self.changed.emit()

    def _hear_builder(self) -> None:
        assert self.builder is not None
        for line in bytes(self.builder.readAllStandardError().data()).decode().splitlines():
            if match := re.fullmatch(r"(\d+) (\d+)", line.strip()):
                self.told = (int(match[1]), int(match[2]))
        self.changed.emit()

    def _builder_ended(self, status: int) -> None:
        assert self.builder is not None
        out = bytes(self.builder.readAllStandardOutput().data()).decode().strip()
        self.builder.deleteLater()
        self.builder = None
        self.changed.emit()
        if status == 0 and out:
            self._open_card(Path(out))
        else:
            self._session.problem.emit(errors.sentence("demo-failed", {
                "reason": "its process ended early"}))

    def _open_card(self, path: Path) -> None:
        self._session.open_image(path, jobs_folder() / DEMO_TITLE, DEMO_TITLE, self.opened.emit)

    def open_phone(self) -> None:
        """Start the field phone, with a window of its own; it comes into the list of known ones."""
        if self._phone is None or self._phone.poll() is not None:
            shown = {name: os.environ[name] for name in DISPLAY if name in os.environ}
            self._phone = processes.start("needlewright", "standin", "phone",
                                          stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL,
                                          more=shown)

    def open_service(self, what: str) -> None:
        """Start the survey's album ("album") or its synchronised folder ("sync"), with a window of
        its own; the folder is taken in, the album comes into the list of known ones."""
        running = self._services.get(what)
        if running is not None and running.state() != QProcess.ProcessState.NotRunning:
            return
        process = self._process()
        process.readyReadStandardOutput.connect(partial(self._service_says, what, process))
        self._services[what] = process
        program, *arguments = processes.command("needlewright", "standin", what)
        process.start(program, arguments)

    def _process(self) -> QProcess:
        process = QProcess(self)
        environment = QProcessEnvironment()
        shown = {name: os.environ[name] for name in DISPLAY if name in os.environ}
        for name, value in processes.environment(shown).items():
            environment.insert(name, value)
        process.setProcessEnvironment(environment)
        return process

    def _service_says(self, what: str, process: QProcess) -> None:
        line = bytes(process.readLine().data()).decode("utf-8", "replace")
        if what == "sync" and line.startswith("{"):
            self._session.open_phone(json.loads(line)["source"])

    def open_backups(self) -> None:
        """Show the survey's backups, drawn first where needed, judged by the day of its loss."""
        from needlewright.standins import survey_backups

        if self._drawing is not None:
            return
        process = self._process()
        process.finished.connect(partial(self._backups_drawn, survey_backups.LOSS_DAY))
        self._drawing = process
        program, *arguments = processes.command("needlewright.standins.survey_backups")
        process.start(program, arguments)

    def _backups_drawn(self, day: str, status: int) -> None:
        process, self._drawing = self._drawing, None
        assert process is not None
        out = bytes(process.readAllStandardOutput().data()).decode().strip()
        process.deleteLater()
        if status or not out:
            self._session.problem.emit(errors.sentence("demo-failed", {
                "reason": "its process ended early"}))
            return
        shelves = self._session.shelves
        shelves.find_backups(Path(out))
        shelves.backups.judge_by(Loss(day))

    def open_drowned(self) -> None:
        """Copy the demo's card through a simulated reader that fails, in a job of its own."""
        from needlewright.demo import card

        path = card.folder() / card.CARD
        if not path.exists():
            self.open_card()  # draws it; asked again, it is there
            return
        from needlewright.standins.faults import drowned
        from needlewright.standins.start import CardReader

        if self._session.copies.work is not None:
            return
        if self._reader is None:
            faults = drowned(path.stat().st_size, time_scale=DROWNED_SCALE)
            self._reader = CardReader(path, faults)
        url = self._reader.url
        self._session.make_job(url, DROWNED_TITLE, lambda: self._session.begin_copy(url))
