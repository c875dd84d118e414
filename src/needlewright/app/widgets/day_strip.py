"""A plain strip of days, in the place of the tape for sources that have no bytes in a line.

Each day that has finds is a bar as high as they are many, those that were removed hollow. A click
or Enter shows the first find of a day; left and right go from day to day.
"""

from __future__ import annotations

from collections.abc import Sequence
from math import log1p

from PySide6.QtCore import QPoint, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QFocusEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QToolTip, QWidget

from needlewright.app.courtesy import at_work
from needlewright.app.theme.look import look
from needlewright.app.viewmodels.days import Day
from needlewright.wording import finds as words

LABEL_WIDTH, RIGHT, WIDEST, NARROWEST = 96, 20, 26, 2
HEIGHT = 64


class DayStrip(QWidget):
    """`picked`: a find that is to be shown."""

    picked = Signal(int)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("dayStrip")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.source_name = ""
        self.days: tuple[Day, ...] = ()
        self.current = -1
        self._fit()
        look.changed.connect(self._fit)

    def _fit(self) -> None:
        self.setFixedHeight(look.px(HEIGHT))

    def show_source(self, name: str) -> None:
        """Another source; its days come later."""
        self.source_name, self.days, self.current = name, (), -1
        self.update()

    def show_days(self, days: Sequence[Day]) -> None:
        """These days, in order."""
        self.days = tuple(days)
        self.current = min(self.current, len(self.days) - 1)
        self.setAccessibleName(words.days_line(
            len(self.days), sum(len(day.finds) for day in self.days)))
        self.update()

    def show_selected(self, find: int | None) -> None:
        """Mark the day of a find."""
        self.current = next((n for n, day in enumerate(self.days) if find in day.finds), -1)
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(640, look.px(HEIGHT))

    def bar(self, index: int) -> QRectF:
        """Where a day is drawn."""
        left = look.px(LABEL_WIDTH) + 16
        width = self.width() - left - RIGHT
        each = width / max(1, len(self.days))
        most = log1p(max((len(day.finds) for day in self.days), default=1))
        room = self.height() - look.px(28)
        high = max(3.0, room * log1p(len(self.days[index].finds)) / most)
        thick = max(NARROWEST, min(WIDEST, each * 0.7))
        return QRectF(left + (index + 0.5) * each - thick / 2, 8 + room - high, thick, high)

    def at(self, point: QPoint) -> int:
        """The day at a place; -1 where none is."""
        left = look.px(LABEL_WIDTH) + 16
        width = max(1, self.width() - left - RIGHT)
        index = int((point.x() - left) / width * len(self.days))
        return index if point.x() >= left and 0 <= index < len(self.days) else -1

    def _pick(self, index: int) -> None:
        if 0 <= index < len(self.days):
            self.current = index
            self.update()
            self.picked.emit(self.days[index].finds[0])

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.setFocus()
        self._pick(self.at(event.position().toPoint()))

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        index = self.at(event.position().toPoint())
        text = words.day_line(self.days[index].date, len(self.days[index].finds),
                              self.days[index].removed) if index >= 0 else ""
        QToolTip.showText(event.globalPosition().toPoint(), text, self)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key()))
        if step is not None and self.days:
            self.current = min(max(0, self.current + step), len(self.days) - 1)
            self.update()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._pick(self.current)
        else:
            super().keyPressEvent(event)

    def focusInEvent(self, event: QFocusEvent) -> None:
        self.update()

    focusOutEvent = focusInEvent

    @at_work
    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        left = look.px(LABEL_WIDTH) + 16
        base = self.height() - look.px(20)
        painter.setFont(look.font(12))
        painter.setPen(look.colour("thread"))
        painter.drawText(20, base, painter.fontMetrics().elidedText(
            self.source_name, Qt.TextElideMode.ElideMiddle, left - 28))
        painter.setPen(QPen(look.colour("line"), 1))
        painter.drawLine(left, base, self.width() - RIGHT, base)
        for index, day in enumerate(self.days):
            self._paint_day(painter, self.bar(index), day, index == self.current)
        painter.setFont(look.font(11))
        painter.setPen(look.colour("muted"))
        dated = [day.date for day in self.days if day.date]
        if dated:
            painter.drawText(left, base + look.px(14), words.day_name(dated[0]))
            last = words.day_name(dated[-1]) if len(dated) > 1 else ""
            wide = painter.fontMetrics().horizontalAdvance(last)
            painter.drawText(self.width() - RIGHT - wide, base + look.px(14), last)
        painter.end()

    def _paint_day(self, painter: QPainter, bar: QRectF, day: Day, chosen: bool) -> None:
        colour = look.colour("thread")
        there = 1 - day.removed / len(day.finds)
        solid = QRectF(bar.left(), bar.bottom() - bar.height() * there, bar.width(),
                       bar.height() * there)
        painter.fillRect(solid, colour)
        painter.setPen(QPen(colour, 1))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(bar.adjusted(0, 0, -1, -1))
        if chosen:
            painter.setPen(QPen(look.colour("ink"), 2 if self.hasFocus() else 1))
            painter.drawRect(bar.adjusted(-3, -3, 2, 2))
