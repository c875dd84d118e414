"""The backups that were found, the most useful first, each with why; and the day of the loss."""

from __future__ import annotations

from collections.abc import Callable, Collection
from functools import partial

from PySide6.QtWidgets import QFrame, QLineEdit, QVBoxLayout, QWidget

from needlewright.app.backups import Backups
from needlewright.app.theme.look import look
from needlewright.app.widgets.small import button, card, clear, fill, label, line
from needlewright.core.jobs.loss import UNKNOWN, Loss, day_of
from needlewright.core.jobs.usefulness import Use
from needlewright.core.shelves.backups.finding import FoundBackup
from needlewright.wording import errors
from needlewright.wording import shelves as words

MOST_SHOWN = 60


class BackupsCard(QWidget):
    """Shows what `backups` found; hidden where nothing was looked for. `take_in(spec)`: one of
    them; `keep(loss)`: the day of the loss, for the job; `taken()`: what the job has already."""

    def __init__(self, backups: Backups, take_in: Callable[[str], object],
                 keep: Callable[[Loss], object], taken: Callable[[], Collection[str]]) -> None:
        super().__init__()
        self._backups, self._take_in, self._keep = backups, take_in, keep
        self._taken = taken
        self.head = label(words.BACKUPS_HEAD, "head", "backupsHead", wrap=True)
        self.told = label("", "muted", "backupsTold", wrap=True)
        self.day = QLineEdit()
        self.day.setObjectName("lossDay")
        self.day.setPlaceholderText(words.LOSS_PLACEHOLDER)
        self.day.setClearButtonEnabled(True)
        self.day.setMaximumWidth(look.px(190))
        self.day.editingFinished.connect(self._day_given)
        self.day_wrong = label(words.LOSS_WRONG, "problem", "lossWrong", wrap=True)
        self.day_wrong.hide()
        self.leave = button(words.BACKUPS_CLOSE, "leaveBackups", backups.leave, "link")
        self.list = QVBoxLayout()
        self.list.setSpacing(8)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(8)
        top = line(self.head, self.leave)
        top.setStretch(0, 1)
        fill(outer, top, self.told,
             line(label(words.LOSS_ASK), self.day, None, spacing=8), self.day_wrong, 2, self.list,
             label(words.BACKUPS_NEVER, "small", wrap=True), 8)
        backups.changed.connect(self.refresh)
        self.refresh()

    def _day_given(self) -> None:
        text = self.day.text().strip()
        try:
            loss = Loss(day_of(text)) if text else UNKNOWN
        except ValueError:
            self.day_wrong.show()
            return
        self.day_wrong.hide()
        if loss.day != self._backups.loss.day:
            self._backups.judge_by(loss)
            self._keep(loss)

    def refresh(self) -> None:
        """Show what there is now."""
        backups = self._backups
        self.setVisible(bool(backups.places))
        if not backups.places:
            return
        if not self.day.hasFocus():
            self.day.setText(backups.loss.day)
        ranked = backups.ranked
        self.told.setText(words.finding_line(len(ranked), backups.looking,
                                             [str(place) for place in backups.places]))
        clear(self.list)
        for number, (found, use) in enumerate(ranked[:MOST_SHOWN]):
            self.list.addWidget(self._row(number, found, use))

    def _row(self, number: int, found: FoundBackup, use: Use) -> QFrame:
        frame, inside = card()
        name = label(words.title(found), "sub", f"backup{number}", wrap=True)
        take = button(words.TAKE_IN, f"takeBackup{number}",
                      partial(self._take_in, found.spec), "main" if number == 0 else "")
        if found.spec in self._taken():
            take.setText(words.TAKEN_IN)
            take.setEnabled(False)
        head = line(name, take)
        head.setStretch(0, 1)
        inside.addLayout(head)
        for text, role in words.row_lines(found, use, self._backups.loss):
            inside.addWidget(label(text, role, wrap=True))
        if found.problem is not None:
            locked = found.problem.code == "secret-wanted"
            take.setEnabled(locked and take.isEnabled())
            said = words.LOCKED if locked else errors.explain(found.problem)
            inside.addWidget(label(said, "" if locked else "problem", wrap=True))
        frame.setToolTip(str(found.path))
        return frame
