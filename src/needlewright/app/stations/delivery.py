"""Delivery: what is in the tray, how and where it goes, and whether the place will do."""

from __future__ import annotations

import os
from collections import Counter
from functools import partial
from pathlib import Path

from PySide6.QtCore import Qt, QUrl
from PySide6.QtGui import QDesktopServices, QShowEvent
from PySide6.QtWidgets import QFileDialog, QGridLayout, QHBoxLayout, QVBoxLayout, QWidget

from needlewright.app.session import Session
from needlewright.app.widgets.activity_line import Gauge
from needlewright.app.widgets.put_back_card import PutBackCard
from needlewright.app.widgets.small import (
    button,
    card,
    clear,
    column,
    fill,
    label,
    line,
    scrolling,
)
from needlewright.app.widgets.stitch import Stitch
from needlewright.core.delivery.bag import Delivered, Delivering, destination_guards
from needlewright.core.delivery.guards import Guard
from needlewright.core.jobfile.rows import Filter, FindRow
from needlewright.core.jobfile.store import Job
from needlewright.wording import activity as activity_words
from needlewright.wording import checks as check_words
from needlewright.wording import finds as find_words
from needlewright.wording import guards as guard_words
from needlewright.wording import window as words

SHOWN_FILES = 7
SHOWN_QUESTIONS = 6


class Delivery(QWidget):
    """Guards are looked at whenever the tray or the folder changes; nothing is ticked by itself."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName("station")
        self._session = session
        self.destination: Path | None = None
        self.what, self.how, self.where = QVBoxLayout(), QVBoxLayout(), QVBoxLayout()
        for layout in (self.what, self.how, self.where):
            layout.setSpacing(6)
        left = column(margins=(24, 16, 16, 16))
        fill(left, label(words.DELIVERY_WHAT, "head"), self.what, None)
        right = column(margins=(16, 16, 24, 16))
        fill(right, label(words.DELIVERY_HOW, "head"),
             label(words.DELIVERY_HOW_HINT, "muted", wrap=True), self.how, 12,
             label(words.DELIVERY_WHERE, "head"), self.where, 8, self._buttons(), 8,
             PutBackCard(session), None)
        whole = QHBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.addLayout(left, 2)
        whole.addWidget(scrolling(right, "deliveryPlace"), 3)
        for signal in (session.tray_changed, session.job_changed):
            signal.connect(self.refresh)
        session.delivery_changed.connect(self._show_work)
        self._ready = False
        self._rows: list[FindRow] = []  # of the tray, as they were read last
        self._guards: list[Guard] = []

    def _buttons(self) -> QVBoxLayout:
        self.deliver_button = button("", "deliver", self.begin, "main")
        self.choose_button = button(words.DELIVERY_CHOOSE, "chooseFolder", self.choose)
        self.stop_button = button(words.DELIVERY_STOP, "stopDelivery",
                                  self._session.stop_delivery)
        self.promise = label(words.DELIVERY_PROMISE, "muted")
        self.gauge, self.told = Gauge(220), label("", "", "deliveryTold")
        self.open_button = button(words.DELIVERY_OPEN, "openFolder", self.open_folder)
        self.result = label("", "", "deliveryResult", wrap=True)
        box = QVBoxLayout()
        box.setSpacing(12)
        box.addLayout(line(self.deliver_button, self.choose_button, self.stop_button,
                           self.promise, None, spacing=12))
        box.addLayout(line(self.gauge, self.told, None))
        result = line(self.open_button)
        result.addWidget(self.result, 1)
        box.addLayout(result)
        return box

    # what

    def showEvent(self, event: QShowEvent) -> None:
        self.refresh()

    def refresh(self) -> None:
        if not self.isVisible():
            return  # looked at only when it is looked at
        self._ready = False
        self.deliver_button.setEnabled(False)
        if self._session.board.folder is None:
            self._came(([], []))
        self._session.desk.ask("tray", partial(prepared, destination=self.destination), self._came)

    def _came(self, found: tuple[list[FindRow], list[Guard]]) -> None:
        self._rows, self._guards = found
        self._show_what(self._rows)
        self._show_how(self._rows)
        self._show_work()

    def _show_what(self, rows: list[FindRow]) -> None:
        clear(self.what)
        if not rows:
            fill(self.what, label(words.DELIVERY_TRAY_EMPTY, "sub"),
                 label(words.DELIVERY_TRAY_HINT, "muted", wrap=True),
                 line(button(words.DELIVERY_TO_FINDS, "toFinds",
                             lambda: self._session.go_to.emit(2), "link"), None))
            return
        self.what.addWidget(label(
            words.tray_line(len(rows), sum(r.size for r in rows)), "muted", "trayLine"))
        counts = Counter((r.grade, r.kind) for r in rows)
        kinds = sorted({r.kind for r in rows})
        grid = QGridLayout()
        grid.setVerticalSpacing(10)
        grid.setHorizontalSpacing(16)
        for place, kind in enumerate(kinds):
            grid.addWidget(label(find_words.KINDS[kind], "muted"), 0, place + 2,
                           Qt.AlignmentFlag.AlignRight)
        for index, grade in enumerate(
                ("whole", "unproven", "mended", "partial", "remnant"), 1):
            grid.addWidget(Stitch(grade, 0.66), index, 0)
            grid.addWidget(label(check_words.GRADES[grade]), index, 1)
            for place, kind in enumerate(kinds):
                number = counts[grade, kind]
                grid.addWidget(label(f"{number:,}" if number else ""), index, place + 2,
                               Qt.AlignmentFlag.AlignRight)
        grid.setColumnStretch(len(kinds) + 2, 1)
        fill(self.what, 8, grid, 16, label(words.DELIVERY_ASK, "sub"))
        for text in self._questions(rows):
            self.what.addWidget(label(text, wrap=True))

    @staticmethod
    def _questions(rows: list[FindRow]) -> list[str]:
        broken = [r for r in rows if r.grade in ("unproven", "partial", "remnant")]
        found = [words.share_there(find_words.title(r), r.share)
                 for r in broken[:SHOWN_QUESTIONS]]
        if len(broken) > SHOWN_QUESTIONS:
            found.append(f"+ {len(broken) - SHOWN_QUESTIONS:,}")
        undated = sum(1 for r in rows if r.taken is None)
        if undated:
            found.append(words.DELIVERY_NO_DATE_ONE if undated == 1
                         else words.DELIVERY_NO_DATE.format(count=f"{undated:,}"))
        return found or [words.DELIVERY_ASK_NOTHING]

    # how and where

    def _show_how(self, rows: list[FindRow]) -> None:
        clear(self.how)
        frame, inside = card()
        inside.setSpacing(5)
        name = self.destination.name if self.destination else "…"
        inside.addWidget(label(name, "sub"))
        inside.addLayout(line(20, label("data"), None, spacing=0))
        for row in rows[:SHOWN_FILES]:
            text = row.name or find_words.file_name(row)
            inside.addLayout(line(40, label(text, "muted"), None, spacing=0))
        if len(rows) > SHOWN_FILES:
            inside.addLayout(line(40, label(f"+ {len(rows) - SHOWN_FILES:,}", "muted"), None,
                                  spacing=0))
        inside.addLayout(line(20, label(words.DELIVERY_ALSO, wrap=True), spacing=0))
        self.how.addWidget(frame)

    def _show_where(self) -> None:
        rows = self._rows
        clear(self.where)
        self._ready = False
        delivered = self._session.delivered
        if self.destination is None:
            self.where.addWidget(label(words.DELIVERY_NO_FOLDER, "muted"))
        else:
            self.where.addWidget(label(str(self.destination), "", "destination", wrap=True))
            just_done = isinstance(delivered, Delivered) and delivered.finished and (
                delivered.path == str(self.destination))
            guards = [] if just_done else self._guards
            for guard in guards:
                self._add_guard(guard)
            self._ready = bool(rows) and bool(guards) and all(g.holds for g in guards)
        self.deliver_button.setText(words.DELIVERY_BUTTON.format(count=f"{len(rows):,}"))
        self.deliver_button.setEnabled(self._ready and self._session.delivery is None)
        self.choose_button.setText(
            words.DELIVERY_ELSEWHERE if self.destination else words.DELIVERY_CHOOSE)

    def _add_guard(self, guard: Guard) -> None:
        text = label(guard_words.line(guard), "" if guard.holds else "problem", wrap=True)
        state = label(words.DELIVERY_HOLDS if guard.holds else words.DELIVERY_NOT,
                      "muted" if guard.holds else "problem", f"guard-{guard.name}")
        row = QHBoxLayout()
        row.addWidget(text, 1)
        row.addWidget(state)
        self.where.addLayout(row)

    def choose(self) -> None:
        path = QFileDialog.getExistingDirectory(self, words.DELIVERY_CHOOSE)
        if path:
            self.choose_folder(Path(path))

    def choose_folder(self, path: Path) -> None:
        self.destination = Path(os.path.realpath(path))
        self._session.delivered = None
        self.refresh()

    # work

    def begin(self) -> None:
        if self.destination is not None and self._ready:
            self._session.begin_delivery([row.id for row in self._rows], self.destination)

    def _show_work(self) -> None:
        session = self._session
        running, event, done = session.delivery is not None, session.delivering, session.delivered
        for widget, shown in (
                (self.gauge, running), (self.told, running), (self.stop_button, running),
                (self.deliver_button, not running), (self.choose_button, not running),
                (self.promise, not running and done is None),
                (self.result, isinstance(done, Delivered) and not running),
                (self.open_button, isinstance(done, Delivered) and done.finished and not running)):
            widget.setVisible(shown)
        if isinstance(event, Delivering):
            self.gauge.show_part(event.done / max(1, event.total))
            self.told.setText(activity_words.delivery_line(event))
        elif running:
            self.told.setText("")
        if isinstance(done, Delivered) and not running:
            self.result.setText(activity_words.delivered_line(done))
        if not running and self.isVisible():
            self._show_where()

    def open_folder(self) -> None:
        if self.destination is not None:
            QDesktopServices.openUrl(QUrl.fromLocalFile(str(self.destination)))


def prepared(job: Job, destination: Path | None) -> tuple[list[FindRow], list[Guard]]:
    """The rows in the tray, and what stands in the way of delivering them to `destination`."""
    rows = job.matching(Filter(tray_only=True))
    return rows, [] if destination is None else destination_guards(job, rows, destination)
