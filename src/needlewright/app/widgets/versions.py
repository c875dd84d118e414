"""The versions of one picture that several sources hold, side by side, each with where it is."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPixmap
from PySide6.QtWidgets import QGridLayout, QWidget

from needlewright.app.theme.look import look
from needlewright.app.viewmodels.board import Shown
from needlewright.app.widgets.pictures import Thumbnails, draw_fitted
from needlewright.app.widgets.small import button, label
from needlewright.wording import shelves as words

HIGH = 96  # pixels of a picture
MOST = 4  # versions that are shown beside it


class Small(QWidget):
    """One version's picture."""

    clicked = Signal()

    def __init__(self, pixmap: QPixmap | None) -> None:
        super().__init__()
        self.pixmap = pixmap
        self.setFixedHeight(look.px(HIGH))

    def show_pixmap(self, pixmap: QPixmap | None) -> None:
        self.pixmap = pixmap
        self.update()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.clicked.emit()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.fillRect(self.rect(), look.colour("pictures"))
        if self.pixmap is not None and not self.pixmap.isNull():
            draw_fitted(painter, self.pixmap, 0, 0, self.width(), self.height())
        painter.end()


class Versions(QWidget):
    """The find that is shown, and each other version, two in a row; `select` shows another."""

    def __init__(self, shown: Shown, thumbnails: Thumbnails,
                 select: Callable[[int], object]) -> None:
        super().__init__()
        self._thumbnails = thumbnails
        self._pictures: dict[int, Small] = {}
        grid = QGridLayout(self)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(4)
        row = shown.record.row
        place = shown.source.name if shown.source else "?"
        entries = [(row, words.THIS_ONE, place)] + [
            (one.row, words.RELATIONS[one.relation], one.place) for one in shown.versions[:MOST]]
        for number, (one, relation, where) in enumerate(entries):
            at, side = number // 2 * 2, number % 2
            picture = self._pictures[one.id] = Small(thumbnails.get(one.id))
            grid.addWidget(picture, at, side)
            about = label(words.version_about(one, relation, where), "muted", f"version{number}",
                          wrap=True)
            about.setAlignment(Qt.AlignmentFlag.AlignTop)
            grid.addWidget(about, at + 1, side)
            if number:
                picture.setCursor(Qt.CursorShape.PointingHandCursor)
                picture.setToolTip(words.SHOW_VERSION)
                picture.clicked.connect(partial(select, one.id))
        for side in range(2):
            grid.setColumnStretch(side, 1)
        first = entries[1][0].id
        grid.addWidget(button(words.SHOW_VERSION, "showVersion", partial(select, first), "link"),
                       len(entries) // 2 * 2 + 2, 0, 1, 2, Qt.AlignmentFlag.AlignLeft)
        thumbnails.ready.connect(self._came)

    def _came(self, numbers: frozenset[int]) -> None:
        for number, picture in self._pictures.items():
            if number in numbers:
                picture.show_pixmap(self._thumbnails.get(number))
