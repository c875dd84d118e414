"""The newest finds of a search, as they come."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QWidget

from needlewright.app.courtesy import at_work
from needlewright.app.session import Session
from needlewright.app.theme.look import look
from needlewright.app.widgets.pictures import Thumbnails, draw_fitted
from needlewright.app.widgets.stitch import draw_stitch
from needlewright.core.jobfile.rows import FindRow


class JustFound(QWidget):
    """A grid of the newest finds; a click opens one large."""

    opened = Signal(int)

    def __init__(self, session: Session, thumbnails: Thumbnails) -> None:
        super().__init__()
        self.setObjectName("justFound")
        self._session, self._thumbnails = session, thumbnails
        self._rows: Sequence[FindRow] = ()
        thumbnails.ready.connect(self._picture_came)

    def show_rows(self, rows: Sequence[FindRow]) -> None:
        self._rows = rows
        self.update()

    def _picture_came(self, numbers: frozenset[int]) -> None:
        if any(row.id in numbers for row in self._rows):
            self.update()

    def _box(self, index: int) -> tuple[int, int, int, int]:
        wide = (self.width() - 8) // 2
        high = wide * 2 // 3
        return (index % 2) * (wide + 8), (index // 2) * (high + 24), wide, high

    @at_work
    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        for index, row in enumerate(self._rows):
            x, y, wide, high = self._box(index)
            if y + high + 16 > self.height():
                break
            painter.fillRect(x, y, wide, high, look.colour("pictures"))
            picture = self._thumbnails.get(row.id)
            if picture is not None and not picture.isNull():
                draw_fitted(painter, picture, x, y, wide, high)
            draw_stitch(painter, x + 1, y + high + 9, row.grade, row.share)
        painter.end()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        point = event.position()
        for index, row in enumerate(self._rows):
            x, y, wide, high = self._box(index)
            if x <= point.x() < x + wide and y <= point.y() < y + high:
                self.opened.emit(row.id)
                return
