"""The embedded thumbnail as a guide: how bright and of what colour each part of the picture must
be.

Exif 2.32, 4.5.4. Decoded no farther than the mean of each of its blocks, by our own decoder.
Cameras sharpen thumbnails and change their tones a little: how they differ where the picture is
sure is learnt.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from needlewright.core.errors import FormatError
from needlewright.core.kernels.jpeg_bits import scan_end, unstuff
from needlewright.core.kernels.jpeg_coefficients import decode_chain
from needlewright.core.kernels.jpeg_edges import BASIS, ZIGZAG
from needlewright.core.mending.jpeg.anatomy import Head, Layout, layout_of, read_head
from needlewright.core.mending.jpeg.canvas import Canvas, Floats

MOST_SIDE, MOST_BYTES = 640, 1 << 16
SPREAD = 14.0  # grey levels by which parts that are sure may differ, beyond which it guides nobody
FLAT = 8.0  # grey levels of a bar
LEAST = 48  # MCUs that are compared


@dataclass(frozen=True, slots=True)
class Guide:
    """`levels` float32[components, rows, columns]: its pixels, grey levels around 0; `shape`:
    width by height."""

    levels: Floats
    shape: float

    def has_bars(self, layout: Layout) -> bool:
        """Whether the rows, or columns, outside of the picture's shape are of one colour."""
        rows, columns = self.levels.shape[1:]
        wide, high = int(layout.dx.max()) + 1, int(layout.dy.max()) + 1
        own = layout.per_row * wide / (layout.rows * high)
        across = int((1 - min(1.0, own / self.shape)) / 2 * columns)
        down = int((1 - min(1.0, self.shape / own)) / 2 * rows)
        cells = self.levels[0]
        bars = np.concatenate((cells[:down].ravel(), cells[rows - down :].ravel(),
                               cells[:, :across].ravel(), cells[:, columns - across :].ravel()))
        return bars.size > 0 and float(np.ptp(bars)) < FLAT

    def of(self, layout: Layout, bars: bool) -> Floats:
        """float32[components, MCUs]: what it says for each MCU of the picture. `bars`: cameras pad
        3:2 and 16:9 with bars to the shape of their thumbnails; else the picture is squeezed into
        it."""
        rows, columns = self.levels.shape[1:]
        wide, high = int(layout.dx.max()) + 1, int(layout.dy.max()) + 1
        own = layout.per_row * wide / (layout.rows * high)
        down = min(1.0, self.shape / own) if bars else 1.0
        along = min(1.0, own / self.shape) if bars else 1.0
        y = ((np.arange(layout.rows) + 0.5) / layout.rows * down + (1 - down) / 2) * rows - 0.5
        x = ((np.arange(layout.per_row) + 0.5) / layout.per_row * along + (1 - along) / 2
             ) * columns - 0.5
        top, left = np.clip(np.floor(y), 0, rows - 1), np.clip(np.floor(x), 0, columns - 1)
        below = np.clip(y - top, 0, 1)[None, :, None].astype(np.float32)
        across = np.clip(x - left, 0, 1)[None, None, :].astype(np.float32)
        r0, c0 = top.astype(int), left.astype(int)
        r1, c1 = np.minimum(r0 + 1, rows - 1), np.minimum(c0 + 1, columns - 1)
        cells = self.levels
        upper = cells[:, r0][:, :, c0] * (1 - across) + cells[:, r0][:, :, c1] * across
        lower = cells[:, r1][:, :, c0] * (1 - across) + cells[:, r1][:, :, c1] * across
        blended: Floats = (upper * (1 - below) + lower * below).reshape(cells.shape[0], -1)
        return blended


def guide_of(head: Head) -> Guide | None:
    """The thumbnail of the picture whose `head` was read; None where it has none that is of use."""
    exif = head.headers.exif
    if exif is None or exif.thumbnail is None or head.headers.edited:
        return None
    at = head.headers.exif_at + exif.thumbnail[0]
    data = head.data[at : at + min(exif.thumbnail[1], MOST_BYTES)]
    try:
        small = read_head(data)
        layout = layout_of(small)
    except FormatError:
        return None
    frame = small.frame
    if max(frame.width, frame.height) > MOST_SIDE or data[:2] != b"\xff\xd8" or layout.restart:
        return None
    raw = np.frombuffer(data, np.uint8)[small.begin :]
    clean = unstuff(raw[: scan_end(raw)], 2)
    chain = decode_chain(clean.clean, 0, clean.size * 8, layout.coding, layout.total, absolute=True)
    if chain.size < layout.total:
        return None
    planes = []
    for index in range(len(frame.components)):
        planes.append(_plane(chain.coefficients, layout, index, frame.width, frame.height))
    return Guide(np.stack(planes), frame.width / frame.height)


def _plane(coefficients: npt.NDArray[np.int16], layout: Layout, index: int, wide: int,
           high: int) -> Floats:
    """float32[high, wide] of the pixels of one component, grown to those of the thumbnail
    (A.3.3)."""
    blocks = np.flatnonzero(layout.coding.component == index)
    across, down = int(layout.dx[blocks].max()) + 1, int(layout.dy[blocks].max()) + 1
    cells = np.zeros((layout.rows * down * 8, layout.per_row * across * 8), np.float32)
    for block in blocks:
        plain = np.zeros((coefficients.shape[0], 64), np.float32)
        plain[:, ZIGZAG] = coefficients[:, block] * layout.quantisers[index]
        pixels = BASIS @ plain.reshape(-1, 8, 8) @ BASIS.T
        grid = pixels.reshape(layout.rows, layout.per_row, 8, 8)
        for row in range(8):
            for column in range(8):
                cells[int(layout.dy[block]) * 8 + row :: down * 8,
                      int(layout.dx[block]) * 8 + column :: across * 8] = grid[:, :, row, column]
    most_across = int(layout.dx.max()) + 1
    most_down = int(layout.dy.max()) + 1
    grown = cells.repeat(most_down // down, 0).repeat(most_across // across, 1)
    return grown[:high, :wide]


def means_of(canvas: Canvas) -> Floats:
    """float32[components, MCUs] of the picture so far."""
    layout = canvas.layout
    return np.stack([
        canvas.coefficients[:, layout.coding.component == c, 0].astype(np.float32).mean(axis=1)
        * layout.quantisers[c, 0] / 8 for c in range(layout.quantisers.shape[0])])


def apart(canvas: Canvas, guide: Guide) -> Floats | None:
    """float32[components, MCUs]: how much brighter the picture is than the guide says; None where
    they are not of one kind."""
    if guide.levels.shape[0] != canvas.layout.quantisers.shape[0] or not canvas.there.any():
        return None
    means = means_of(canvas)
    both = [means - guide.of(canvas.layout, bars) for bars in (False, True)]
    return min(both, key=lambda off: scatter(off[0][canvas.there]))


def scatter(off: Floats) -> float:
    """How far values lie from their median, usually."""
    return float(np.median(np.abs(off - np.median(off))))
