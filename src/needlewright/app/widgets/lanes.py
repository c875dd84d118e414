"""How the tape's lanes are drawn: read states, volumes and textures, by height and tone."""

from __future__ import annotations

from collections.abc import Callable
from itertools import pairwise

import numpy as np
import numpy.typing as npt
from PySide6.QtCore import QRect, QRectF, Qt
from PySide6.QtGui import QImage, QPainter, QPen

from needlewright.app.theme.look import look
from needlewright.app.viewmodels.read_lane import Cell
from needlewright.app.viewmodels.volumes_lane import VolumesLane
from needlewright.core.kernels.texture import Texture
from needlewright.core.search.events import VolumeSeen

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


def _argb(name: str, alpha: npt.NDArray[np.int64] | int) -> npt.NDArray[np.uint32]:
    """A colour of the look as uint32 pixels, with these alphas."""
    colour = look.colour(name)
    plain = colour.red() << 16 | colour.green() << 8 | colour.blue()
    return np.asarray(np.asarray(alpha, np.int64) << 24 | plain, np.uint32)


def paint_pixels(painter: QPainter, rect: QRect, pixels: npt.NDArray[np.uint32]) -> None:
    """Draw uint32[rows, columns] into `rect`, in one call: while other threads compute, each call
    into Qt may cost the window's thread a millisecond."""
    data = np.ascontiguousarray(pixels)
    high, wide = data.shape
    if high and wide:
        image = QImage(data.data, wide, high, 4 * wide, QImage.Format.Format_ARGB32)
        painter.drawImage(rect, image)


def paint_parts(painter: QPainter, rect: QRect, parts: npt.NDArray[np.float64]) -> None:
    """A column of `rect` the stronger, the more of it is covered; nothing where nothing is."""
    alpha = np.where(parts > 0, 90 + np.round(150 * parts), 0).astype(np.int64)
    paint_pixels(painter, rect, _argb("thread", alpha)[None, :])


def _paint_bars(painter: QPainter, rect: QRect, heights: npt.NDArray[np.int64],
                colours: npt.NDArray[np.uint32]) -> None:
    """Columns of these heights, in pixels from below."""
    rows = rect.height() - np.arange(rect.height())[:, None]
    paint_pixels(painter, rect, np.where(rows <= heights[None, :], colours[None, :], 0).astype(
        np.uint32))


def paint_texture(painter: QPainter, rect: QRect, cells: npt.NDArray[np.uint8]) -> None:
    """Thin where the medium is blank, tall where it is dense; JPEG data in the thread's tone."""
    heights, colours = np.zeros(256, np.int64), np.zeros(256, np.uint32)
    for texture, (part, alpha) in TEXTURES.items():
        heights[texture] = max(1, round(part * rect.height()))
        colours[texture] = _argb("ink", alpha)
    heights[Texture.JPEG], colours[Texture.JPEG] = rect.height(), _argb("thread", 150)
    _paint_bars(painter, rect, heights[cells], colours[cells])


def paint_volumes(painter: QPainter, rect: QRect, lane: VolumesLane, view: tuple[int, int],
                  names: Callable[[VolumeSeen], str]) -> None:
    """A box for each volume with its name inside, where there is room for it."""
    scale = rect.width() / max(1, view[1] - view[0])
    painter.setFont(look.font(11))
    for volume in lane.volumes:
        left = max(float(rect.left()), rect.left() + (volume.start - view[0]) * scale)
        right = min(rect.right() + 1.0,
                    rect.left() + (volume.start + volume.size - view[0]) * scale)
        if right <= rect.left() or left > rect.right():
            continue
        box = QRectF(left, rect.top(), max(3.0, right - left), rect.height())
        dashed = volume.state in ("lost", "locked")
        painter.setPen(QPen(look.colour("muted"), 1,
                            Qt.PenStyle.DashLine if dashed else Qt.PenStyle.SolidLine))
        painter.setBrush(look.colour("panel"))
        painter.drawRect(box.adjusted(0.5, 0.5, -0.5, -0.5))
        text = painter.fontMetrics().elidedText(
            names(volume), Qt.TextElideMode.ElideRight, max(0, round(box.width()) - 12))
        if len(text) > 2:
            painter.setPen(look.colour("ink"))
            painter.drawText(box.adjusted(6, -1, -6, 1), Qt.AlignmentFlag.AlignVCenter, text)


def paint_in_use(painter: QPainter, rect: QRect, shares: npt.NDArray[np.float64]) -> None:
    """As tall as the share in use; a flat line where nothing is, none where nobody knows."""
    levels = np.ceil(shares * rect.height()).astype(np.int64)
    heights = np.where(shares < 0, 0, np.maximum(levels, 1))
    _paint_bars(painter, rect, heights, _argb("ink", np.where(levels > 0, 120, 60)))


def covered(starts: npt.NDArray[np.int64], lengths: npt.NDArray[np.int64],
            view: tuple[int, int], columns: int) -> npt.NDArray[np.float64]:
    """float64[columns]: part of each column of `view` (bytes) that spans cover, 0.0 to 1.0."""
    width = max(1, columns)
    scale = width / max(1, view[1] - view[0])
    first = np.clip((starts - view[0]) * scale, 0, width)
    last = np.clip((starts + lengths - view[0]) * scale, 0, width)
    seen = (last > 0) & (first < width)
    first, last = first[seen], np.maximum(last[seen], first[seen] + 0.35)
    low = np.floor(first).astype(np.int64)
    high = np.minimum(np.floor(last).astype(np.int64), width)
    same = low == high
    room = width + 2
    cover = np.zeros(room)
    cover += np.bincount(low[same], (last - first)[same], room)
    a, b, x0, x1 = low[~same], high[~same], first[~same], last[~same]
    cover += np.bincount(a, a + 1 - x0, room) + np.bincount(b, x1 - b, room)
    inner = np.bincount(a + 1, minlength=room)[:room] - np.bincount(b, minlength=room)[:room]
    cover += np.cumsum(inner)
    return np.minimum(cover[:width], 1.0)
