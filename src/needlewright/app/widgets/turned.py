"""Where a coded row of a picture lies once the picture is shown upright (Exif 2.32, 4.6.4.A,
Orientation: which sides the first row and the first column are on)."""

from __future__ import annotations

from PySide6.QtCore import QLineF, QPointF, QRectF

ACROSS = frozenset((5, 6, 7, 8))  # orientations whose coded rows stand upright
BACKWARDS = frozenset((3, 4, 6, 7))  # ... and those whose first row is at the bottom or the right


def row_line(box: QRectF, share: float, orientation: int, beyond: float = 0.0) -> QLineF:
    """The line across a picture drawn in `box` down to which a `share` (0.0 to 1.0) of its coded
    rows lies; it ends `beyond` pixels outside."""
    along = 1 - share if orientation in BACKWARDS else share
    if orientation in ACROSS:
        x = box.left() + along * box.width()
        return QLineF(x, box.top() - beyond, x, box.bottom() + beyond)
    y = box.top() + along * box.height()
    return QLineF(box.left() - beyond, y, box.right() + beyond, y)


def share_at(box: QRectF, point: QPointF, orientation: int) -> float:
    """The share of coded rows down to `point`, 0.0 to 1.0."""
    if orientation in ACROSS:
        along = (point.x() - box.left()) / max(1.0, box.width())
    else:
        along = (point.y() - box.top()) / max(1.0, box.height())
    along = min(1.0, max(0.0, along))
    return 1 - along if orientation in BACKWARDS else along
