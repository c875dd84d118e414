"""The thread of a file: its pieces as bars, its seams between them, and what is missing."""

from __future__ import annotations

from itertools import pairwise

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QHelpEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QToolTip, QWidget

from needlewright.app.courtesy import at_work
from needlewright.app.theme.look import look
from needlewright.core.codes import SeamWord
from needlewright.core.jobs.handwork import Standing
from needlewright.wording import mending as words
from needlewright.wording import seams, units

GAP = 22  # pixels between two pieces
LEAST = 14
HEIGHT = 14


class ThreadBars(QWidget):
    """Widths go with sizes, as far as every piece can still be seen."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("threadBars")
        self.standing: Standing | None = None
        self._fit()
        look.changed.connect(self._fit)

    def _fit(self) -> None:
        self.setFixedHeight(look.px(58))

    def show_standing(self, standing: Standing | None) -> None:
        self.standing = standing
        self.setAccessibleName("" if standing is None else "; ".join(self.names()))
        self.update()

    def names(self) -> list[str]:
        """Each piece in words: '11.02 GB, 3.1 MB'."""
        assert self.standing is not None
        return [f"{units.place(at)}, {units.size(length)}" for at, length in self.standing.pieces]

    def sizeHint(self) -> QSize:
        return QSize(600, look.px(58))

    def boxes(self) -> list[QRectF]:
        """Where each piece is drawn, and last what is missing where anything is."""
        standing = self.standing
        if standing is None:
            return []
        sizes = [float(length) for _, length in standing.pieces]
        if not standing.ended:
            share = standing.share
            missing = standing.at / share * (1 - share) if 0 < share < 1 else standing.at * 0.3
            sizes.append(max(1.0, missing))
        gap = min(GAP, max(6, (self.width() - 12) // (3 * len(sizes))))
        room = self.width() - 12 - gap * (len(sizes) - 1)
        least = min(look.px(LEAST), room / len(sizes))
        spare = max(0.0, room - least * len(sizes))
        total, x, out = sum(sizes), 6.0, []
        for size in sizes:
            width = least + spare * size / total
            out.append(QRectF(x, 4, width, look.px(HEIGHT)))
            x += width + gap
        return out

    @at_work
    def paintEvent(self, event: QPaintEvent) -> None:
        standing = self.standing
        if standing is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        boxes, names = self.boxes(), self.names()
        for index, (box, following) in enumerate(pairwise(boxes)):
            sure = index >= len(standing.pieces) - 1 or self._word(index) is SeamWord.PROVEN
            style = Qt.PenStyle.SolidLine if sure else Qt.PenStyle.DotLine
            painter.setPen(QPen(look.colour("thread"), 2, style))
            y = box.center().y()
            painter.drawLine(QPointF(box.right(), y), QPointF(following.left(), y))
        for index, box in enumerate(boxes):
            there = index < len(standing.pieces)
            painter.setPen(QPen(look.colour("thread"), 1.6,
                                Qt.PenStyle.SolidLine if there else Qt.PenStyle.DashLine))
            painter.setBrush(look.colour("thread") if there else Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(box, 4, 4)
        self._labels(painter, boxes, [*names, words.missing(standing)][: len(boxes)])
        painter.end()

    def _word(self, index: int) -> SeamWord | None:
        """How sure the seam behind a piece is."""
        assert self.standing is not None
        at = sum(length for _, length in self.standing.pieces[: index + 1])
        return next((s.word for s in self.standing.thread.seams if s.at == at), None)

    def _labels(self, painter: QPainter, boxes: list[QRectF], names: list[str]) -> None:
        painter.setFont(look.font(12))
        painter.setPen(look.colour("muted"))
        metrics = painter.fontMetrics()
        free = [0.0, 0.0]  # of two lines, up to where something stands
        for box, name in zip(boxes, names):
            width = metrics.horizontalAdvance(name)
            left = max(4.0, min(box.left(), self.width() - width - 4))
            at = next((i for i, x in enumerate(free) if x <= left), None)
            if at is not None:
                down = look.px(17) if at == 0 else look.px(33)
                painter.drawText(QPointF(left, box.bottom() + down), name)
                free[at] = left + width + 10

    def event(self, event: object) -> bool:  # type: ignore[override]
        if isinstance(event, QHelpEvent) and self.standing is not None:
            names = [*self.names(), words.missing(self.standing)]
            for index, box in enumerate(self.boxes()):
                if box.adjusted(-4, -6, 4, 6).contains(QPointF(event.pos())):
                    word = self._word(index - 1) if index else None
                    told = "" if word is None else f"\nseam before it: {seams.seam_word(word)}"
                    QToolTip.showText(event.globalPos(), names[index] + told, self)
                    return True
        return super().event(event)  # type: ignore[arg-type]
