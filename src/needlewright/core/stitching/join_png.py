"""PNG: by the places of its chunks where those tell, else by what its rows inflate to."""

from __future__ import annotations

import struct
from dataclasses import replace

import numpy as np

from needlewright.core.codes import Reason, SeamWord
from needlewright.core.formats.png import DEPTHS, SAMPLES
from needlewright.core.kernels.texture import Texture
from needlewright.core.stitching.base import Bench, Broken, Joined, Joiner, register
from needlewright.core.stitching.chained.structured import join_structured
from needlewright.core.stitching.chained.structured_hand import structured_by_hand
from needlewright.core.stitching.hand import Hand
from needlewright.core.stitching.line_hand import LineHand
from needlewright.core.stitching.pictures.png_line import MAGIC, PngLine, State
from needlewright.core.stitching.solver import Solver, textures

LIKE = textures(*Texture)
HEADER = struct.Struct(">8x8xIIBBBBB")
MAX_INFLATED = 8 << 30  # bytes of a picture


def _begun(broken: Broken, bench: Bench) -> tuple[PngLine, int, State, int | None] | None:
    """(line, first cluster, how it stands behind it, end); None where no picture begins there whose
    rows follow one another."""
    pool = bench.pool
    first = pool.number(broken.start)
    if pool.start(first) != broken.start or not 0 <= first < pool.count:
        return None
    raw = pool.read(np.array([first]))[0]
    head = raw[: HEADER.size].tobytes()
    if len(head) < HEADER.size or not head.startswith(MAGIC):
        return None
    width, height, depth, colour, _, _, interlaced = HEADER.unpack(head)
    if depth not in DEPTHS.get(colour, ()) or interlaced or not width or not height:
        return None
    row = 1 + -(-width * SAMPLES[colour] * depth // 8)
    if row * height > MAX_INFLATED:
        return None
    line = PngLine(row, height)
    step = line.take(line.begin(), raw)
    return None if step.refused else (line, first, step.state, step.end)


def _join(broken: Broken, bench: Bench) -> Joined | None:
    joined = join_structured(broken, bench)
    if joined is not None and joined.ended:
        return joined
    begun = _begun(broken, bench)
    if begun is None:
        return joined
    line, first, state, end = begun
    by_rows = Solver(line, bench, LIKE).solve([first], state, end)
    if by_rows is None or not by_rows.ended:
        return joined or by_rows
    # Every byte of it stands under a checksum that is right.
    size = sum(length for _, length in by_rows.extents)
    return replace(by_rows, seams=tuple(
        replace(seam, word=SeamWord.PROVEN, reasons=(
            *seam.reasons, Reason("checksum", {"bytes": size - seam.at})))
        for seam in by_rows.seams))


def _by_hand(broken: Broken, bench: Bench) -> Hand | None:
    begun = _begun(broken, bench)
    if begun is None:
        return structured_by_hand(broken, bench)
    line, first, state, end = begun
    return LineHand(line, bench, LIKE, (first,), state, end, by_rows=True)


register(Joiner("png", frozenset(("png",)), _join, by_hand=_by_hand))
