"""Mending: for now, what waits for it."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import Signal
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QVBoxLayout, QWidget

from needlewright.app.session import Session
from needlewright.app.widgets.small import button, clear, column, fill, label, line
from needlewright.app.widgets.stitch import Stitch
from needlewright.core.jobs.rows import Filter, FindRecord
from needlewright.core.jobs.store import Job
from needlewright.wording import checks as check_words
from needlewright.wording import finds as find_words
from needlewright.wording import window as words

MENDABLE = ("photo", "video")  # kinds of finds
LISTED = 12


class Mending(QWidget):
    """Lists the damaged finds; a click shows one."""

    show_find = Signal(int)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName("station")
        self._session = session
        self.waiting = QVBoxLayout()
        self.waiting.setSpacing(6)
        inside = column(self)
        fill(inside, label(words.MENDING_HEAD, "head"),
             label(words.MENDING_TEXT, "muted", wrap=True), 12,
             label(words.MENDING_WAITING, "sub"), self.waiting, None)
        for signal in (session.finds_changed, session.job_changed):
            signal.connect(self.refresh)

    def showEvent(self, event: QShowEvent) -> None:
        self.refresh()

    def refresh(self) -> None:
        if not self.isVisible():
            return  # looked at only when it is looked at
        self._session.desk.ask("mending", waiting_of, self._show)
        if self._session.board.folder is None:
            self._show((0, []))

    def _show(self, found: tuple[int, list[FindRecord]]) -> None:
        number, records = found
        clear(self.waiting)
        if not number:
            self.waiting.addWidget(label(words.MENDING_NONE, "muted"))
            return
        for record in records:
            row = record.row
            stitch = Stitch(row.grade, row.share)
            about = check_words.grade_line(row.grade, row.share, record.checks, row.kind)
            reason = check_words.reason(record.checks[0]) if record.checks else ""
            name = button(find_words.title(row), f"waiting-{row.id}",
                          partial(self.show_find.emit, row.id), "row")
            self.waiting.addLayout(line(stitch, name, label(about, "muted"),
                                        label(reason, "muted"), None))
        if number > LISTED:
            self.waiting.addWidget(label(f"+ {number - LISTED:,}", "muted"))


def waiting_of(job: Job) -> tuple[int, list[FindRecord]]:
    """How many damaged finds wait, and the first LISTED of them."""
    ids = [item[0] for item in job.find_ids(Filter(frozenset(MENDABLE), frozenset({"partial"})))]
    return len(ids), [job.record(number) for number in ids[:LISTED]]
