"""What every table of things in one order has in common."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Generic, TypeVar

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, Qt

Index = QModelIndex | QPersistentModelIndex
Thing = TypeVar("Thing")


class Listed(QAbstractTableModel, Generic[Thing]):
    """`shown`, a row each, under the heads `columns`; what a cell says is told by `data`."""

    def __init__(self, columns: Sequence[str]) -> None:
        super().__init__()
        self.columns, self.shown = columns, list[Thing]()

    def show(self, things: Sequence[Thing]) -> None:
        """Show these."""
        self.beginResetModel()
        self.shown = list(things)
        self.endResetModel()

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008 (Qt's own default)
        return 0 if parent.isValid() else len(self.shown)

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(self.columns)

    def headerData(self, section: int, orientation: Qt.Orientation,
                   role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if role == Qt.ItemDataRole.DisplayRole and orientation == Qt.Orientation.Horizontal:
            return self.columns[section]
        return None
