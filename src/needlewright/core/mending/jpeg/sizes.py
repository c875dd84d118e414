"""The size of a picture whose stated one is wrong or lost: its rows continue each other at one
width only."""

from __future__ import annotations

import numpy as np

from needlewright.core.formats.jpeg_segments import Frame
from needlewright.core.kernels.jpeg_coefficients import Chain
from needlewright.core.kernels.jpeg_edges import mcu_edges
from needlewright.core.mending.jpeg.anatomy import Layout

MOST_MCUS = 2_000_000
SHAPES = (0.2, 5.0)  # width by height
CLEARLY = 0.85
LEAST = 64
SAMPLE = 4096  # MCUs whose rows are compared


def frame_for(frame: Frame, chain: Chain, layout: Layout,
              exif: tuple[int, int] = (0, 0)) -> Frame | None:
    """The frame of a picture all of whose MCUs are in `chain`, in the order of its data; None
    where the one that is stated is right, or no width is clearly better. `exif`: width and height
    that its Exif data states, which tell where within the last MCUs it ends."""
    if chain.size < LEAST:
        return None
    edges = mcu_edges(chain.coefficients, layout.coding.component, layout.dx, layout.dy,
                      layout.quantisers)
    wide, high = 8 * frame.max_horizontal, 8 * frame.max_vertical

    def cost(per_row: int) -> float:
        count = min(chain.size - per_row, SAMPLE)
        begin = (chain.size - per_row - count) // 2
        upper = edges.bottom[begin : begin + count]
        lower = edges.top[begin + per_row : begin + per_row + count]
        return float(np.minimum(np.abs(lower - upper).mean(axis=1), 40).mean())

    # Of data that lacks a part, too: what is left may be as much as a picture of other size has.
    stated = cost(layout.per_row) if layout.rows > 1 and chain.size > layout.per_row else 99.0
    fit = [n for n in range(2, chain.size // 2 + 1)
           if chain.size % n == 0 and SHAPES[0] <= n * wide / (chain.size / n * high) <= SHAPES[1]]
    if not fit:
        return None
    costs = {n: cost(n) for n in fit}
    best = min(fit, key=lambda n: (round(costs[n], 2), n))
    if best == layout.per_row and chain.size == layout.total:
        return None
    if best != layout.per_row and costs[best] > CLEARLY * stated:
        return None
    rest = [c for n, c in costs.items() if n % best and n != best]
    if rest and costs[best] > CLEARLY * min(rest):
        return None
    rows = chain.size // best
    width = frame.width if -(-frame.width // wide) == best else best * wide
    height = frame.height if -(-frame.height // high) == rows else rows * high
    if (-(-exif[0] // wide), -(-exif[1] // high)) == (best, rows):
        width, height = exif
    return Frame(frame.marker, frame.precision, width, height, frame.components)
