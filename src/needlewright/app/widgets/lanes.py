"""How the tape's lanes are drawn: read states and textures, told apart by height and tone."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import numpy.typing as npt
from PySide6.QtCore import QRect, QRectF
from PySide6.QtGui import QPainter

from needlewright.app.theme.look import look
from needlewright.app.viewmodels.read_lane import Cell
from needlewright.core.kernels.texture import Texture

# Height as part of the lane, tone as alpha of the ink: flat is thin, dense is tall.
TEXTURES = {
    Texture.BLANK: (0.1, 60), Texture.TEXT: (0.35, 110), Texture.STRUCTURED: (0.55, 80),
    Texture.COMPRESSED: (0.8, 95), Texture.RANDOM: (0.8, 50),
}


def runs(cells: npt.NDArray[np.uint8]) -> list[tuple[int, int, int]]:
    """(start, stop, value) of the runs of equal cells."""
    cuts = np.flatnonzero(np.diff(cells)) + 1
    return [(a, b, int(cells[a])) for a, b in pairwise([0, *cuts.tolist(), len(cells)])]


def paint_read(painter: QPainter, rect: QRect, cells: npt.NDArray[np.uint8]) -> None:
    """A bar where it is read, a thin line where that was slow, ochre where nothing reads."""
    middle = rect.center().y() + 0.5
    looks = {Cell.PENDING: ("line", 1.0), Cell.READ: ("muted", 7.0),
             Cell.SLOW: ("muted", 2.5), Cell.UNREADABLE: ("ochre", 10.0)}
    for start, stop, value in runs(cells):
        colour, high = looks[Cell(value)]
        wide = max(2.0 if high > 9 else 1.0, float(stop - start))
        painter.fillRect(QRectF(rect.left() + start, middle - high / 2, wide, high),
                         look.colour(colour))


def paint_texture(painter: QPainter, rect: QRect, cells: npt.NDArray[np.uint8]) -> None:
    """Thin where the medium is blank, tall where it is dense; JPEG data in the thread's tone."""
    for start, stop, value in runs(cells):
        if value == Texture.UNSEEN:
            continue
        if value == Texture.JPEG:
            part, colour = 1.0, look.faint("thread", 150)
        else:
            part, alpha = TEXTURES[Texture(value)]
            colour = look.faint("ink", alpha)
        high = max(1.0, part * rect.height())
        painter.fillRect(QRectF(rect.left() + start, rect.bottom() + 1 - high, stop - start, high),
                         colour)
