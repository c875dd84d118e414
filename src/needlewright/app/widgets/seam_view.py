"""The picture down to its seam, and what a piece would make of the rest.

Where the share of a file says how many rows of the picture are there, the seam is a line across it
that can be dragged, upright where the picture is turned; else it is a knot on a bar below.
"""

from __future__ import annotations

from PySide6.QtCore import QLineF, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen, QPixmap
from PySide6.QtWidgets import QWidget

from needlewright.app.courtesy import at_work
from needlewright.app.theme.look import look
from needlewright.app.widgets.turned import ACROSS, row_line, share_at

GRIP = 9  # pixels around the seam that take hold of it
BAR = 26  # height of the bar below


class SeamView(QWidget):
    """`cut_wanted`: the share of the file, 0.0 to 1.0, to cut it at."""

    cut_wanted = Signal(float)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("seamView")
        self.setMouseTracking(True)
        self.setMinimumHeight(look.px(150))
        self.pixmap = QPixmap()
        self.share: float | None = None  # where the seam is; None: there is none to drag
        self.seams: tuple[float, ...] = ()  # where pieces were joined before
        self.by_rows = False
        self.orientation = 1
        self.text = self.label = ""
        self.dragged: float | None = None
        look.changed.connect(self.update)

    def show_picture(self, pixmap: QPixmap, text: str = "") -> None:
        """`text` stands where there is no picture."""
        self.pixmap, self.text = pixmap, text
        self.update()

    def show_seam(self, share: float | None, label: str, seams: tuple[float, ...],
                  by_rows: bool, orientation: int = 1) -> None:
        self.share, self.label, self.seams, self.by_rows = share, label, seams, by_rows
        self.orientation = orientation
        self.dragged = None
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(640, 340)

    # geometry

    def picture_box(self) -> QRectF:
        """Where the picture is drawn."""
        room = QRectF(self.rect()).adjusted(10, 0, -10, 0 if self.by_rows else -look.px(BAR) - 6)
        size = self.pixmap.size()
        if size.isEmpty():
            return room
        scale = min(room.width() / size.width(), room.height() / size.height())
        width, height = size.width() * scale, size.height() * scale
        return QRectF(room.center().x() - width / 2, room.top() + (room.height() - height) / 2,
                      width, height)

    def bar_box(self) -> QRectF:
        """Where the bar is drawn, of what has no rows."""
        height = look.px(BAR)
        return QRectF(14, self.height() - height, self.width() - 28, height)

    def seam_line(self, share: float, beyond: float = 0.0) -> QLineF:
        """Where a share of the file is: across the picture, or across the bar."""
        if self.by_rows:
            return row_line(self.picture_box(), share, self.orientation, beyond)
        bar = self.bar_box()
        x = bar.left() + share * bar.width()
        return QLineF(x, bar.top(), x, bar.bottom())

    def _share_at(self, point: QPointF) -> float:
        if self.by_rows:
            return share_at(self.picture_box(), point, self.orientation)
        bar = self.bar_box()
        return min(1.0, max(0.0, (point.x() - bar.left()) / max(1.0, bar.width())))

    def _near(self, point: QPointF) -> bool:
        if self.share is None:
            return False
        if self.by_rows:
            line = self.seam_line(self.share)
            off = point.x() - line.x1() if self.orientation in ACROSS else point.y() - line.y1()
            return abs(off) <= GRIP
        return self.bar_box().contains(point)

    # hands

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton and self._near(event.position()):
            self.dragged = self.share

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self.dragged is not None:
            self.dragged = self._share_at(event.position())
            self.update()
        level = self.by_rows and self.orientation not in ACROSS
        shape = Qt.CursorShape.SizeVerCursor if level else Qt.CursorShape.SizeHorCursor
        near = self._near(event.position()) or self.dragged is not None
        self.setCursor(shape if near else Qt.CursorShape.ArrowCursor)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        dragged, self.dragged = self.dragged, None
        if dragged is not None and dragged != self.share:
            self.cut_wanted.emit(dragged)
        self.update()

    # drawing

    @at_work
    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        box = self.picture_box()
        if not self.pixmap.isNull():
            painter.drawPixmap(box, self.pixmap, QRectF(self.pixmap.rect()))
        if self.text:
            painter.setFont(look.font(14))
            painter.setPen(look.colour("muted"))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap,
                             self.text)
        if self.by_rows:
            self._rows(painter, box)
        elif self.share is not None or self.seams:
            self._bar(painter)
        painter.end()

    def _rows(self, painter: QPainter, box: QRectF) -> None:
        for seam in self.seams:
            self._dash(painter, self.seam_line(seam, 10), 1.2)
        share = self.share if self.dragged is None else self.dragged
        if share is None or self.pixmap.isNull():
            return
        line = self.seam_line(share, 10)
        self._dash(painter, line, 2.4)
        painter.setFont(look.font(12))
        width = painter.fontMetrics().horizontalAdvance(self.label) + 20
        height = look.px(23)
        if self.orientation in ACROSS:
            x = line.x1()
            left = x + 6 if x + width + 10 < self.width() else x - width - 6
            self._tag(painter, QRectF(left, box.bottom() - height - 4, width, height))
            return
        y = line.y1()
        top = y - height - 4 if y - height - 4 > box.top() else y + 4
        self._tag(painter, QRectF(box.right() - width - 4, top, width, height))

    def _dash(self, painter: QPainter, line: QLineF, wide: float) -> None:
        for colour, width in (("panel", wide + 1.6), ("ochre", wide)):
            painter.setPen(QPen(look.colour(colour), width, Qt.PenStyle.DashLine))
            painter.drawLine(line)

    def _tag(self, painter: QPainter, tag: QRectF) -> None:
        painter.setPen(QPen(look.colour("line"), 1))
        painter.setBrush(look.colour("panel"))
        painter.drawRoundedRect(tag, 7, 7)
        painter.setPen(look.colour("ink"))
        painter.drawText(tag, Qt.AlignmentFlag.AlignCenter, self.label)

    def _bar(self, painter: QPainter) -> None:
        bar = self.bar_box()
        middle = bar.center().y()
        share = self.share if self.dragged is None else self.dragged
        painter.setPen(QPen(look.colour("line"), 4))
        painter.drawLine(QPointF(bar.left(), middle), QPointF(bar.right(), middle))
        till = self.seam_line(1.0 if share is None else share).x1()
        painter.setPen(QPen(look.colour("thread"), 4))
        painter.drawLine(QPointF(bar.left(), middle), QPointF(till, middle))
        painter.setPen(QPen(look.colour("ochre"), 2))
        for seam in self.seams:
            x = self.seam_line(seam).x1()
            painter.drawLine(QPointF(x, middle - 7), QPointF(x, middle + 7))
        if share is None:
            return
        painter.setBrush(look.colour("panel"))
        painter.drawEllipse(QPointF(till, middle), 7, 7)
        painter.setFont(look.font(12))
        width = painter.fontMetrics().horizontalAdvance(self.label) + 20
        left = till + 14 if till + width + 18 < bar.right() else till - width - 14
        self._tag(painter, QRectF(left, bar.top() + 1, width, bar.height() - 2))
