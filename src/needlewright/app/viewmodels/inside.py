"""The files that a phone offers as a table: what is shown of them, in which order, with the small
pictures that have come."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Sequence
from typing import Any

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, Qt
from PySide6.QtGui import QPixmap

from needlewright.app.theme.look import look
from needlewright.core.search.shelf_names import Inside
from needlewright.wording import inside as words

Index = QModelIndex | QPersistentModelIndex
PICTURE, NAME, STATE, DAY, SIZE, FOLDER = range(6)
KEPT = 600  # small pictures
PICTURED = frozenset(("photo", "video"))

ORDERS: dict[int, Callable[[Inside], Any]] = {
    NAME: lambda one: one.name.lower(), STATE: lambda one: (not one.removed, words.state(one)),
    DAY: words.day, SIZE: lambda one: one.offered.size or 0, FOLDER: lambda one: one.path.lower()}


def removed_first(one: Inside) -> tuple[bool, str]:
    """What a device soon throws away comes first."""
    return not one.removed, (one.kept.purge_at or "") if one.kept and one.removed else ""


class InsideModel(QAbstractTableModel):
    """`shown`: the files in view, of `every`."""

    def __init__(self, want: Callable[[Inside], None]) -> None:
        """`want` asks for the small picture of a file."""
        super().__init__()
        self.every: list[Inside] = []
        self.shown: list[Inside] = []
        self._want = want
        self._order: tuple[Callable[[Inside], Any], bool] = removed_first, False
        self._filter: Callable[[Inside], bool] = lambda one: True
        self._places: dict[str, int] = {}
        self._pictures: OrderedDict[str, QPixmap | None] = OrderedDict()

    def take(self, every: Sequence[Inside]) -> None:
        """These are all files."""
        self.every = sorted(every, key=words.day, reverse=True)
        self._lay_out()

    def narrow(self, kind: str, removed_only: bool, text: str) -> None:
        """Show those alone of a `kind` ("": all), and with `text` in the path."""
        text = text.lower()
        self._filter = lambda one: (
            (not kind or one.kind == kind) and (one.removed or not removed_only)
            and (not text or text in one.path.lower()))
        self._lay_out()

    def sort(self, column: int, order: Qt.SortOrder = Qt.SortOrder.AscendingOrder) -> None:
        if column in ORDERS:
            self._order = ORDERS[column], order == Qt.SortOrder.DescendingOrder
            self._lay_out()

    def _lay_out(self) -> None:
        self.beginResetModel()
        key, backwards = self._order
        self.shown = sorted(filter(self._filter, self.every), key=key, reverse=backwards)
        self._places = {one.offered.entry.key: row for row, one in enumerate(self.shown)}
        self.endResetModel()

    def show_picture(self, key: str, data: bytes) -> None:
        """The small picture of a file has come; b"": it has none."""
        picture = QPixmap()
        self._pictures[key] = picture if data and picture.loadFromData(data) else None
        self._pictures.move_to_end(key)
        while len(self._pictures) > KEPT:
            self._pictures.popitem(last=False)
        row = self._places.get(key)
        if row is not None:
            index = self.index(row, PICTURE)
            self.dataChanged.emit(index, index)

    def has_picture(self, row: int) -> bool:
        """Whether a row may have a small picture."""
        one = self.shown[row]
        return one.kind in PICTURED and not one.offered.refused

    def picture(self, row: int) -> QPixmap | None:
        """The small picture of a row; None where there is none, or it is still asked for."""
        one = self.shown[row]
        key = one.offered.entry.key
        if key not in self._pictures and self.has_picture(row):
            self._pictures[key] = None
            self._want(one)
        return self._pictures.get(key)

    def forget_unseen(self) -> None:
        """What has not come is asked for anew when it is in view."""
        for key in [key for key, picture in self._pictures.items() if picture is None]:
            del self._pictures[key]

    # Qt

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008 (Qt's own default)
        return 0 if parent.isValid() else len(self.shown)

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(words.COLUMNS)

    def headerData(self, section: int, orientation: Qt.Orientation,
                   role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if role == Qt.ItemDataRole.DisplayRole and orientation == Qt.Orientation.Horizontal:
            return words.COLUMNS[section]
        return None

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        one = self.shown[index.row()]
        if role == Qt.ItemDataRole.DisplayRole:
            return words.cell(one, index.column())
        if role == Qt.ItemDataRole.ToolTipRole:
            return words.tip(one)
        if role == Qt.ItemDataRole.FontRole and index.column() == STATE and one.removed:
            return look.font(13, True)
        if role == Qt.ItemDataRole.ForegroundRole and index.column() in (DAY, SIZE, FOLDER):
            return look.colour("muted")
        return None
