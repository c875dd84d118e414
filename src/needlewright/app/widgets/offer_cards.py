"""The pieces that may come next, as small pictures of what the file would become."""

from __future__ import annotations

from PySide6.QtCore import QRectF, QSize, Qt, Signal
from PySide6.QtGui import QFocusEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPixmap
from PySide6.QtWidgets import QWidget

from needlewright.app.courtesy import at_work
from needlewright.app.theme.look import look
from needlewright.core.stitching.hand import OFFERED

GAP = 10


class OfferCards(QWidget):
    """`chosen`: one to look at; `taken`: one to join."""

    chosen = Signal(int)
    taken = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("offerCards")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.texts: list[tuple[str, str]] = []
        self.pictures: list[QPixmap] = []
        self.current = 0
        self._fit()
        look.changed.connect(self._fit)

    def _fit(self) -> None:
        self.setFixedHeight(look.px(146))

    def show_offers(self, texts: list[tuple[str, str]], pictures: list[QPixmap],
                    current: int) -> None:
        """`texts`: (place, why) of each."""
        self.texts, self.pictures, self.current = texts, pictures, current
        self.setAccessibleName("; ".join(f"{place}: {why}" for place, why in texts))
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(640, look.px(146))

    def box(self, index: int) -> QRectF:
        """Where one is drawn, its text below."""
        width = (self.width() - GAP * (OFFERED - 1) - 12) / OFFERED
        return QRectF(6 + index * (width + GAP), 3, width, self.height() - look.px(42))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.setFocus()
        for index in range(len(self.texts)):
            if self.box(index).adjusted(-4, -3, 4, look.px(42)).contains(event.position()):
                self.chosen.emit(index)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if any(self.box(i).contains(event.position()) for i in range(len(self.texts))):
            self.taken.emit()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.taken.emit()
        else:
            super().keyPressEvent(event)

    def focusInEvent(self, event: QFocusEvent) -> None:
        self.update()

    focusOutEvent = focusInEvent

    @at_work
    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        for index, (place, why) in enumerate(self.texts):
            box, mine = self.box(index), index == self.current
            painter.fillRect(box, look.colour("pictures"))
            picture = self.pictures[index]
            if not picture.isNull():
                size = picture.size().scaled(box.size().toSize(),
                                             Qt.AspectRatioMode.KeepAspectRatio)
                target = QRectF(0, 0, size.width(), size.height())
                target.moveCenter(box.center())
                painter.drawPixmap(target, picture, QRectF(picture.rect()))
            pen = QPen(look.colour("thread" if mine else "line"), 3 if mine else 1)
            painter.setPen(pen)
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(box)
            if mine and self.hasFocus():
                painter.setPen(QPen(look.colour("ink"), 1, Qt.PenStyle.DotLine))
                painter.drawRect(box.adjusted(4, 4, -4, -4))
            for text, bold, down in ((place, mine, 18), (why, False, 36)):
                painter.setFont(look.font(12, bold))
                painter.setPen(look.colour("ink" if bold or down == 18 else "muted"))
                painter.drawText(
                    round(box.left()), round(box.bottom()) + look.px(down),
                    painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight,
                                                     round(box.width())))
        painter.end()
