"""The thread line: five stations joined by a line, each with one live figure."""

from __future__ import annotations

from PySide6.QtCore import QRect, QSize, Qt, Signal
from PySide6.QtGui import QFocusEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from needlewright.app.courtesy import at_work
from needlewright.app.theme.look import look

KNOT = 7
LEFT_EDGE = 0.2  # part of the width that the title keeps


class ThreadLine(QWidget):
    """Click a station, or move with the arrows and press Enter."""

    chosen = Signal(int)

    def __init__(self, names: list[str]) -> None:
        super().__init__()
        self.setObjectName("threadLine")
        self.names = names
        self.figures = [""] * len(names)
        self.title, self.subtitle = "", ""
        self.current = 0
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName("Stations")
        look.changed.connect(self.updateGeometry)

    def show_title(self, title: str, subtitle: str) -> None:
        self.title, self.subtitle = title, subtitle
        self.update()

    def show_figure(self, station: int, text: str) -> None:
        if self.figures[station] != text:
            self.figures[station] = text
            self.update()

    def show_current(self, station: int) -> None:
        self.current = station
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(900, look.px(70))

    def minimumSizeHint(self) -> QSize:
        return QSize(700, look.px(70))

    def centre(self, station: int) -> int:
        """x of a station's knot, pixels."""
        left = self.width() * LEFT_EDGE
        room = self.width() - left
        return round(left + room * (station + 0.3) / (len(self.names) - 0.2))

    @at_work
    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), look.colour("panel"))
        painter.setPen(look.colour("line"))
        painter.drawLine(0, self.height() - 1, self.width(), self.height() - 1)
        self._paint_title(painter)
        y = look.px(20)
        painter.setPen(QPen(look.colour("thread"), 2))
        painter.drawLine(self.centre(0), y, self.centre(len(self.names) - 1), y)
        for index in range(len(self.names)):
            self._paint_station(painter, index, y)
        painter.end()

    def _paint_title(self, painter: QPainter) -> None:
        width = self.centre(0) - look.px(70) - 20
        for text, top, size, bold, colour in (
                (self.title, 10, 14, True, "ink"), (self.subtitle, 32, 12, False, "muted")):
            painter.setFont(look.font(size, bold))
            painter.setPen(look.colour(colour))
            shown = painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, width)
            painter.drawText(QRect(20, look.px(top), width, look.px(20)),
                             Qt.AlignmentFlag.AlignVCenter, shown)

    def _paint_station(self, painter: QPainter, index: int, y: int) -> None:
        x, here = self.centre(index), index == self.current
        painter.setPen(QPen(look.colour("thread"), 2))
        painter.setBrush(look.colour("thread" if here else "panel"))
        painter.drawEllipse(x - KNOT, y - KNOT, 2 * KNOT, 2 * KNOT)
        if here and self.hasFocus():
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(x - KNOT - 4, y - KNOT - 4, 2 * KNOT + 8, 2 * KNOT + 8)
        width = self.centre(1) - self.centre(0) - 8
        for text, top, size, bold, colour in (
                (self.names[index], 31, 14, here, "ink" if here else "muted"),
                (self.figures[index], 48, 12, False, "ink" if here else "muted")):
            painter.setFont(look.font(size, bold))
            painter.setPen(look.colour(colour))
            shown = painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, width)
            painter.drawText(QRect(x - width // 2, look.px(top), width, look.px(18)),
                             Qt.AlignmentFlag.AlignCenter, shown)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        for index in range(len(self.names)):
            if abs(event.position().x() - self.centre(index)) < look.px(60):
                self.chosen.emit(index)
                return

    def keyPressEvent(self, event: QKeyEvent) -> None:
        steps = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}
        step = steps.get(Qt.Key(event.key()))
        if step is None:
            super().keyPressEvent(event)
        elif 0 <= self.current + step < len(self.names):
            self.chosen.emit(self.current + step)

    def focusInEvent(self, event: QFocusEvent) -> None:
        self.update()

    def focusOutEvent(self, event: QFocusEvent) -> None:
        self.update()
