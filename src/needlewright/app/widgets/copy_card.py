"""A copy in words: how far it is, what is troubled, and its buttons."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QGridLayout, QLabel, QVBoxLayout, QWidget

from needlewright.app.copies import Copies
from needlewright.app.widgets.activity_line import Gauge
from needlewright.app.widgets.small import button, fill, label, line
from needlewright.core.imaging.events import Pause
from needlewright.wording import activity as activity_words
from needlewright.wording import window as words

LISTED, SLOW_LISTED = 7, 3


class CopyCard(QWidget):
    """Shows the running copy, or how the last one ended; hidden where there was none."""

    def __init__(self, copies: Copies, go_on: Callable[[], object],
                 effort: Callable[[], object]) -> None:
        super().__init__()
        self._copies = copies
        self.head = label("", "head", "copyHead")
        self.state = label("", "muted", "copyState", wrap=True)
        self.gauge = Gauge(300)
        self.values = {name: label("", "", f"copy-{name}") for name in words.COPY_ROWS}
        grid = QGridLayout()
        grid.setVerticalSpacing(6)
        grid.setColumnStretch(1, 1)
        for index, (name, text) in enumerate(words.COPY_ROWS.items()):
            grid.addWidget(label(text, "muted"), index, 0)
            grid.addWidget(self.values[name], index, 1)
        self.list_head = label(words.COPY_LIST, "sub")
        self.troubles = QGridLayout()
        self.troubles.setVerticalSpacing(5)
        self.troubles.setHorizontalSpacing(16)
        self.cells: list[list[QLabel]] = []
        for index in range(LISTED):
            row = [label("", "" if place == 0 else "muted") for place in range(3)]
            for place, cell in enumerate(row):
                self.troubles.addWidget(cell, index, place, Qt.AlignmentFlag.AlignLeft)
            self.cells.append(row)
        self.troubles.setColumnStretch(2, 1)
        self.pause = button(words.SEARCH_PAUSE, "copyPause", copies.pause)
        self.stop = button(words.SEARCH_STOP, "copyStop", copies.stop)
        self.again = button(words.COPY_GO_ON, "copyGoOn", go_on, "main")
        self.effort = button(words.EFFORT_BUTTON, "copyEffort", effort)
        self.never_mind = button(words.COPY_NEVER_MIND, "copyNeverMind", copies.never_mind)
        self.verify = button(words.COPY_VERIFY, "copyVerify", copies.begin_verify)
        self.verify_medium = button(words.COPY_VERIFY_MEDIUM, "copyVerifyMedium",
                                    lambda: copies.begin_verify(with_medium=True))
        self.verified = label("", "", "copyVerified", wrap=True)
        self.care = label(words.COPY_CARE, "muted", wrap=True)
        inside = QVBoxLayout(self)
        inside.setContentsMargins(0, 0, 0, 0)
        inside.setSpacing(8)
        fill(inside, self.head, self.state, self.gauge, 4, grid, 8, self.list_head, self.troubles,
             4, line(self.pause, self.stop, self.again, self.verify,
                                self.verify_medium, self.effort, self.never_mind, None,
                                spacing=12),
             self.verified, self.care)
        copies.changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        copies = self._copies
        running = copies.work is not None
        self.setVisible(running or copies.ended is not None or copies.told is not None)
        self.head.setText(f"{words.COPY_HEAD}: {copies.name}")
        paused = copies.work is not None and copies.work.paused
        self.state.setText(words.copy_state(copies.told, copies.waiting, copies.ended, paused,
                                            running))
        if copies.told is not None:
            shown = dict(words.copy_rows(copies.told))
            for name, text in words.COPY_ROWS.items():
                self.values[name].setText(shown[text])
            self.gauge.show_part((copies.told.size - copies.told.pending) / copies.told.size)
        self._show_troubles()
        unfinished = copies.ended is not None and str(copies.ended.ending) != "done"
        can_verify = (not running and not unfinished and copies.ended is not None
                      and copies.verifying is None)
        for widget, visible in ((self.pause, running), (self.stop, running),
                                (self.again, not running and unfinished),
                                (self.effort, running or unfinished),
                                (self.never_mind, copies.waiting is not None
                                 and copies.waiting.reason is Pause.HANGS),
                                (self.verify, can_verify), (self.verify_medium, can_verify),
                                (self.verified, copies.verifying is not None
                                 or copies.verified is not None), (self.care, running)):
            widget.setVisible(visible)
        if copies.verified is not None:
            self.verified.setText(activity_words.verified_line(copies.verified))
        elif copies.verify_told is not None:
            self.verified.setText(activity_words.verify_line(copies.name, copies.verify_told))
        self.pause.setText(words.SEARCH_CONTINUE if paused else words.SEARCH_PAUSE)

    def _show_troubles(self) -> None:
        slow = words.slow_lines(self._copies.slow, SLOW_LISTED)
        troubles = self._copies.troubles[: LISTED - len(slow)]
        lines = [*slow, *(words.trouble_line(trouble) for trouble in troubles)]
        self.list_head.setVisible(bool(lines))
        for index, row in enumerate(self.cells):
            texts = lines[index] if index < len(lines) else ("", "", "")
            for cell, text in zip(row, texts):
                cell.setText(text)
                cell.setVisible(bool(text))
