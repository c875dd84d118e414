"""A row that goes on in the next line where it does not fit: words are never cut."""

from __future__ import annotations

from PySide6.QtCore import QPoint, QRect, QSize, Qt
from PySide6.QtWidgets import QLayout, QLayoutItem, QSizePolicy, QWidget


class Flow(QLayout):
    """Items from left to right, line by line; `spacing` between them, in pixels."""

    def __init__(self, spacing: int = 12, down: int = 4) -> None:
        super().__init__()
        self._items: list[QLayoutItem] = []
        self._across, self._down = spacing, down
        self._heights: dict[int, int] = {}  # by width; asked again and again while nothing changes
        self.setContentsMargins(0, 0, 0, 0)

    def addItem(self, item: QLayoutItem) -> None:
        self._items.append(item)

    def count(self) -> int:
        return len(self._items)

    def itemAt(self, index: int) -> QLayoutItem | None:
        return self._items[index] if 0 <= index < len(self._items) else None

    def takeAt(self, index: int) -> QLayoutItem | None:
        return self._items.pop(index) if 0 <= index < len(self._items) else None

    def expandingDirections(self) -> Qt.Orientation:
        return Qt.Orientation(0)

    def hasHeightForWidth(self) -> bool:
        return True

    def invalidate(self) -> None:
        self._heights.clear()
        super().invalidate()

    def heightForWidth(self, width: int) -> int:
        if width not in self._heights:
            self._heights[width] = self._laid_out(QRect(0, 0, width, 0), move=False)
        return self._heights[width]

    def sizeHint(self) -> QSize:
        return self.minimumSize()

    def minimumSize(self) -> QSize:
        size = QSize()
        for item in self._items:
            if not item.isEmpty():
                size = size.expandedTo(item.sizeHint())
        return size

    def setGeometry(self, room: QRect) -> None:
        super().setGeometry(room)
        self._laid_out(room, move=True)

    def _laid_out(self, room: QRect, move: bool) -> int:
        """Place all that is shown; returns the height that it takes."""
        shown = [item for item in self._items if not item.isEmpty()]
        rows: list[list[QLayoutItem]] = [[]]
        right = 0
        for item in shown:
            wide = item.sizeHint().width()
            if rows[-1] and right + wide > room.width():
                rows.append([])
                right = 0
            rows[-1].append(item)
            right += wide + self._across
        top = room.y()
        for row in rows:
            high = max((item.sizeHint().height() for item in row), default=0)
            left = room.x()
            for item in row:
                hint = item.sizeHint()
                wide = min(hint.width(), room.width())
                if move:
                    shift = (high - hint.height()) // 2
                    item.setGeometry(QRect(QPoint(left, top + shift), QSize(wide, hint.height())))
                left += hint.width() + self._across
            top += high + self._down
        return max(0, top - self._down - room.y())


def flow(*widgets: QWidget, spacing: int = 12, down: int = 4) -> QWidget:
    """A widget whose children flow."""
    box = QWidget()
    inside = Flow(spacing, down)
    for widget in widgets:
        inside.addWidget(widget)
    box.setLayout(inside)
    policy = QSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Minimum)
    policy.setHeightForWidth(True)
    box.setSizePolicy(policy)
    return box
