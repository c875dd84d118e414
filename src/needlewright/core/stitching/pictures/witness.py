"""A photo's embedded thumbnail as a witness: how bright each row of the picture must be.

The thumbnail (Exif 2.32, 4.5.4) is decoded no farther than the mean of each of its blocks, 8 pixels
square, which is enough: another photo's bytes are as bright as that one's rows, or off by the jump
at the seam.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from needlewright.core.errors import FormatError, SourceError
from needlewright.core.formats import jpeg_segments as seg
from needlewright.core.formats.jpeg_scans import can_decode, decode_scan, make_grids
from needlewright.core.kernels.jpeg_bits import scan_end
from needlewright.core.sources.memory import MemorySource
from needlewright.core.sources.source import Source

BLOCK = 8
MOST_BYTES, MOST_SIDE = 1 << 16, 640  # of a thumbnail
LEAST, USELESS = 8.0, 25.0  # grey levels by which own places usually differ: sharpening, texture
AT_FIRST = 10.0
TOLERATED = 2.0  # of the usual difference: agreeing is no evidence, own rows differ as much
STEEP, WORST = 1.5, -4.0  # nats for each usual difference more; of some blocks together
TOGETHER = 4.0  # blocks of a row count as no more: an edge along it is off in all of them
SLOWLY = 0.1  # how fast it is learnt how well the thumbnail agrees
SAME_SHAPE, FLAT = 0.02, 12.0  # of a side; grey levels of a bar
Cells = npt.NDArray[np.float32]


@dataclass(frozen=True, slots=True)
class Witness:
    """`levels` float32[rows, columns]: means of the blocks, grey levels around 0; the picture is
    what lies between the shares `left` to `right` and `top` to `bottom` of it."""

    levels: Cells
    left: float
    right: float
    top: float
    bottom: float

    def judge(self, row: float, low: float, edges: Cells, high: float,
              apart: float = AT_FIRST) -> tuple[float, float]:
        """(what speaks against a stretch of the picture, in nats, never above 0; how far the two
        usually are `apart` from now on, in grey levels). `row`: how far down it is, 0.0 to 1.0;
        `low`, `high`: where it lies across; `edges` float32[n]: its brightness from left to right.
        """
        rows, columns = self.levels.shape
        y = (self.top + row * (self.bottom - self.top)) * rows - 0.5
        above = min(rows - 1, max(0, int(y)))
        part = min(1.0, max(0.0, y - above))
        line = (1 - part) * self.levels[above] + part * self.levels[min(rows - 1, above + 1)]
        across = low + (np.arange(edges.size) + 0.5) / edges.size * (high - low)
        block = ((self.left + across * (self.right - self.left)) * columns).astype(np.int64)
        block = np.clip(block, 0, columns - 1)
        count = np.bincount(block, minlength=columns)
        seen = count > 0
        means = np.bincount(block, edges, columns)[seen] / count[seen]
        whole = edges.size / max(1e-6, (high - low) * columns * (self.right - self.left))
        weight = np.minimum(1.0, count[seen] / max(1.0, whole))  # some are hardly touched
        off = np.abs(means - line[seen])
        scale = max(LEAST, apart)
        mean = float((off * weight).sum() / weight.sum())
        learnt = apart + SLOWLY * (mean - apart)
        if scale >= USELESS:
            return 0.0, learnt
        nats = max(WORST, -STEEP * max(0.0, mean / scale - TOLERATED))
        return min(TOGETHER, float(weight.sum())) * nats, learnt


def _bars(levels: Cells, share: float) -> bool:
    """Whether what lies above and below the middle `share` of the rows is a bar of one colour;
    else the thumbnail has another shape than its picture."""
    outside = int((1 - share) / 2 * levels.shape[0])
    bars = np.concatenate((levels[:outside], levels[levels.shape[0] - outside :]))
    return outside == 0 or float(np.ptp(bars)) < FLAT


def witness_of(headers: seg.Headers, file: Source) -> Witness | None:
    """The thumbnail of a photo whose `headers` were read from `file`; None where it has none that
    can be relied upon."""
    exif, frame = headers.exif, headers.frame
    if exif is None or exif.thumbnail is None or frame is None or headers.edited:
        return None
    at, length = headers.exif_at + exif.thumbnail[0], exif.thumbnail[1]
    if not 0 < length <= MOST_BYTES:
        return None
    try:
        data = file.read_at(at, length)
        small, scan, begin = seg.read_headers(MemorySource(data))
        if small.frame is None or small.frame.marker not in seg.SEQUENTIAL or max(
                small.frame.width, small.frame.height) > MOST_SIDE or not can_decode(small, scan):
            return None
        grids = make_grids(small.frame)
        coded = np.frombuffer(data[begin:], np.uint8)
        done = decode_scan(small, scan, grids, coded[: scan_end(coded)])
    except (FormatError, SourceError):
        return None
    if not done.complete:
        return None
    quantiser = small.quantisers.get(small.frame.components[0].quantiser, (1, 1, 1))[0]
    wide, high = small.frame.width // BLOCK, small.frame.height // BLOCK
    levels = grids.component_dc(0)[:high, :wide].astype(np.float32) * (quantiser / BLOCK)
    if levels.size == 0:
        return None
    shape = frame.width / frame.height / (small.frame.width / small.frame.height)
    across = down = 1.0
    if shape > 1 + SAME_SHAPE and _bars(levels, 1 / shape):
        down = 1 / shape
    elif shape < 1 - SAME_SHAPE and _bars(levels.T, shape):
        across = shape
    return Witness(levels, (1 - across) / 2, (1 + across) / 2, (1 - down) / 2, (1 + down) / 2)
