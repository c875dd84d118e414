"""The tape: one source from its first byte to its last, in lanes that all stations share.

An overview of the whole medium, and below it the zoomed part with the Finds lane. The wheel zooms,
dragging pans, a click selects; what is selected anywhere is marked here.
"""

from __future__ import annotations

from collections.abc import Mapping
from itertools import pairwise

import numpy as np
import numpy.typing as npt
from PySide6.QtCore import QPoint, QRect, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPainterPath,
    QPaintEvent,
    QPen,
    QWheelEvent,
)
from PySide6.QtWidgets import QWidget

from needlewright.app.courtesy import at_work
from needlewright.app.theme.look import look
from needlewright.app.viewmodels.read_lane import ReadLane
from needlewright.app.viewmodels.texture_lane import TextureLane
from needlewright.app.viewmodels.volumes_lane import VolumesLane
from needlewright.app.widgets.lanes import (
    covered,
    paint_in_use,
    paint_parts,
    paint_read,
    paint_texture,
    paint_volumes,
)
from needlewright.wording import units
from needlewright.wording import volumes as volume_words
from needlewright.wording.window import TEXTURES

LABEL_WIDTH = 96
RIGHT = 20
SMALLEST_VIEW = 1 << 20  # bytes; zooming in further shows nothing more
ZOOM = 0.8
KEPT_VIEWS = 8
LANE = 18  # pixels from one lane to the next
CLICK = 4  # pixels that a press may move and still be a click


class Tape(QWidget):
    """Shows the finds of one source along its length."""

    picked = Signal(int)  # find id
    viewed = Signal(object)  # (start, stop) in bytes, or None for the whole

    def __init__(self, overview_name: str, finds_name: str, empty: str,
                 lane_names: Mapping[str, str] | None = None) -> None:
        """`lane_names`: what to call the lanes "read", "volumes", "in use" and "texture"."""
        super().__init__()
        self.setObjectName("tape")
        self._names = (overview_name, finds_name)
        self._lane_names = dict(lane_names or {})
        self.volumes_lane: VolumesLane | None = None
        self.read_lane: ReadLane | None = None
        self.texture_lane: TextureLane | None = None
        self._empty = empty
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setMouseTracking(True)
        self.size_bytes, self.source_name = 0, ""
        self.ids: npt.NDArray[np.int64] = np.zeros(0, np.int64)
        self.starts = self.lengths = self.ids
        self._covered: dict[tuple[tuple[int, int], int], npt.NDArray[np.float64]] = {}
        self.view = (0, 0)
        self.reached: tuple[int, int] | None = None
        self.pieces: list[tuple[int, int]] = []
        self._press: QPoint | None = None
        self._press_view = (0, 0)
        look.changed.connect(self.updateGeometry)

    def show_source(self, name: str, size_bytes: int) -> None:
        self.source_name, self.size_bytes = name, size_bytes
        self.view = (0, size_bytes)
        self.pieces, self.reached = [], None
        self.show_read(None)
        self.show_texture(None)
        self.show_volumes(None)
        self.show_finds(np.zeros((0, 3), np.int64))
        self.viewed.emit(None)
        self.update()

    def show_finds(self, spans: npt.NDArray[np.int64]) -> None:
        """`spans`: int64[n, 3] of (id, start, length) in bytes, ascending by start."""
        self.ids, self.starts, self.lengths = spans[:, 0], spans[:, 1], spans[:, 2]
        self._covered.clear()
        self.update()

    def show_read(self, lane: ReadLane | None) -> None:
        """What of the medium is read; None where it is no copy."""
        appeared = (lane is None) != (self.read_lane is None)
        self.read_lane = lane
        if appeared:
            self.updateGeometry()
        self.update()

    def show_texture(self, lane: TextureLane | None) -> None:
        """What the medium looks like; None where nothing has been looked at yet."""
        appeared = (lane is None) != (self.texture_lane is None)
        self.texture_lane = lane
        if appeared:
            self.updateGeometry()
        self.update()

    def show_volumes(self, lane: VolumesLane | None) -> None:
        """The volumes of the source; None where none are known."""
        before = self._lanes()
        self.volumes_lane = lane
        if self._lanes() != before:
            self.updateGeometry()
        self.update()

    def show_reached(self, span: tuple[int, int] | None) -> None:
        """How far a running search has come: (start, byte reached)."""
        if span != self.reached:
            self.reached = span
            self.update()

    def show_selected(self, pieces: list[tuple[int, int]]) -> None:
        """Mark the pieces (start, length) of what is selected and bring them into view."""
        self.pieces = pieces
        if pieces:
            start = pieces[0][0]
            width = self.view[1] - self.view[0]
            if not self.view[0] <= start < self.view[1]:
                self._look_at(start - width // 2, width)
        self.update()

    # geometry

    def sizeHint(self) -> QSize:
        return QSize(900, look.px(64) + self._extra)

    def minimumSizeHint(self) -> QSize:
        return QSize(500, look.px(64) + self._extra)

    def _lanes(self) -> list[str]:
        """The lanes between the overview and the finds, from above; only those with content."""
        volumes = self.volumes_lane
        there = (("read", self.read_lane is not None), ("volumes", volumes is not None),
                 ("in use", volumes is not None and volumes.in_use_known),
                 ("texture", self.texture_lane is not None))
        return [name for name, shown in there if shown]

    @property
    def _extra(self) -> int:
        return look.px(LANE) * len(self._lanes())

    def _lane_rect(self, name: str) -> QRect:
        lanes = self._lanes()
        above = lanes.index(name) if name in lanes else 0
        high = {"read": 10, "volumes": 14}.get(name, 12)
        return QRect(self._left, look.px(31 + (13 - high) // 2) + look.px(LANE) * above,
                     self.width() - self._left - RIGHT, look.px(high))

    def _overview(self) -> QRect:
        return QRect(self._left, look.px(9), self.width() - self._left - RIGHT, look.px(15))

    def _lane(self) -> QRect:
        return QRect(self._left, look.px(34) + self._extra, self.width() - self._left - RIGHT,
                     look.px(14))

    @property
    def _left(self) -> int:
        return look.px(LABEL_WIDTH) + 16

    def _x(self, offset: float, rect: QRect, view: tuple[int, int]) -> float:
        return rect.left() + (offset - view[0]) / max(1, view[1] - view[0]) * rect.width()

    def _byte(self, x: float, rect: QRect, view: tuple[int, int]) -> int:
        part = (x - rect.left()) / max(1, rect.width())
        return round(view[0] + min(1.0, max(0.0, part)) * (view[1] - view[0]))

    def _look_at(self, start: int, width: int) -> None:
        width = max(min(SMALLEST_VIEW, self.size_bytes), min(width, self.size_bytes))
        start = max(0, min(start, self.size_bytes - width))
        self.view = (start, start + width)
        whole = width >= self.size_bytes
        self.viewed.emit(None if whole else self.view)
        self.update()

    # painting

    @at_work
    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), look.colour("ground"))
        painter.setPen(look.colour("line"))
        painter.drawLine(0, self.height() - 1, self.width(), self.height() - 1)
        overview, lane = self._overview(), self._lane()
        self._paint_names(painter, overview, lane)
        if self.size_bytes:
            self._paint_lanes(painter)
        painter.fillRect(overview, look.colour("panel"))
        painter.fillRect(lane, look.colour("panel"))
        if self.size_bytes:
            self._paint_overview(painter, overview)
            self._paint_lane(painter, lane)
        painter.end()

    def _paint_lanes(self, painter: QPainter) -> None:
        if self.read_lane is not None:
            rect = self._lane_rect("read")
            paint_read(painter, rect, self.read_lane.cells(*self.view, rect.width()))
        if self.volumes_lane is not None:
            paint_volumes(painter, self._lane_rect("volumes"), self.volumes_lane, self.view,
                          lambda v: volume_words.title(v.kind, v.label, v.size))
        if self.volumes_lane is not None and self.volumes_lane.in_use_known:
            rect = self._lane_rect("in use")
            paint_in_use(painter, rect, self.volumes_lane.shares(*self.view, rect.width()))
        if self.texture_lane is not None:
            rect = self._lane_rect("texture")
            paint_texture(painter, rect, self.texture_lane.cells(*self.view, rect.width()))

    def _paint_names(self, painter: QPainter, overview: QRect, lane: QRect) -> None:
        painter.setFont(look.font(12))
        width = self._left - 28
        first = self.source_name or self._empty
        names = [(first, overview, "thread" if self.source_name else "muted"),
                 (self._names[1], lane, "muted")]
        names += [(self._lane_names.get(name, name), self._lane_rect(name), "muted")
                  for name in self._lanes()]
        for text, rect, colour in names:
            painter.setPen(look.colour(colour))
            shown = painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideMiddle, width)
            painter.drawText(QRect(20, rect.top() - 3, width, rect.height() + 6),
                             Qt.AlignmentFlag.AlignVCenter, shown)
        if not self.size_bytes:
            return
        painter.setFont(look.font(11))
        painter.setPen(look.colour("muted"))
        below = QRect(lane.left(), lane.bottom() + 1, lane.width(), look.px(15))
        painter.drawText(below, Qt.AlignmentFlag.AlignLeft, units.place(self.view[0]))
        painter.drawText(below, Qt.AlignmentFlag.AlignRight, units.place(self.view[1]))

    def _columns(self, rect: QRect, view: tuple[int, int]) -> npt.NDArray[np.float64]:
        """Part of each pixel column of `rect` that finds cover, 0.0 to 1.0; kept until they change.
        """
        key = (view, rect.width())
        if key not in self._covered:
            if len(self._covered) >= KEPT_VIEWS:
                self._covered.clear()
            self._covered[key] = covered(self.starts, self.lengths, view, rect.width())
        return self._covered[key]

    def _paint_overview(self, painter: QPainter, rect: QRect) -> None:
        if self.reached is not None:
            done = self._x(self.reached[1], rect, (0, self.size_bytes))
            start = self._x(self.reached[0], rect, (0, self.size_bytes))
            painter.fillRect(QRectF(start, rect.bottom() - 2, done - start, 3),
                             look.faint("thread", 110))
        paint_parts(painter, rect.adjusted(0, 2, 0, -2),
                    self._columns(rect, (0, self.size_bytes)))
        if self.view != (0, self.size_bytes):
            left = self._x(self.view[0], rect, (0, self.size_bytes))
            right = self._x(self.view[1], rect, (0, self.size_bytes))
            painter.setPen(QPen(look.colour("ink"), 1.5))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(left, rect.top() - 1, max(4.0, right - left),
                                    rect.height() + 1))

    def _paint_lane(self, painter: QPainter, rect: QRect) -> None:
        painter.save()
        painter.setClipRect(rect.adjusted(-2, -look.px(20), 2, 2))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        shown = (self.starts < self.view[1]) & (self.starts + self.lengths > self.view[0])
        scale = rect.width() / max(1, self.view[1] - self.view[0])
        if self._crowded(shown, scale):
            paint_parts(painter, rect.adjusted(0, 2, 0, -2), self._columns(rect, self.view))
        else:
            painter.setPen(QPen(look.colour("thread"), 1.2))
            painter.setBrush(look.colour("panel"))
            for start, length in zip(self.starts[shown].tolist(), self.lengths[shown].tolist()):
                _draw_find(painter, self._box(start, length, rect))
        painter.setPen(QPen(look.colour("ink"), 1.5))
        painter.setBrush(look.colour("thread"))
        boxes = [self._box(start, length, rect) for start, length in self.pieces]
        for box in boxes:
            _draw_find(painter, box)
        painter.setPen(QPen(look.colour("thread"), 1.6))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for before, after in pairwise(boxes):
            path = QPainterPath(before.center())
            middle = (before.center() + after.center()) / 2
            path.quadTo(middle.x(), rect.top() - look.px(20), after.center().x(),
                        after.center().y())
            painter.drawPath(path)
        painter.restore()

    def _crowded(self, shown: npt.NDArray[np.bool_], scale: float) -> bool:
        """Whether finds in view are too many or too narrow to be drawn one by one."""
        count = int(np.count_nonzero(shown))
        if count < 2 or count > self.width():
            return count > 1
        return count * 8 > self.width() or float(np.median(self.lengths[shown])) * scale < 4.0

    def _box(self, start: int, length: int, rect: QRect) -> QRectF:
        left = self._x(start, rect, self.view)
        right = self._x(start + length, rect, self.view)
        return QRectF(left, rect.top() + 2, max(5.0, right - left), rect.height() - 4)

    # hands

    def wheelEvent(self, event: QWheelEvent) -> None:
        if not self.size_bytes or event.angleDelta().y() == 0:
            return
        x = event.position().x()
        at = self._byte(x, self._lane(), self.view)
        factor = ZOOM if event.angleDelta().y() > 0 else 1 / ZOOM
        width = round((self.view[1] - self.view[0]) * factor)
        part = (at - self.view[0]) / max(1, self.view[1] - self.view[0])
        self._look_at(round(at - part * width), width)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        width = self.view[1] - self.view[0]
        middle = (self.view[0] + self.view[1]) // 2
        match event.key():
            case Qt.Key.Key_Plus | Qt.Key.Key_Equal:
                self._look_at(round(middle - width * ZOOM / 2), round(width * ZOOM))
            case Qt.Key.Key_Minus:
                self._look_at(round(middle - width / ZOOM / 2), round(width / ZOOM))
            case Qt.Key.Key_Left:
                self._look_at(self.view[0] - width // 8, width)
            case Qt.Key.Key_Right:
                self._look_at(self.view[0] + width // 8, width)
            case Qt.Key.Key_Home:
                self._look_at(0, self.size_bytes)
            case _:
                super().keyPressEvent(event)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._press, self._press_view = event.position().toPoint(), self.view
        if self.size_bytes and self._overview().contains(self._press):
            self._drag_overview(event.position().x())

    def _tell_lane(self, point: QPoint) -> None:
        """Name what is under the pointer, for lanes are drawn and not written."""
        told = ""
        rect = self._lane_rect("texture")
        at = self._byte(point.x(), rect, self.view)
        if self.texture_lane is not None and rect.contains(point):
            cells = self.texture_lane.cells(*self.view, rect.width())
            value = int(cells[min(point.x() - rect.left(), cells.size - 1)])
            told = f"{TEXTURES[value]}, {units.place(at)}"
        volume = self.volumes_lane.at(at) if self.volumes_lane is not None else None
        if volume is not None and any(self._lane_rect(name).contains(point)
                                      for name in ("volumes", "in use")):
            told = volume_words.line(volume.kind, volume.label, volume.size, volume.cluster_size,
                                     volume.state, volume.used_bytes)
            told = "\n".join([told, *(volume_words.LIMITS.get(c, c) for c in volume.limits)])
        if self.toolTip() != told:
            self.setToolTip(told)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._press is None:
            self._tell_lane(event.position().toPoint())
        if self._press is None or not self.size_bytes:
            return
        if self._overview().contains(self._press):
            self._drag_overview(event.position().x())
            return
        width = self._press_view[1] - self._press_view[0]
        moved = (self._press.x() - event.position().x()) / max(1, self._lane().width()) * width
        if abs(event.position().x() - self._press.x()) > CLICK:
            self._look_at(self._press_view[0] + round(moved), width)

    def _drag_overview(self, x: float) -> None:
        width = self.view[1] - self.view[0]
        if width < self.size_bytes:
            at = self._byte(x, self._overview(), (0, self.size_bytes))
            self._look_at(at - width // 2, width)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        press, self._press = self._press, None
        if press is None or not self.size_bytes or not self.ids.size:
            return
        if (event.position().toPoint() - press).manhattanLength() > CLICK:
            return
        in_overview = self._overview().contains(press)
        if not in_overview and not self._lane().contains(press):
            return
        rect = self._overview() if in_overview else self._lane()
        view = (0, self.size_bytes) if in_overview else self.view
        at = self._byte(event.position().x(), rect, view)
        distance = np.where(
            (self.starts <= at) & (at < self.starts + self.lengths), 0,
            np.minimum(np.abs(self.starts - at), np.abs(self.starts + self.lengths - at)))
        nearest = int(np.argmin(distance))
        if distance[nearest] <= 8 * (view[1] - view[0]) / max(1, rect.width()):
            self.picked.emit(int(self.ids[nearest]))


def _draw_find(painter: QPainter, box: QRectF) -> None:
    """A find's box, rounded as far as its width allows."""
    radius = min(4.0, box.width() / 4)
    painter.drawRoundedRect(box, radius, radius)
