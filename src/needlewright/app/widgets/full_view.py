"""One find, large: decoded by an isolated worker, zoomed and panned here."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QPoint, QRect, QRectF, Qt, Signal
from PySide6.QtGui import (
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPixmap,
    QResizeEvent,
    QWheelEvent,
)
from PySide6.QtWidgets import QWidget

from needlewright.app.theme.look import look
from needlewright.app.widgets.clip_strip import paint_strip
from needlewright.app.widgets.rows_table import RowsTable
from needlewright.app.widgets.stitch import draw_stitch
from needlewright.app.widgets.turned import row_line
from needlewright.core.databases.rows import Row
from needlewright.core.jobfile.rows import FindRow
from needlewright.wording import finds as find_words
from needlewright.wording import units
from needlewright.wording import window as words

SIDE = 2400  # pixels of the decoded view
LARGEST = 8.0
EDGE = 16
FOOT = 46
STRIP = 54
MOMENT = 0.04  # seconds that a key moves in a clip, a frame of most


class FullView(QWidget):
    """Esc goes back; arrows go to the next find; T is the tray."""

    closed = Signal()
    moved = Signal(int)  # a key of movement
    tray_wanted = Signal()
    moment_wanted = Signal(float)  # seconds into the clip

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("fullView")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.row: FindRow | None = None
        self.line = ""
        self.picture = QPixmap()
        self.sharp = False
        self.problem = ""
        self._zoom = 1.0
        self._shift = QPoint(0, 0)
        self._press: QPoint | None = None
        self.frames = QPixmap()  # ten of a clip in a row
        self.damaged: list[tuple[float, float]] = []
        self.at_s = 0.0
        self._scrubbing = False
        self.table = RowsTable(self)
        look.changed.connect(self.update)

    @property
    def is_clip(self) -> bool:
        return self.row is not None and self.row.kind == "video"

    @property
    def all_s(self) -> float:
        return (self.row.duration_s or 0.0) if self.row is not None else 0.0

    def show_clip(self, frames: QPixmap, damaged: list[tuple[float, float]]) -> None:
        """The strip of the clip that is shown and its damaged seconds."""
        self.frames, self.damaged = frames, damaged
        self.update()

    def show_coming(self, preview: QPixmap | None) -> None:
        """Show a thumbnail of the find that is being read."""
        self._zoom, self._shift = 1.0, QPoint(0, 0)
        self.row, self.line, self.picture = None, "", preview or QPixmap()
        self.sharp, self.problem = False, ""
        self.frames, self.damaged, self.at_s = QPixmap(), [], 0.0
        self.table.hide()
        self.update()

    def show_find(self, row: FindRow, line: str, preview: QPixmap | None) -> None:
        """Show a find with its thumbnail until `show_picture` brings the large view."""
        if self.row is None or self.row.id != row.id:
            self.show_coming(preview)
        self.row, self.line = row, line
        self.update()

    def show_picture(self, data: bytes, problem: str) -> None:
        """The decoded view (JPEG bytes) or why there is none."""
        image = QImage()
        image.loadFromData(data, "JPEG")  # type: ignore[call-overload]
        if not image.isNull():
            self.picture = QPixmap.fromImage(image)
        self.sharp, self.problem = True, problem if image.isNull() else ""
        self.update()

    def show_rows(self, rows: Sequence[Row], summary: str) -> None:
        """The rows of the database that is shown, and what to say of them."""
        self.sharp, self.line = True, summary
        self.problem = "" if rows else summary
        self.table.rows.show(rows)
        self.table.setVisible(bool(rows))
        self.update()

    def resizeEvent(self, event: QResizeEvent) -> None:
        self.table.setGeometry(self.rect().adjusted(0, 0, 0, 8 - look.px(FOOT)))
        super().resizeEvent(event)

    def _target(self) -> QRectF:
        below = look.px(FOOT) + (look.px(STRIP) + 20 if self.is_clip else 0)
        room = self.rect().adjusted(EDGE, EDGE, -EDGE, -below)
        size = self.picture.size()
        row = self.row
        if row is not None and row.width and row.height:
            wide, high = row.width, row.height
            if row.orientation >= 5:
                wide, high = high, wide
        else:
            wide, high = max(1, size.width()), max(1, size.height())
        fit = min(room.width() / wide, room.height() / high, 1.0)
        scale = fit * self._zoom
        width, height = wide * scale, high * scale
        return QRectF(room.center().x() - width / 2 + self._shift.x(),
                      room.center().y() - height / 2 + self._shift.y(), width, height)

    def strip_box(self) -> QRectF:
        """Where a clip's strip is drawn."""
        top = self.height() - look.px(FOOT) - look.px(STRIP) - 8
        return QRectF(EDGE, top, self.width() - 2 * EDGE, look.px(STRIP))

    def shown_place(self) -> str:
        """Which moment of the clip is shown, in words."""
        return words.FULL_AT.format(at=units.clock(self.at_s), all=units.clock(self.all_s))

    def _want(self, seconds: float) -> None:
        self.at_s = min(max(0.0, seconds), max(0.0, self.all_s - 0.04))
        self.moment_wanted.emit(self.at_s)
        self.update()

    def _want_at(self, x: float) -> None:
        box = self.strip_box()
        self._want((x - box.left()) / max(1.0, box.width()) * self.all_s)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.fillRect(self.rect(), look.colour("pictures"))
        target = self._target()
        if not self.picture.isNull():
            painter.drawPixmap(target, self.picture, QRectF(self.picture.rect()))
            self._paint_damage(painter, target)
        if self.is_clip:
            paint_strip(painter, self.strip_box(), self.frames, self.all_s, self.damaged,
                        self.at_s)
        foot = self.rect().adjusted(0, self.height() - look.px(FOOT) + 8, 0, 0)
        painter.fillRect(foot, look.colour("panel"))
        if self.row is not None:
            self._paint_foot(painter, foot)
        if not self.sharp or self.problem:
            painter.setPen(look.colour("muted"))
            painter.setFont(look.font(13))
            place = self.rect().adjusted(0, 0, 0, -look.px(FOOT))
            if self.picture.isNull() or (self.is_clip and self.problem):
                painter.drawText(place, Qt.AlignmentFlag.AlignCenter,
                                 self.problem or words.FULL_LOADING)
        painter.end()

    def _paint_damage(self, painter: QPainter, target: QRectF) -> None:
        """A dashed line where the damage begins."""
        row = self.row
        if row is None or not row.damage_row or not row.height:
            return
        painter.setPen(QPen(look.colour("ochre"), 2, Qt.PenStyle.DashLine))
        painter.drawLine(row_line(target, row.damage_row / row.height, row.orientation, 8))

    def _paint_foot(self, painter: QPainter, foot: QRect) -> None:
        assert self.row is not None
        painter.setFont(look.font(13, True))
        painter.setPen(look.colour("ink"))
        name = find_words.title(self.row)
        left = foot.left() + EDGE
        painter.drawText(QRect(left, foot.top(), foot.width(), foot.height()),
                         Qt.AlignmentFlag.AlignVCenter, name)
        left += painter.fontMetrics().horizontalAdvance(name) + 20
        draw_stitch(painter, left, foot.center().y() + 1, self.row.grade, self.row.share)
        left += 60
        painter.setFont(look.font(13))
        painter.setPen(look.colour("muted"))
        line = self.line
        if self.is_clip and self.all_s:
            line = f"{self.shown_place()}   ·   {line}"
        about = line + (f"   ·   {words.FULL_IN_TRAY}" if self.row.in_tray else "")
        hint = words.FULL_CLIP_HINT if self.is_clip else (
            words.FULL_ROWS_HINT if self.table.isVisible() else words.FULL_HINT)
        hint_width = painter.fontMetrics().horizontalAdvance(hint) + EDGE
        room = foot.right() - left - 12
        fits_hint = room > painter.fontMetrics().horizontalAdvance(about) + hint_width + 20
        shown = painter.fontMetrics().elidedText(about, Qt.TextElideMode.ElideRight, room)
        painter.drawText(QRect(left, foot.top(), room, foot.height()),
                         Qt.AlignmentFlag.AlignVCenter, shown)
        if fits_hint:
            painter.drawText(foot.adjusted(0, 0, -EDGE, 0), Qt.AlignmentFlag.AlignVCenter
                             | Qt.AlignmentFlag.AlignRight, hint)

    def _set_zoom(self, factor: float) -> None:
        self._zoom = max(1.0, min(LARGEST, self._zoom * factor))
        if self._zoom == 1.0:
            self._shift = QPoint(0, 0)
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        match event.key():
            case Qt.Key.Key_Escape | Qt.Key.Key_Return | Qt.Key.Key_Enter:
                self.closed.emit()
            case Qt.Key.Key_T if not event.modifiers():
                self.tray_wanted.emit()
            case Qt.Key.Key_PageDown | Qt.Key.Key_PageUp:
                self.table.turn(1 if event.key() == Qt.Key.Key_PageDown else -1)
            case Qt.Key.Key_Period if self.is_clip:
                self._want(self.at_s + MOMENT)
            case Qt.Key.Key_Comma if self.is_clip:
                self._want(self.at_s - MOMENT)
            case Qt.Key.Key_Plus | Qt.Key.Key_Equal if not event.modifiers() & (
                    Qt.KeyboardModifier.ControlModifier):
                self._set_zoom(1.5)
            case Qt.Key.Key_Minus if not event.modifiers() & Qt.KeyboardModifier.ControlModifier:
                self._set_zoom(1 / 1.5)
            case (Qt.Key.Key_Left | Qt.Key.Key_Right | Qt.Key.Key_Up | Qt.Key.Key_Down
                  | Qt.Key.Key_Home | Qt.Key.Key_End):
                self.moved.emit(event.key())
            case _:
                super().keyPressEvent(event)

    def wheelEvent(self, event: QWheelEvent) -> None:
        self._set_zoom(1.2 if event.angleDelta().y() > 0 else 1 / 1.2)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._scrubbing = self.is_clip and self.strip_box().contains(event.position())
        if self._scrubbing:
            self._want_at(event.position().x())
            return
        self._press = event.position().toPoint() - self._shift

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._scrubbing:
            self._want_at(event.position().x())
        elif self._press is not None and self._zoom > 1.0:
            self._shift = event.position().toPoint() - self._press
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._press, self._scrubbing = None, False

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if not (self.is_clip and self.strip_box().contains(event.position())):
            self.closed.emit()
