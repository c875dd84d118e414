"""The grade stitches: how a grade is drawn, wherever a find is shown."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPixmap
from PySide6.QtWidgets import QWidget

from needlewright.app.theme.look import look

LENGTH = 44
DASHES = 6
DOT_STEP = 4  # pixels between the dots of what is unproven
EDGE, HALF = 3, 8  # pixels around a stitch
_drawn: dict[tuple[str, int, float, bool, float], QPixmap] = {}  # a few of each look


def draw_stitch(painter: QPainter, x: float, y: float, grade: str, share: float,
                length: float = LENGTH) -> None:
    """Draw a grade's stitch from (x, y) to the right, about 10 pixels high."""
    ratio = painter.device().devicePixelRatioF()
    there = max(1, round(share * DASHES)) if share > 0 and grade == "partial" else 0
    key = (grade, there, length, look.dark, ratio)
    if key not in _drawn:
        made = QPixmap(round((length + 2 * EDGE) * ratio), round(2 * HALF * ratio))
        made.setDevicePixelRatio(ratio)
        made.fill(Qt.GlobalColor.transparent)
        inside = QPainter(made)
        _draw(inside, EDGE, HALF, grade, there, length)
        inside.end()
        _drawn[key] = made
    painter.drawPixmap(QPointF(round(x) - EDGE, round(y) - HALF), _drawn[key])


def _draw(painter: QPainter, x: float, y: float, grade: str, there: int, length: float) -> None:
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    cap = Qt.PenCapStyle.RoundCap
    if grade == "whole":
        painter.setPen(QPen(look.colour("ink"), 2.4, Qt.PenStyle.SolidLine, cap))
        painter.drawLine(round(x), round(y), round(x + length), round(y))
    elif grade == "unproven":
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(look.colour("ink"))
        for index in range(round(length / DOT_STEP)):
            painter.drawEllipse(QPointF(x + 1.5 + index * DOT_STEP, y), 1.3, 1.3)
    elif grade == "mended":
        painter.setPen(QPen(look.colour("plum"), 2, Qt.PenStyle.SolidLine, cap))
        painter.drawLine(round(x), round(y), round(x + length), round(y))
        for index in range(3):
            middle = round(x + length * (0.3 + 0.2 * index))
            painter.drawLine(middle - 3, round(y) - 3, middle + 3, round(y) + 3)
            painter.drawLine(middle - 3, round(y) + 3, middle + 3, round(y) - 3)
    elif grade == "partial":
        step = length / DASHES
        for index in range(DASHES):
            name = "ochre" if index < there else "line"
            painter.setPen(QPen(look.colour(name), 2.6, Qt.PenStyle.SolidLine, cap))
            left = x + index * step
            painter.drawLine(round(left + 1), round(y), round(left + step * 0.62), round(y))
    elif grade == "remnant":
        painter.setPen(QPen(look.colour("muted"), 3, Qt.PenStyle.SolidLine, cap))
        painter.drawLine(round(x), round(y), round(x + 8), round(y))
    else:
        painter.setPen(QPen(look.colour("muted"), 1.2))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRoundedRect(QRectF(x, y - 4, length, 8), 4, 4)
    painter.restore()


class Stitch(QWidget):
    """One stitch as a widget."""

    def __init__(self, grade: str = "whole", share: float = 1.0) -> None:
        super().__init__()
        self.grade, self.share = grade, share
        look.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(LENGTH + 8, 16)

    def minimumSizeHint(self) -> QSize:
        return self.sizeHint()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        draw_stitch(painter, 3, self.height() / 2, self.grade, self.share)
        painter.end()
