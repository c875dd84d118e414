"""A picture before and after, one over the other, with an upright line to drag across.

Left of the line is what was found, right of it what came of mending. The wheel zooms where the
mouse is; a picture that is larger than its room is moved by dragging it. Where the rest of it may
belong elsewhere, that is dragged to its place.
"""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen, QPixmap, QWheelEvent
from PySide6.QtWidgets import QWidget

from needlewright.app.theme.look import look
from needlewright.wording import mending as words

GRIP = 10  # pixels around the line that take hold of it
STEP, MOST_ZOOM = 0.05, 8.0
LEAST_DRAG = 4  # pixels; less is a hand that shakes


class CompareView(QWidget):
    """Shows two pictures of one size. `rest`: the share of the rows from which on it may be
    dragged, None where not; `rest_moved`: it was, by shares of the width and the height."""

    rest_moved = Signal(float, float)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("compareView")
        self.setAccessibleName(words.COMPARED)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumHeight(look.px(180))
        self.before, self.after = QPixmap(), QPixmap()
        self.share, self.zoom = 0.5, 1.0
        self.text = ""
        self._offset = QPointF(0, 0)
        self._held = ""
        self._last = QPointF()
        self.rest: float | None = None
        self._moved = QPointF(0, 0)  # pixels by which the rest is dragged now
        look.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(640, 420)

    def show_pictures(self, before: QPixmap, after: QPixmap, text: str = "") -> None:
        """`text` stands where there is nothing to see."""
        self.before, self.after, self.text = before, after, text
        self.update()

    def look_anew(self) -> None:
        """Another pair: the line in the middle, all of the picture."""
        self.share, self.zoom, self._offset = 0.5, 1.0, QPointF(0, 0)
        self.update()

    def picture_box(self) -> QRectF:
        """Where the picture is drawn; larger than the widget where it is zoomed."""
        size = (self.after if not self.after.isNull() else self.before).size()
        room = QRectF(self.rect()).adjusted(10, 26, -10, -4)
        if size.isEmpty():
            return room
        scale = min(room.width() / size.width(), room.height() / size.height()) * self.zoom
        wide, high = size.width() * scale, size.height() * scale
        middle = room.center() + self._offset
        return QRectF(middle.x() - wide / 2, middle.y() - high / 2, wide, high)

    def rest_box(self) -> QRectF:
        """Where the rest is drawn that may be dragged; empty where nothing may."""
        if self.rest is None or self.after.isNull():
            return QRectF()
        box = self.picture_box()
        box.setTop(box.top() + self.rest * box.height())
        return box.intersected(QRectF(self.line_at(), 24, self.width(), self.height()))

    def allow_rest(self, share: float | None) -> None:
        """Let what stands below this share of the rows be dragged, or nothing."""
        self.rest, self._moved = share, QPointF(0, 0)
        self.update()

    def line_at(self) -> float:
        """Where the line is, pixels from the left."""
        return 10 + self.share * (self.width() - 20)

    # mouse

    def mousePressEvent(self, event: QMouseEvent) -> None:
        near = abs(event.position().x() - self.line_at()) <= GRIP
        rest = not near and self.rest_box().contains(event.position())
        self._held = "rest" if rest else "line" if near or self.zoom <= 1 else "picture"
        self._last = event.position()
        if self._held == "line":
            self._drag_to(event.position().x())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        near = abs(event.position().x() - self.line_at()) <= GRIP
        rest = self._held == "rest" or (
            not self._held and not near and self.rest_box().contains(event.position()))
        self.setCursor(Qt.CursorShape.SizeAllCursor if rest else Qt.CursorShape.SplitHCursor
                       if near or self._held == "line" else Qt.CursorShape.ArrowCursor)
        if self._held == "rest":
            self._moved = event.position() - self._last
            self.update()
        elif self._held == "line":
            self._drag_to(event.position().x())
        elif self._held == "picture":
            self._offset += event.position() - self._last
            self._last = event.position()
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        held, self._held = self._held, ""
        if held == "rest":
            moved, box = self._moved, self.picture_box()
            self._moved = QPointF(0, 0)
            self.update()
            if moved.manhattanLength() >= LEAST_DRAG:
                self.rest_moved.emit(moved.x() / box.width(), moved.y() / box.height())

    def _drag_to(self, x: float) -> None:
        self.share = max(0.0, min(1.0, (x - 10) / max(1, self.width() - 20)))
        self.update()

    def wheelEvent(self, event: QWheelEvent) -> None:
        factor = 1.2 if event.angleDelta().y() > 0 else 1 / 1.2
        new = max(1.0, min(MOST_ZOOM, self.zoom * factor))
        middle = QRectF(self.rect()).center()
        if new > 1:
            at = event.position() - middle - self._offset
            self._offset -= at * (new / self.zoom - 1)
        else:
            self._offset = QPointF(0, 0)
        self.zoom = new
        self.update()
        event.accept()

    def move_line(self, by: int) -> None:
        """Move the line by so many steps to the right."""
        self.share = max(0.0, min(1.0, self.share + STEP * by))
        self.update()

    # painting

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.setFont(look.font(12))
        if self.text:
            painter.setPen(look.colour("muted"))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, self.text)
        x = self.line_at()
        box = self.picture_box()
        room = QRectF(self.rect()).adjusted(0, 24, 0, 0)
        for pixmap, left, right in ((self.before, 0.0, x), (self.after, x, float(self.width()))):
            if pixmap.isNull():
                continue
            painter.setClipRect(QRectF(left, room.top(), right - left, room.height()))
            painter.drawPixmap(box, pixmap, QRectF(pixmap.rect()))
        self._paint_rest(painter, box, x)
        painter.setClipping(False)
        if self.before.isNull() and not self.after.isNull():
            painter.setPen(look.colour("muted"))
            painter.drawText(QRectF(10, 24, max(0.0, x - 20), self.height() - 24),
                             Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap,
                             words.NOTHING_BEFORE)
        if not self.after.isNull() or not self.before.isNull():
            self._paint_line(painter, x)
        painter.end()

    def _paint_rest(self, painter: QPainter, box: QRectF, x: float) -> None:
        """What may be dragged: from where on, and where it would come."""
        if self.rest is None or self.after.isNull():
            return
        painter.setClipRect(QRectF(x, 24, self.width() - x, self.height() - 24))
        top = box.top() + self.rest * box.height()
        if not self._moved.isNull():
            part = QRectF(self.after.rect())
            part.setTop(self.rest * part.height())
            where = QRectF(box.left(), top, box.width(), box.bottom() - top)
            painter.fillRect(where, look.colour("panel"))
            painter.setOpacity(0.85)
            painter.drawPixmap(where.translated(self._moved), self.after, part)
            painter.setOpacity(1.0)
        painter.setPen(QPen(look.colour("thread"), 1, Qt.PenStyle.DashLine))
        height = top + self._moved.y()
        painter.drawLine(QPointF(box.left(), height), QPointF(box.right(), height))

    def _paint_line(self, painter: QPainter, x: float) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(look.colour("thread"), 2))
        painter.drawLine(QPointF(x, 24), QPointF(x, self.height() - 2))
        painter.setBrush(look.colour("panel"))
        painter.drawEllipse(QPointF(x, self.height() / 2), 6, 14)
        painter.setPen(look.colour("muted"))
        metrics = painter.fontMetrics()
        wide = metrics.horizontalAdvance(words.BEFORE)
        painter.drawText(QPointF(max(10.0, x - wide - 10), 16), words.BEFORE)
        right = self.width() - metrics.horizontalAdvance(words.AFTER) - 10
        painter.drawText(QPointF(min(float(right), x + 10), 16), words.AFTER)
