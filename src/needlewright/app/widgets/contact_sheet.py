"""The contact sheet: pictures in justified rows on a neutral ground, under group heads.

Draws only what is visible. Grades stand under the pictures as stitches; the tray mark has a pale
ring, so that it shows on any picture.
"""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QEvent, QPoint, QPointF, QRect, QRectF, Qt, Signal
from PySide6.QtGui import (
    QFocusEvent,
    QHelpEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPixmap,
    QResizeEvent,
)
from PySide6.QtWidgets import QAbstractScrollArea, QToolTip, QWidget

from needlewright.app.courtesy import at_work
from needlewright.app.theme.look import look
from needlewright.app.viewmodels.rows import Rows
from needlewright.app.viewmodels.sheet import HEAD, MARGIN, STRIP_CELLS, Group, Sheet, lay_out
from needlewright.app.widgets.pictures import Thumbnails
from needlewright.app.widgets.stitch import draw_stitch
from needlewright.core.jobfile.rows import FindRow
from needlewright.wording import finds as find_words
from needlewright.wording import units
from needlewright.wording import window as words

STRIP = 200  # pixels of the little tape in a group head


class ContactSheet(QAbstractScrollArea):
    """Shows a Sheet, with what `rows` knows of the visible finds."""

    chosen = Signal(object)  # id or None
    opened = Signal(int)
    tray_wanted = Signal(object)  # list of ids
    resized = Signal(int)  # view width
    bigger = Signal(int)  # +1 or -1

    def __init__(self, thumbnails: Thumbnails, rows: Rows) -> None:
        super().__init__()
        self.setObjectName("sheet")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOn)
        self.viewport().setMouseTracking(True)
        self.sheet: Sheet = lay_out([], 800, 108, {}, False)
        self.current: int | None = None  # index
        self.rows = rows
        rows.came.connect(self.viewport().update)
        self._thumbnails = thumbnails
        thumbnails.ready.connect(self._picture_came)
        look.changed.connect(self.viewport().update)

    def _picture_came(self, numbers: frozenset[int]) -> None:
        self.viewport().update()

    # content

    def show_sheet(self, sheet: Sheet, selected: int | None) -> None:
        """Show a new layout; the selected find stays selected and, if it was, in view."""
        stayed = self.current is not None and self._in_view(self.current)
        self.sheet = sheet
        self.current = self._index_of(selected)
        self._fit_scroll_bar()
        if stayed and self.current is not None and not self._in_view(self.current):
            self._reveal(self.current)
        self.viewport().update()

    def select(self, number: int | None) -> None:
        """Mark a find chosen elsewhere and bring it into view."""
        index = self._index_of(number)
        if index != self.current:
            self.current = index
            if index is not None:
                self._reveal(index)
            self.viewport().update()

    def current_id(self) -> int | None:
        return None if self.current is None else int(self.sheet.ids[self.current])

    def _index_of(self, number: int | None) -> int | None:
        if number is None:
            return None
        hits = (self.sheet.ids == number).nonzero()[0]
        return int(hits[0]) if hits.size else None

    def item_rect(self, index: int) -> QRect:
        """Where an item is drawn, in the viewport's pixels."""
        s = self.sheet
        return QRect(int(s.left[index]), int(s.top[index]) - self.verticalScrollBar().value(),
                     int(s.width[index]), int(s.height[index]))

    def _in_view(self, index: int) -> bool:
        return index < self.sheet.ids.size and self.viewport().rect().intersects(
            self.item_rect(index))

    def _reveal(self, index: int) -> None:
        bar = self.verticalScrollBar()
        top, bottom = int(self.sheet.top[index]), int(
            self.sheet.top[index] + self.sheet.height[index])
        head = next((g.top for g in self.sheet.groups if g.first <= index < g.last), 0)
        near_head = top - head <= HEAD + 4
        if top - HEAD < bar.value():
            bar.setValue(head if near_head else top - 12)
        elif bottom + 24 > bar.value() + self.viewport().height():
            bar.setValue(bottom + 24 - self.viewport().height())

    def _fit_scroll_bar(self) -> None:
        bar = self.verticalScrollBar()
        bar.setRange(0, max(0, self.sheet.total_height - self.viewport().height()))
        bar.setPageStep(self.viewport().height())
        bar.setSingleStep(40)

    @at_work
    def resizeEvent(self, event: QResizeEvent) -> None:
        self._fit_scroll_bar()
        if event.size().width() != event.oldSize().width():
            self.resized.emit(event.size().width())

    # painting

    @at_work
    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self.viewport())
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.fillRect(self.viewport().rect(), look.colour("pictures"))
        top = self.verticalScrollBar().value()
        visible = self.sheet.visible(top, top + self.viewport().height())
        self.rows.want(self.sheet.ids[visible.start : visible.stop].tolist())
        for group in self.sheet.groups:
            if group.headed and top - HEAD <= group.top <= top + self.viewport().height():
                self._paint_head(painter, group, group.top - top)
        for index in visible:
            self._paint_item(painter, index)
        painter.end()

    def _paint_head(self, painter: QPainter, group: Group, y: int) -> None:
        room = QRect(MARGIN, y + 4, self.viewport().width() - 2 * MARGIN, HEAD - 6)
        painter.setFont(look.font(14, True))
        painter.setPen(look.colour("ink"))
        title = find_words.group_head(group.order, group.key, group.start, group.stop)
        title = painter.fontMetrics().elidedText(title, Qt.TextElideMode.ElideLeft,
                                                 room.width() - look.px(300))
        painter.drawText(room, Qt.AlignmentFlag.AlignVCenter, title)
        used = painter.fontMetrics().horizontalAdvance(title)
        painter.setFont(look.font(12))
        painter.setPen(look.colour("muted"))
        about = f"{units.count(group.last - group.first, 'find')}, {units.size(group.bytes)}"
        painter.drawText(room.adjusted(used + 16, 1, 0, 1), Qt.AlignmentFlag.AlignVCenter, about)
        used += 16 + painter.fontMetrics().horizontalAdvance(about)
        link = self._link_rect(group)
        strip = QRect(link.left() - STRIP - 16, y + HEAD // 2 - 3, STRIP, 6)
        if strip.left() > MARGIN + used + 16:
            self._paint_strip(painter, group, strip)
        painter.setPen(look.colour("thread"))
        painter.drawText(link, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight,
                         words.FINDS_ALL_IN)

    def _paint_strip(self, painter: QPainter, group: Group, rect: QRect) -> None:
        """The stretch of the tape that the group covers, with its finds."""
        painter.fillRect(rect, look.colour("line"))
        for cell in group.cells:
            x = min(rect.left() + cell * rect.width() / STRIP_CELLS, rect.right() - 2)
            painter.fillRect(QRectF(x, rect.top(), 2.5, rect.height()), look.colour("thread"))

    def _link_rect(self, group: Group) -> QRect:
        width = look.px(110)
        return QRect(self.viewport().width() - MARGIN - width,
                     group.top - self.verticalScrollBar().value() + 4, width, HEAD - 6)

    def _paint_item(self, painter: QPainter, index: int) -> None:
        rect = self.item_rect(index)
        number = int(self.sheet.ids[index])
        row = self.rows.get(number)
        picture = self._thumbnails.get(number)
        if picture is not None and not picture.isNull():
            painter.drawPixmap(rect, picture, _cropped(picture, rect))
        else:
            self._paint_missing(painter, rect, row, loaded=picture is not None)
        if row is not None:
            draw_stitch(painter, rect.left() + 1, rect.bottom() + 9, row.grade, row.share)
            if row.in_tray:
                _paint_tray_mark(painter, rect)
        if index == self.current:
            width = 3 if self.hasFocus() else 2
            painter.setPen(QPen(look.colour("thread"), width))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(rect.adjusted(-2, -2, 2, 2), 3, 3)

    def _paint_missing(self, painter: QPainter, rect: QRect, row: FindRow | None,
                       loaded: bool) -> None:
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(look.colour("muted"), 1, Qt.PenStyle.DashLine))
        painter.drawRect(rect.adjusted(0, 0, -1, -1))
        if loaded:
            painter.setFont(look.font(12))
            painter.setPen(look.colour("muted"))
            text = words.FINDS_NO_PICTURE if row is None else find_words.title(row)
            painter.drawText(rect.adjusted(8, 6, -4, -4), Qt.AlignmentFlag.AlignLeft
                             | Qt.TextFlag.TextWrapAnywhere, text)

    # hands

    def _index_at(self, point: QPoint) -> int | None:
        return self.sheet.at(point.x(), point.y() + self.verticalScrollBar().value())

    def _group_link_at(self, point: QPoint) -> Group | None:
        return next((g for g in self.sheet.groups
                     if g.headed and self._link_rect(g).contains(point)), None)

    def _choose(self, index: int | None) -> None:
        self.current = index
        if index is not None:
            self._reveal(index)
        self.viewport().update()
        self.chosen.emit(self.current_id())

    def mousePressEvent(self, event: QMouseEvent) -> None:
        point = event.position().toPoint()
        group = self._group_link_at(point)
        if group is not None:
            self.tray_wanted.emit([int(i) for i in self.sheet.ids[group.first : group.last]])
            return
        index = self._index_at(point)
        if index is not None:
            self._choose(index)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        index = self._index_at(event.position().toPoint())
        if index is not None:
            self.opened.emit(int(self.sheet.ids[index]))

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        link = self._group_link_at(event.position().toPoint()) is not None
        self.viewport().setCursor(
            Qt.CursorShape.PointingHandCursor if link else Qt.CursorShape.ArrowCursor)

    def move_selection(self, key: int) -> bool:
        """Move the selection by an arrow, Home, End or a page key; False for other keys."""
        count = self.sheet.ids.size
        if not count:
            return False
        at = 0 if self.current is None else self.current
        page = max(1, self.viewport().height() // 160)
        steps: dict[Qt.Key, Callable[[], int]] = {
            Qt.Key.Key_Left: lambda: at - 1, Qt.Key.Key_Right: lambda: at + 1,
            Qt.Key.Key_Up: lambda: self.sheet.neighbour(at, -1),
            Qt.Key.Key_Down: lambda: self.sheet.neighbour(at, 1),
            Qt.Key.Key_PageUp: lambda: self.sheet.neighbour(at, -page),
            Qt.Key.Key_PageDown: lambda: self.sheet.neighbour(at, page),
            Qt.Key.Key_Home: lambda: 0, Qt.Key.Key_End: lambda: count - 1,
        }
        step = steps.get(Qt.Key(key))
        if step is None:
            return False
        self._choose(at if self.current is None else max(0, min(count - 1, step())))
        return True

    @at_work
    def keyPressEvent(self, event: QKeyEvent) -> None:
        number = self.current_id()
        if event.modifiers() & ~Qt.KeyboardModifier.KeypadModifier & ~(
                Qt.KeyboardModifier.ShiftModifier):
            super().keyPressEvent(event)
        elif self.move_selection(event.key()):
            return
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and number is not None:
            self.opened.emit(number)
        elif event.key() == Qt.Key.Key_T and number is not None:
            self.tray_wanted.emit([number])
        elif event.key() in (Qt.Key.Key_Plus, Qt.Key.Key_Equal, Qt.Key.Key_Minus):
            self.bigger.emit(-1 if event.key() == Qt.Key.Key_Minus else 1)
        else:
            super().keyPressEvent(event)

    def viewportEvent(self, event: QEvent) -> bool:
        if isinstance(event, QHelpEvent) and event.type() == QEvent.Type.ToolTip:
            index = self._index_at(event.pos())
            row = None if index is None else self.rows.get(int(self.sheet.ids[index]))
            text = "" if row is None else f"{row.path or find_words.title(row)}\n{row.grade}"
            QToolTip.showText(event.globalPos(), text, self.viewport())
            return True
        return super().viewportEvent(event)

    def focusInEvent(self, event: QFocusEvent) -> None:
        if self.current is None and self.sheet.ids.size:
            self._choose(self.sheet.visible(
                self.verticalScrollBar().value(), self.verticalScrollBar().value() + 60).start)
        self.viewport().update()

    def focusOutEvent(self, event: QFocusEvent) -> None:
        self.viewport().update()


def _cropped(picture: QPixmap, rect: QRect) -> QRect:
    """The middle part of a picture with the proportions of its box."""
    wide, high = picture.width(), picture.height()
    box = rect.width() / max(1, rect.height())
    if wide / max(1, high) > box:
        inner = round(high * box)
        return QRect((wide - inner) // 2, 0, max(1, inner), high)
    inner = round(wide / box)
    return QRect(0, (high - inner) // 2, wide, max(1, inner))


def _paint_tray_mark(painter: QPainter, rect: QRect) -> None:
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(QPen(look.colour("panel") if not look.dark else look.colour("ink"), 2))
    painter.setBrush(look.colour("thread"))
    painter.drawEllipse(QPointF(rect.right() - 11, rect.top() + 12), 6, 6)
    painter.restore()


def empty_text(title: str, text: str) -> QWidget:
    """The middle of a station that has nothing to show."""
    from needlewright.app.widgets.small import column, label

    widget = QWidget()
    inside = column(widget, (40, 120, 40, 40))
    for line in (label(title, "head"), label(text, "muted", wrap=True)):
        line.setAlignment(Qt.AlignmentFlag.AlignHCenter)
        inside.addWidget(line)
    inside.addStretch(1)
    return widget
