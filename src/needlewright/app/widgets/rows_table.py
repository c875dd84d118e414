"""The rows of a database, removed ones first, as a table."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QTableView, QWidget

from needlewright.app.theme.look import look
from needlewright.app.viewmodels.listed import Index, Listed
from needlewright.core.databases.rows import Row
from needlewright.wording import rows as words

WIDTHS = {0: 90, 1: 116, 2: 66, 4: 254}  # of columns; what a row holds takes the rest
HOLDS, WHERE = 3, 4
NARROW = 760


class RowsModel(Listed[Row]):
    """Rows in the order given."""

    def __init__(self) -> None:
        super().__init__(words.COLUMNS)

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        row = self.shown[index.row()]
        if role == Qt.ItemDataRole.DisplayRole:
            return words.cells(row)[index.column()]
        if role == Qt.ItemDataRole.ToolTipRole:
            return words.in_full(row)
        if role == Qt.ItemDataRole.ForegroundRole and row.state == "live":
            return look.colour("muted")
        return None


class RowsTable(QTableView):
    """A table that is looked at; keys that it has no use for go on to what it lies in."""

    def __init__(self, parent: QWidget, with_place: bool = True) -> None:
        """`with_place`: where a row stands has a column of its own, and is not in its tip alone."""
        super().__init__(parent)
        self.setObjectName("rowsTable")
        self._with_place = with_place
        self.rows = RowsModel()
        self.setModel(self.rows)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setVerticalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setShowGrid(False)
        self.setWordWrap(False)
        self.verticalHeader().hide()
        header = self.horizontalHeader()
        header.setSectionResizeMode(HOLDS, QHeaderView.ResizeMode.Stretch)
        header.setHighlightSections(False)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        header.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        look.changed.connect(self._look)
        self._look()
        self.hide()

    def _look(self) -> None:
        for index, width in WIDTHS.items():
            self.setColumnWidth(index, look.px(width))
        self.verticalHeader().setDefaultSectionSize(look.px(26))

    def resizeEvent(self, event: QResizeEvent) -> None:
        # With large text what a row holds comes first; where it stands is in its tip as well.
        self.setColumnHidden(WHERE, not self._with_place or self.width() < look.px(NARROW))
        super().resizeEvent(event)

    def turn(self, pages: int) -> None:
        """Go on by so many views of rows."""
        bar = self.verticalScrollBar()
        bar.setValue(bar.value() + pages * bar.pageStep())
