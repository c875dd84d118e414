"""The finds that wait at the bench, one below another: title, what is wrong, the grade's stitch."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import (
    QAbstractListModel,
    QItemSelectionModel,
    QModelIndex,
    QObject,
    QPersistentModelIndex,
    QRectF,
    QSize,
    Qt,
    Signal,
)
from PySide6.QtGui import QPainter, QPen
from PySide6.QtWidgets import QListView, QStyle, QStyledItemDelegate, QStyleOptionViewItem

from needlewright.app.courtesy import at_work
from needlewright.app.theme.look import look
from needlewright.app.viewmodels.board import Waiting
from needlewright.app.viewmodels.rows import Rows
from needlewright.app.widgets.stitch import draw_stitch
from needlewright.core.jobfile.rows import FindRow
from needlewright.wording import finds as find_words
from needlewright.wording import mending as words

AHEAD = 24  # rows that are fetched at a time
Index = QModelIndex | QPersistentModelIndex


class WaitingModel(QAbstractListModel):
    """The ids that wait; their rows come as they are looked at."""

    def __init__(self, rows: Rows, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.shown = Waiting()
        self._rows = rows
        rows.came.connect(self._came)

    @property
    def ids(self) -> Sequence[int]:
        return self.shown.ids

    def show(self, shown: Waiting) -> None:
        self.beginResetModel()
        self.shown = shown
        self.endResetModel()

    def told(self, row: FindRow) -> str:
        """What is wrong with it, or what became of it."""
        treated = self.shown.treated.get(row.id)
        return words.waits_with(row) if treated is None else words.treated_line(*treated)

    def graded(self, row: FindRow) -> tuple[str, float]:
        """Its grade and share, of the mended version where there is one."""
        grade, share, _ = self.shown.treated.get(row.id, ("", 0.0, ""))
        return (grade, share) if grade else (row.grade, row.share)

    def _came(self) -> None:
        if len(self.ids):
            self.dataChanged.emit(self.index(0), self.index(len(self.ids) - 1))

    def rowCount(self, parent: Index | None = None) -> int:
        return len(self.ids)

    def row_at(self, index: Index) -> FindRow | None:
        """The row of an item, or None while it is fetched."""
        number = self.ids[index.row()]
        found = self._rows.get(number)
        if found is None:
            low = max(0, index.row() - 4)
            self._rows.want(list(self.ids[low : low + AHEAD]))
        return found

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        if not index.isValid() or role not in (Qt.ItemDataRole.DisplayRole,
                                               Qt.ItemDataRole.AccessibleTextRole,
                                               Qt.ItemDataRole.ToolTipRole):
            return None
        row = self.row_at(index)
        return "" if row is None else f"{find_words.title(row)}, {self.told(row)}"


class _Card(QStyledItemDelegate):
    """Draws one that waits."""

    def sizeHint(self, option: QStyleOptionViewItem, index: Index) -> QSize:
        return QSize(look.px(150), look.px(60))

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        model = index.model()
        assert isinstance(model, WaitingModel)
        row = model.row_at(index)
        rect = option.rect.adjusted(1, 2, -3, -4)  # type: ignore[attr-defined]
        chosen = bool(option.state & QStyle.StateFlag.State_Selected)  # type: ignore[attr-defined]
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(look.colour("thread" if chosen else "line"), 2 if chosen else 1))
        painter.setBrush(look.colour("panel"))
        painter.drawRoundedRect(QRectF(rect), 7, 7)
        if row is not None:
            left, width = rect.left() + 12, rect.width() - 22
            for text, top, bold, colour in (
                    (find_words.title(row), 5, True, "ink"),
                    (model.told(row), 23, False, "muted")):
                painter.setFont(look.font(13 if bold else 12, bold))
                painter.setPen(look.colour(colour))
                told = painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, width)
                painter.drawText(left, rect.top() + look.px(top), width, look.px(18),
                                 Qt.AlignmentFlag.AlignVCenter, told)
            draw_stitch(painter, left, rect.top() + look.px(47), *model.graded(row))
        painter.restore()


class WaitingList(QListView):
    """`picked` is the find to work on."""

    picked = Signal(int)

    def __init__(self, rows: Rows) -> None:
        super().__init__()
        self.setObjectName("waitingList")
        self.setAccessibleName(words.WAITING)
        self.setUniformItemSizes(True)
        self.setVerticalScrollMode(QListView.ScrollMode.ScrollPerPixel)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setItemDelegate(_Card(self))
        self.waiting = WaitingModel(rows, self)
        self.setModel(self.waiting)
        self.selectionModel().currentChanged.connect(self._moved)
        look.changed.connect(self.scheduleDelayedItemsLayout)

    @at_work
    def show_waiting(self, shown: Waiting, chosen: int | None) -> None:
        """Show these; the one on the bench stays chosen without being picked again."""
        if shown != self.waiting.shown:
            self.selectionModel().blockSignals(True)
            at = self.verticalScrollBar().value()
            self.waiting.show(shown)
            self.selectionModel().blockSignals(False)
            self.verticalScrollBar().setValue(at)
        self.choose(chosen)

    def choose(self, number: int | None) -> None:
        """Mark one as that which is on the bench."""
        if number in self.waiting.ids:
            index = self.waiting.index(self.waiting.ids.index(number))
            if index != self.currentIndex():
                self.selectionModel().blockSignals(True)
                self.selectionModel().setCurrentIndex(
                    index, QItemSelectionModel.SelectionFlag.ClearAndSelect)
                self.selectionModel().blockSignals(False)
                self.scrollTo(index)
                self.viewport().update()

    def _moved(self, now: QModelIndex, before: QModelIndex) -> None:
        if now.isValid():
            self.picked.emit(self.waiting.ids[now.row()])
