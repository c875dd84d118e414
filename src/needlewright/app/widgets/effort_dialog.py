"""How hard a copy tries, and what it reads first; good defaults need none of it."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QAbstractSpinBox,
    QCheckBox,
    QDialog,
    QDoubleSpinBox,
    QGridLayout,
    QSpinBox,
    QWidget,
)

from needlewright.app.theme.look import look
from needlewright.app.widgets.small import button, column, fill, label, line
from needlewright.core.imaging.copier import CopyPlan, Effort
from needlewright.core.imaging.planner import Wish
from needlewright.core.sources.source import Span
from needlewright.wording import window as words

FIRST_VALUE = 10.0  # how much more the part in view is worth than the rest


class EffortDialog(QDialog):
    """Asks for a CopyPlan; `take` gets it. `view`: the part of the tape in view, bytes."""

    def __init__(self, plan: CopyPlan, view: tuple[int, int] | None,
                 take: Callable[[CopyPlan], object], parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("effort")
        self.setWindowTitle(words.EFFORT_HEAD)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self._view, self._take = view, take
        self.tries, self.seconds, self.hours = QSpinBox(), QDoubleSpinBox(), QDoubleSpinBox()
        for box, name, low, high in ((self.tries, "effortTries", 1, 100),
                                     (self.seconds, "effortSeconds", 1, 3600),
                                     (self.hours, "effortHours", 0, 1000)):
            box.setObjectName(name)
            box.setRange(low, high)
        self.seconds.setDecimals(0)
        self.hours.setDecimals(1)
        self.hours.setSpecialValueText(words.EFFORT_NO_LIMIT)
        self.tries.setValue(plan.effort.tries)
        self.seconds.setValue(plan.effort.read_seconds)
        self.hours.setValue((plan.effort.total_seconds or 0.0) / 3600)
        self.first = QCheckBox(words.EFFORT_FIRST)
        self.first.setObjectName("effortFirst")
        self.first.setEnabled(view is not None)
        self.only = QCheckBox(words.EFFORT_ONLY)
        self.only.setObjectName("effortOnly")
        self.only.setEnabled(view is not None)
        self.again = QCheckBox(words.EFFORT_AGAIN)
        self.again.setObjectName("effortAgain")
        self.again.setChecked(plan.retry)
        grid = QGridLayout()
        grid.setVerticalSpacing(8)
        grid.setHorizontalSpacing(16)
        rows: tuple[tuple[str, QAbstractSpinBox], ...] = (
                (words.EFFORT_TRIES, self.tries), (words.EFFORT_SECONDS, self.seconds),
                (words.EFFORT_HOURS, self.hours))
        for index, (text, spin) in enumerate(rows):
            grid.addWidget(label(text), index, 0)
            grid.addWidget(spin, index, 1)
        inside = column(self, (20, 16, 20, 16), 10)
        fill(inside, label(words.EFFORT_HEAD, "head"),
             label(words.EFFORT_HINT, "muted", wrap=True), grid, self.first, self.only,
             self.again, 8,
             line(None, button(words.CLOSE, "effortClose", self.close),
                  button(words.EFFORT_USE, "effortUse", self._use, "main"), spacing=12))
        self.resize(look.px(460), look.px(300))

    def _use(self) -> None:
        hours = self.hours.value()
        wishes = (Wish(*self._view, FIRST_VALUE),) if (
            self.first.isChecked() and self._view is not None) else ()
        area = Span(*self._view) if self.only.isChecked() and self._view is not None else None
        self._take(CopyPlan(
            area, wishes,
            Effort(self.tries.value(), self.seconds.value(), hours * 3600 if hours else None),
            self.again.isChecked()))
        self.close()
