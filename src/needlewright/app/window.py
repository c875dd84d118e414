"""The main window: thread line, tape, station, activity line."""

from __future__ import annotations

import time
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
from PySide6.QtCore import Qt
from PySide6.QtGui import QCloseEvent, QKeySequence, QShortcut
from PySide6.QtWidgets import (
    QApplication,
    QDialog,
    QFileDialog,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QMainWindow,
    QPlainTextEdit,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from needlewright.app.courtesy import at_work
from needlewright.app.session import Session
from needlewright.app.stations.delivery import Delivery
from needlewright.app.stations.finds import Finds
from needlewright.app.stations.intake import Intake
from needlewright.app.stations.mending import Mending
from needlewright.app.stations.search import Search
from needlewright.app.theme.look import SCALES, icon, look
from needlewright.app.viewmodels.days import days_of
from needlewright.app.viewmodels.read_lane import ReadLane
from needlewright.app.viewmodels.texture_lane import TextureLane
from needlewright.app.viewmodels.volumes_lane import VolumesLane
from needlewright.app.widgets.activity_line import ActivityLine
from needlewright.app.widgets.day_strip import DayStrip
from needlewright.app.widgets.pictures import Thumbnails
from needlewright.app.widgets.secret_dialog import SecretDialog
from needlewright.app.widgets.small import button, column, label, line, restyle
from needlewright.app.widgets.tape import Tape
from needlewright.app.widgets.thread_line import ThreadLine
from needlewright.core.jobfile.rows import BYTES
from needlewright.core.jobfile.store import Job
from needlewright.core.search.plan import Plan
from needlewright.core.search.registry import steps
from needlewright.wording import activity as activity_words
from needlewright.wording import finds as find_words
from needlewright.wording import jobs as job_words
from needlewright.wording import units
from needlewright.wording import window as words

INTAKE, SEARCH, FINDS, MENDING, DELIVERY = range(5)

TEXTURE_SECONDS = 1.0  # between looks at the texture while a search runs


class MainWindow(QMainWindow):
    """Holds the stations together; all state is the session's."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setWindowIcon(icon())
        self._texture_asked = 0.0
        self._folder: Path | None = None  # of the job on show
        self.thumbnails = Thumbnails(self)
        session.finds_rechecked.connect(self.thumbnails.forget)
        self.thread_line = ThreadLine(words.STATIONS)
        self.tape = Tape(words.TAPE_OVERVIEW, words.TAPE_FINDS, words.TAPE_EMPTY, words.TAPE_LANES)
        self.days = DayStrip()
        self.days.hide()  # sources with bytes in a line have the tape
        self.intake = Intake(session)
        self.search = Search(session, self.thumbnails)
        self.finds = Finds(session, self.thumbnails)
        self.mending = Mending(session)
        self.delivery = Delivery(session)
        self.stack = QStackedWidget()
        for station in (self.intake, self.search, self.finds, self.mending, self.delivery):
            self.stack.addWidget(station)
        self.activity = ActivityLine(session)
        self.notice, self.notice_text = self._make_notice()
        inside = QWidget()
        inside.setObjectName("station")
        whole = QVBoxLayout(inside)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(0)
        for widget, stretch in ((self.thread_line, 0), (self.tape, 0), (self.days, 0),
                                (self.notice, 0), (self.stack, 1), (self.activity, 0)):
            whole.addWidget(widget, stretch)
        self.setCentralWidget(inside)
        self.resize(1280, 800)
        self.setMinimumSize(1000, 640)
        self._connect()
        self._shortcuts()
        self.show_station(INTAKE)
        self._job_changed()

    def _make_notice(self) -> tuple[QWidget, QLabel]:
        box = QWidget()
        outer = QHBoxLayout(box)
        outer.setContentsMargins(16, 8, 16, 0)
        frame = QFrame()
        frame.setObjectName("notice")
        self._notice_frame = frame
        inside = QHBoxLayout(frame)
        inside.setContentsMargins(16, 8, 16, 8)
        inside.setSpacing(16)
        text = label("", "problem", "noticeText", wrap=True)
        inside.addWidget(text, 1)
        self._copy_job = button(job_words.COPY, "copyJob", self._copy_damaged)
        inside.addWidget(self._copy_job)
        inside.addWidget(button(words.CLOSE, "closeNotice", self.hide_notice, "link"))
        outer.addWidget(frame)
        box.hide()
        return box, text

    def _connect(self) -> None:
        session = self.session
        self.thread_line.chosen.connect(self.show_station)
        session.job_changed.connect(self._job_changed)
        session.source_changed.connect(self._source_changed)
        session.finds_changed.connect(self._finds_changed)
        session.search_changed.connect(self._search_changed)
        session.tray_changed.connect(self._tray_changed)
        session.delivery_changed.connect(self._tray_changed)
        session.choice.shown_changed.connect(self._shown_came)
        session.finds.spans_answered.connect(self._spans_came)
        session.finds.lane_answered.connect(self._lane_came)
        session.finds.texture_answered.connect(self._texture_came)
        session.finds.volumes_answered.connect(self._volumes_came)
        session.copies.lane_came.connect(self._copy_lane_came)
        session.copies.changed.connect(self._copy_changed)
        session.problem.connect(self.show_problem)
        session.damaged.connect(self._show_damaged)
        session.copied.connect(lambda done: self.show_answer(
            job_words.copied(done.finds, done.known, str(done.folder), done.missed)))
        session.shelves.told.connect(self.show_answer)
        session.go_to.connect(self.show_station)
        session.shelves.asker.asked.connect(self._ask_secret)
        self.intake.to_search.connect(lambda: self.show_station(SEARCH))
        self.search.show_find.connect(self.show_find)
        self.mending.show_find.connect(self.show_find)
        self.mending.thread_shown.connect(self._thread_shown)
        self.tape.picked.connect(self._picked_on_tape)
        self.tape.viewed.connect(self._tape_viewed)
        self.days.picked.connect(self._picked_on_tape)
        self.activity.log.clicked.connect(self.show_log)
        self.activity.keys.clicked.connect(self.show_keys)

    def _shortcuts(self) -> None:
        acts = {
            "Ctrl+O": self.intake.choose_image, "Ctrl+F": self._narrow, "F1": self.show_keys,
            "Ctrl+Q": self.close, "Ctrl+M": self._show_missing,
            "Ctrl+P": self.session.pause_search, "Ctrl+Shift+P": self.session.copies.pause,
            "Ctrl+D": self.toggle_dark,
            "Ctrl++": lambda: self.scale_text(1), "Ctrl+=": lambda: self.scale_text(1),
            "Ctrl+-": lambda: self.scale_text(-1),
        }
        for number in range(len(words.STATIONS)):
            acts[f"Alt+{number + 1}"] = partial(self.show_station, number)
        for keys, act in acts.items():
            shortcut = QShortcut(QKeySequence(keys), self)
            shortcut.activated.connect(act)

    # stations

    def show_station(self, number: int) -> None:
        self.stack.setCurrentIndex(number)
        self.thread_line.show_current(number)
        if number != MENDING:
            self._shown_came(None)
        if number == FINDS:
            (self.finds.full if self.finds.stack.currentWidget() is self.finds.full
             else self.finds.sheet).setFocus()

    def show_find(self, number: int) -> None:
        """Go to Finds and open a find large."""
        self.show_station(FINDS)
        self.finds.open_full(number)

    def _show_missing(self) -> None:
        self.show_station(FINDS)
        self.finds.toggle_missing()

    def _narrow(self) -> None:
        self.show_station(FINDS)
        self.finds.text.setFocus()
        self.finds.text.selectAll()

    # state

    def _job_changed(self) -> None:
        board = self.session.board
        if board.folder != self._folder:  # what was told of another job is over
            self._folder = board.folder
            self.hide_notice()
        self.setWindowTitle(words.title(board.title or None))
        self.thread_line.show_title(board.title or words.NO_JOB,
                                    words.sources_line(len(board.sources)))
        self.finds.job_changed()
        self._finds_changed()
        self._tray_changed()
        self._search_changed()

    def _source_changed(self) -> None:
        source = self.session.source
        self.tape.show_source(source.name if source else "", source.size if source else 0)
        of_days = source is not None and source.kind != BYTES
        self.tape.setVisible(not of_days)
        self.days.setVisible(of_days)
        if source is not None:
            self.days.show_source(source.name)
        self.session.finds.show_spans(source.id if source else None)
        self.session.finds.show_view(*self.tape.view)
        self.thread_line.show_figure(
            INTAKE, units.size(source.size) if source else words.sources_line(0))
        self._finds_changed()
        self._search_changed()

    def _finds_changed(self) -> None:
        tally = self.session.board.tally
        self.thread_line.show_figure(FINDS, words.finds_figure(sum(t.finds for t in tally)))
        self.thread_line.show_figure(MENDING, words.waiting(self.session.board.waiting))
        source = self.session.source
        if source is not None and source.kind != BYTES:
            self.session.desk.ask("days", partial(days_of, source=source.id), self.days.show_days)

    @at_work
    def _spans_came(self, source: int, spans: npt.NDArray[np.int64]) -> None:
        if self.session.source is not None and self.session.source.id == source:
            self.tape.show_finds(spans)

    @at_work
    def _lane_came(self, source: int, lane: object) -> None:
        shown = self.session.source
        if shown is not None and shown.id == source and not self._copying_shown():
            self.tape.show_read(lane if isinstance(lane, ReadLane) else None)

    @at_work
    def _texture_came(self, source: int, lane: object) -> None:
        shown = self.session.source
        if shown is not None and shown.id == source and isinstance(lane, TextureLane):
            self.tape.show_texture(lane if lane.seen or self.tape.texture_lane else None)

    @at_work
    def _volumes_came(self, source: int, lane: object) -> None:
        shown = self.session.source
        if shown is not None and shown.id == source:
            self.tape.show_volumes(lane if isinstance(lane, VolumesLane) else None)
            self.search.changed()

    def _copy_lane_came(self, lane: ReadLane) -> None:
        if self._copying_shown() or (self.session.source is not None
                                     and self.session.source.size == lane.size):
            self.tape.show_read(lane)

    def _copying_shown(self) -> bool:
        """Whether the running copy's image is the source that the tape shows."""
        sources, source = self.session.board.sources, self.session.source
        return self.session.copies.work is not None and source is not None and (
            source in sources[-1:])

    def _copy_changed(self) -> None:
        told = self.session.copies.told
        if self.session.copies.work is not None and told is not None:
            part = (told.size - told.pending) / max(1, told.size)
            self.thread_line.show_figure(INTAKE, f"copy {units.percent(part)}")
        elif self.session.source is not None:
            self.thread_line.show_figure(INTAKE, units.size(self.session.source.size))

    def _search_changed(self) -> None:
        session = self.session
        progress = session.progress
        if session.search is not None and time.monotonic() - self._texture_asked > TEXTURE_SECONDS:
            self._texture_asked = time.monotonic()
            session.finds.show_view(*self.tape.view)
        if session.search is not None:
            part = progress.done / max(1, progress.total) if progress else 0.0
            step = find_words.STEPS[progress.step] if progress else ""
            state = words.SEARCH_STATES["paused"] if session.search.paused else step
            text = f"{state} {units.percent(part)}".strip()
            if progress is not None and session.source is not None:
                start = session.area_start
                self.tape.show_reached((start, start + progress.done))
        else:
            text = words.SEARCH_STATES.get(session.ending or "", "")
            self.tape.show_reached(None)
        self.thread_line.show_figure(SEARCH, text if session.source else "")

    def _tray_changed(self) -> None:
        self.thread_line.show_figure(DELIVERY, words.tray_figure(self.session.board.tray[0]))

    def _shown_came(self, _: object) -> None:
        shown = self.session.choice.shown
        record = None if shown is None else shown.record
        source = self.session.source
        on_this = record is not None and source is not None and record.row.source == source.id
        self.days.show_selected(record.row.id if record is not None and on_this else None)
        self.tape.show_selected(
            [(o, n) for o, n in record.extents if o is not None] if record and on_this else [])

    def _thread_shown(self, number: int, pieces: list[tuple[int, int]]) -> None:
        """The pieces of what is on the bench."""
        source = self.session.source
        self.tape.show_selected(pieces if source is not None and source.id == number else [])

    def _picked_on_tape(self, number: int) -> None:
        self.session.choice.select(number)
        self.show_station(FINDS)
        if self.finds.stack.currentWidget() is self.finds.full:
            self.finds.open_full(number)

    def _tape_viewed(self, view: object) -> None:
        self.session.marked = view if isinstance(view, tuple) else None
        self.session.finds.show_view(*self.tape.view)
        self.search.changed()

    # notices, log, keys

    def show_problem(self, sentence: str) -> None:
        self._show_notice(sentence, "problem")

    def show_answer(self, sentence: str) -> None:
        """What answers a person, and is no problem."""
        self._show_notice(sentence, "")

    def _show_damaged(self, sentence: str) -> None:
        """The open job is damaged: what can be read of it may be copied."""
        self._show_notice(sentence, "problem")
        self._copy_job.show()

    def _copy_damaged(self) -> None:
        path = QFileDialog.getExistingDirectory(self, job_words.CHOOSE_COPY)
        folder = self.session.board.folder
        if path and folder is not None:
            self.show_answer(job_words.COPYING)
            self.session.job_copies.begin(folder, Path(path))

    def _show_notice(self, sentence: str, role: str) -> None:
        self._copy_job.hide()
        self.notice_text.setText(sentence)
        for widget in (self._notice_frame, self.notice_text):
            widget.setProperty("role", role)
            restyle(widget)
        self.notice.show()

    def hide_notice(self) -> None:
        self.notice.hide()

    def _ask_secret(self, spec: str, what: str, wrong: bool, answer: Any) -> None:
        dialog = SecretDialog(spec, what, wrong, answer, QApplication.activeModalWidget() or self)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.session.shelves.asker.dismissed.connect(dialog.reject)
        dialog.open()

    def show_log(self) -> None:
        self.session.desk.ask("log", Job.log_lines, self._show_log)

    def _show_log(self, told: list[tuple[float, str, dict[str, Any]]]) -> None:
        text = QPlainTextEdit()
        text.setObjectName("logText")
        text.setReadOnly(True)
        lines = [f"{activity_words.clock(at)}  {activity_words.log_line(code, values)}"
                 for at, code, values in told]
        text.setPlainText("\n".join(lines))
        self._dialog("log", words.LOG_TITLE, text, (760, 440))

    def show_keys(self) -> None:
        table = QWidget()
        grid = QGridLayout(table)
        grid.setHorizontalSpacing(24)
        grid.setVerticalSpacing(8)
        for index, (keys, what) in enumerate(words.KEYS):
            grid.addWidget(label(keys, "sub"), index, 0)
            grid.addWidget(label(what), index, 1)
        self._dialog("keys", words.KEYS_TITLE, table, (560, 420))

    def _dialog(self, name: str, title: str, content: QWidget, size: tuple[int, int]) -> None:
        dialog = QDialog(self)
        dialog.setObjectName(name)
        dialog.setWindowTitle(title)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        inside = column(dialog, (20, 16, 20, 16), 12)
        inside.addWidget(label(title, "head"))
        inside.addWidget(content, 1)
        inside.addLayout(line(None, button(words.CLOSE, f"{name}Close", dialog.close)))
        dialog.resize(*(look.px(v) for v in size))
        dialog.open()

    # look

    def show_demo(self) -> None:
        """The demo job on Search, its plan running: pictures arrive by themselves."""
        self.session.demo.opened.connect(self._run_demo)
        self.session.demo.open_card()

    def _run_demo(self) -> None:
        self.session.demo.opened.disconnect(self._run_demo)
        self.show_station(SEARCH)
        done = {row.step for row in self.session.board.steps if row.ending == "done"}
        plan = tuple(name for name in steps() if name not in done)
        if plan:
            self.session.begin_search(Plan(plan))

    def toggle_dark(self) -> None:
        look.apply(not look.dark)
        self.session.settings.set("dark", look.dark)
        self._refresh_all()

    def scale_text(self, step: int) -> None:
        index = min(range(len(SCALES)), key=lambda i: abs(SCALES[i] - look.scale))
        scale = SCALES[max(0, min(len(SCALES) - 1, index + step))]
        look.apply(look.dark, scale)
        self.session.settings.set("scale", scale)
        self._lay_out_search()
        self._refresh_all()

    def _lay_out_search(self) -> None:
        """Large text has another arrangement of the steps; what was chosen there is kept."""
        old, shown = self.search, self.stack.currentIndex()
        self.search = Search(self.session, self.thumbnails)
        self.search.show_find.connect(self.show_find)
        self.search.take_choices(old)
        self.stack.insertWidget(SEARCH, self.search)
        self.stack.removeWidget(old)
        old.setParent(None)
        old.deleteLater()
        self.stack.setCurrentIndex(shown)

    def _refresh_all(self) -> None:
        for station in (self.intake, self.search, self.mending, self.delivery):
            station.refresh()

    def closeEvent(self, event: QCloseEvent) -> None:
        self.thumbnails.end()
        self.session.close()
        event.accept()
