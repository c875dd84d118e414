"""A tile of neutral grey, coded as the tiles beside it are, for one that is missing."""

from __future__ import annotations

import io
from dataclasses import dataclass

from needlewright.core.mending.base import Unmendable
from needlewright.core.mending.heif.items import CODED, model_of
from needlewright.core.sources.memory import MemorySource

GREY = 0x80
CHROMA_AT, DEPTH_AT = 16, 17  # in the decoder's configuration (14496-15, 8.3.3.1)
CHROMA = {0: 400, 1: 420, 2: 422, 3: 444}
MOST_SIDE = 8192


@dataclass(frozen=True, slots=True)
class Neutral:
    """The tile, and what a decoder is told of it."""

    configuration: bytes
    data: bytes


def neutral(size: tuple[int, int], configuration: bytes) -> Neutral:
    """A tile of `size` pixels as `configuration` says that others are. Raises Unmendable."""
    if len(configuration) <= DEPTH_AT or not 0 < min(size) <= max(size) <= MOST_SIDE:
        raise Unmendable("index-unusual")
    depth, chroma = (configuration[DEPTH_AT] & 7) + 8, CHROMA[configuration[CHROMA_AT] & 3]
    if depth not in (8, 10):
        raise Unmendable("coding-unknown")
    import pillow_heif  # only where one is needed: it brings libraries of its own

    wide, high = size
    if depth == 8:
        picture = pillow_heif.from_bytes("RGB", size, bytes((GREY,)) * (3 * wide * high))
    else:
        picture = pillow_heif.from_bytes(
            "RGB;16", size, bytes((0, GREY)) * (3 * wide * high))
    out = io.BytesIO()
    picture.save(out, quality=60, chroma=chroma)
    model = model_of(MemorySource(out.getvalue()))
    item = next(n for n in model.in_line() if model.kinds[n] in CODED)
    start, stop = model.spans[item][0]
    told = next(b for b in model.said[item] if b.name == b"hvcC")
    made = Neutral(model.view.take(told.body, told.stop - told.body),
                   model.view.take(start, stop - start))
    if made.configuration[DEPTH_AT] & 7 != configuration[DEPTH_AT] & 7:
        raise Unmendable("coding-unknown")
    return made
