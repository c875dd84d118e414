"""A clip's ten frames in a row with the place that is shown and the seconds that are damaged.

A press or a drag asks for another place. Drawn by the full view and, without hands, the dossier.
"""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QPainter, QPen, QPixmap

from needlewright.app.theme.look import look


def damaged_seconds(values: object) -> list[tuple[float, float]]:
    """The damaged stretches that a check lists, in seconds."""
    listed = values.get("damaged") if isinstance(values, dict) else None
    return [(float(a), float(b)) for a, b in listed or ()]


def paint_strip(painter: QPainter, box: QRectF, frames: QPixmap, all_s: float,
                damaged: Sequence[tuple[float, float]], at_s: float | None) -> None:
    """Frames stretched over `box`, damaged stretches hatched below, a line at `at_s`."""
    painter.fillRect(box, look.colour("pictures"))
    if not frames.isNull():
        painter.drawPixmap(box, frames, QRectF(frames.rect()))
    if all_s <= 0:
        return
    scale = box.width() / all_s
    for start, stop in damaged:
        left = box.left() + start * scale
        mark = QRectF(left, box.bottom() - 7, max(3.0, (stop - start) * scale), 7)
        painter.fillRect(mark, look.colour("panel"))
        painter.fillRect(mark, look.colour("ochre"))
        painter.fillRect(mark, Qt.BrushStyle.BDiagPattern)
    if at_s is not None:
        x = box.left() + min(max(at_s, 0.0), all_s) * scale
        painter.setPen(QPen(look.colour("panel"), 4))
        painter.drawLine(round(x), round(box.top()) - 3, round(x), round(box.bottom()) + 3)
        painter.setPen(QPen(look.colour("ink"), 2))
        painter.drawLine(round(x), round(box.top()) - 3, round(x), round(box.bottom()) + 3)
