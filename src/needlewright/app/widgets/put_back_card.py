"""Putting the tray back onto a phone: which, whether it may be, a clear yes, and what came of
it."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PySide6.QtWidgets import QVBoxLayout, QWidget

from needlewright.app.putting import looked_at
from needlewright.app.session import Session
from needlewright.app.widgets.activity_line import Gauge
from needlewright.app.widgets.small import button, card, clear, fill, label, line
from needlewright.core.jobfile.rows import FindRow
from needlewright.core.phones.addresses import NAMED
from needlewright.wording import errors
from needlewright.wording import phones as words

SHOWN = 4  # files that were not put back, with their reasons


class PutBackCard(QWidget):
    """Hidden where no phone is known by name."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._asked: tuple[str, list[FindRow]] = ("", [])
        self.choices = QVBoxLayout()
        self.question = label("", "", "putBackQuestion", wrap=True)
        self.meaning = label("", "muted", "putBackMeaning", wrap=True)
        self.yes = button(words.PUT_BACK_YES, "putBackYes", self._begin, "main")
        self.no = button(words.PUT_BACK_NO, "putBackNo", self._leave)
        self.gauge, self.told = Gauge(220), label("", "", "putBackTold")
        self.stop = button(words.PUT_BACK_STOP, "stopPutBack", session.putting.stop)
        self.result = label("", "", "putBackResult", wrap=True)
        frame, inside = card()
        fill(inside, label(words.PUT_BACK_HEAD, "sub"), 4, self.choices, self.question,
             self.meaning,
             4, line(self.yes, self.no, None, spacing=12),
             line(self.gauge, self.told, self.stop, None, spacing=12), self.result)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.addWidget(frame)
        session.phones.changed.connect(self.refresh)
        session.putting.changed.connect(self.refresh)
        session.tray_changed.connect(self._leave)
        self.refresh()

    def refresh(self) -> None:
        """Show what can be done, is asked, is under way or came of it."""
        known, putting = self._session.phones.known, self._session.putting
        self.setVisible(bool(known) or putting.running)
        asking = bool(self._asked[0]) and not putting.running
        clear(self.choices)
        if not asking and not putting.running:
            for one in known:
                self.choices.addLayout(line(button(
                    words.PUT_BACK_ONTO.format(name=one.name), f"putBack-{one.name}",
                    partial(self._ask, f"{NAMED}{one.name}")), None))
        for widget, shown in ((self.question, asking), (self.meaning, asking), (self.yes, asking),
                              (self.no, asking), (self.gauge, putting.running),
                              (self.told, putting.running), (self.stop, putting.running)):
            widget.setVisible(shown)
        if putting.running and putting.told is not None:
            self.gauge.show_part(putting.told.done / max(1, putting.told.total))
            self.told.setText(words.putting_line(putting.told.done, putting.told.total))
        elif putting.running:
            self.gauge.show_part(0.0)
            self.told.setText("")
        if putting.outcome is not None or putting.problem:
            self._show_outcome()
        elif asking or putting.running:
            self.result.setText("")
        self.result.setVisible(bool(self.result.text()))

    def _show_outcome(self) -> None:
        outcome = self._session.putting.outcome
        lines = [self._session.putting.problem] if self._session.putting.problem else []
        if outcome is not None:
            lines.append(words.put_back_line(len(outcome.put), len(outcome.failed),
                                             self._session.putting.spec, outcome.finished))
            lines += [words.not_put_line(number, errors.explain(error))
                      for number, error in outcome.failed[:SHOWN]]
        self.result.setText("\n".join(lines))

    def _ask(self, spec: str) -> None:
        self._session.putting.forget()
        self._session.desk.ask("put-back", partial(looked_at, spec=spec, others=self._other_jobs()),
                               partial(self._looked, spec))

    def _looked(self, spec: str, found: tuple[list[FindRow], str]) -> None:
        rows, problem = found
        self._asked = ("", []) if problem else (spec, rows)
        if not problem:
            asked, means = words.put_back_question(
                len(rows), sum(row.size for row in rows), spec)
            self.question.setText(asked)
            self.meaning.setText(means)
        self.result.setText(problem)
        self.refresh()
        if not problem:
            self.no.setFocus()  # Enter alone writes nothing

    def _leave(self) -> None:
        self._asked = ("", [])
        if not self._session.putting.running:
            self.result.setText("")  # it was said of another tray
        self.refresh()

    def _begin(self) -> None:
        spec, rows = self._asked
        self._asked = ("", [])
        folder = self._session.board.folder
        if spec and folder is not None:
            self._session.putting.begin(folder, [row.id for row in rows], spec,
                                        self._other_jobs())

    def _other_jobs(self) -> list[Path]:
        return [Path(folder) for folder, _ in self._session.settings.recent_jobs()]
