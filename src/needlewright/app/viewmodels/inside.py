"""The files that a phone offers as a table: what is shown of them, in which order, with the small
pictures that have come."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from operator import itemgetter
from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtGui import QPixmap

from needlewright.app.theme.look import look
from needlewright.app.viewmodels.listed import Index, Listed
from needlewright.core.search.days import Days
from needlewright.core.search.shelf_names import Inside
from needlewright.wording import inside as words

PICTURE, NAME, STATE, DAY, SIZE, FOLDER = range(6)
KEPT = 600  # small pictures
PICTURED = frozenset(("photo", "video"))

ORDERS: dict[int, Callable[[Inside], Any]] = {
    NAME: lambda one: one.name.lower(), STATE: lambda one: (not one.removed, words.state(one)),
    DAY: words.day, SIZE: lambda one: one.offered.size or 0, FOLDER: lambda one: one.path.lower()}


@dataclass(frozen=True, slots=True)
class Looked:
    """What a phone offers, as it is shown at first: what it soon throws away, then the newest.
    `lower`: the paths of `every`, to be searched in; `missing`: of the list; `more`: that these are
    the first ones, and more will come; `judged`: how useful they are to the job, in words."""

    every: list[Inside]
    lower: list[str]
    missing: Mapping[str, int]
    more: bool = False
    judged: str = ""


def looked(every: Iterable[Inside], missing: Mapping[str, int], more: bool = False,
           judged: str = "") -> Looked:
    """Lay it out: that takes long for many files, and belongs into no thread of a window."""
    removed: list[tuple[str, Inside]] = []
    others: dict[str, list[Inside]] = {}  # sorting all at once would let nobody else work
    for one in every:
        if one.kept is not None and one.removed:
            removed.append((one.kept.purge_at or "", one))
        else:
            others.setdefault(words.day(one), []).append(one)
    laid = [one for _, one in sorted(removed, key=itemgetter(0))]
    for day in sorted(others, reverse=True):
        laid += others[day]
    return Looked(laid, [one.path.lower() for one in laid], missing, more, judged)


class InsideModel(Listed[Inside]):
    """`shown`: the files in view, of `every`."""

    def __init__(self, want: Callable[[Inside], None]) -> None:
        """`want` asks for the small picture of a file."""
        super().__init__(words.COLUMNS)
        self.every: list[Inside] = []
        self._want = want
        self._lower: list[str] = []
        self._narrow: tuple[str, bool, str, Days | None] = "", False, "", None
        self._pictures: OrderedDict[str, QPixmap | None] = OrderedDict()

    def take(self, came: Looked) -> None:
        """These are all files."""
        self.every, self._lower = came.every, came.lower
        self._narrowed()

    def narrow(self, kind: str, removed_only: bool, text: str, days: Days | None = None) -> None:
        """Show those alone of a `kind` ("": all), with `text` in the path, dated within `days`."""
        self._narrow = kind, removed_only, text.lower(), days
        self._narrowed()

    def sort(self, column: int, order: Qt.SortOrder = Qt.SortOrder.AscendingOrder) -> None:
        if column in ORDERS:
            self.every = sorted(self.every, key=ORDERS[column],
                                reverse=order == Qt.SortOrder.DescendingOrder)
            self._lower = [one.path.lower() for one in self.every]
            self._narrowed()

    def _narrowed(self) -> None:
        kind, removed_only, text, days = self._narrow
        shown = self.every
        if text:
            shown = [one for one, path in zip(shown, self._lower, strict=True) if text in path]
        if kind:
            shown = [one for one in shown if one.kind == kind]
        if days is not None:
            shown = [one for one in shown
                     if days.holds((one.offered.created, one.offered.modified))]
        self.show([one for one in shown if one.removed] if removed_only else shown)

    def show_picture(self, key: str, data: bytes) -> None:
        """The small picture of a file has come; b"": it has none."""
        picture = QPixmap()
        self._pictures[key] = picture if data and picture.loadFromData(data) else None
        self._pictures.move_to_end(key)
        while len(self._pictures) > KEPT:
            self._pictures.popitem(last=False)
        last = len(self.shown) - 1  # which row it is costs more than a look at those in view
        if last >= 0:
            self.dataChanged.emit(self.index(0, PICTURE), self.index(last, PICTURE))

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
