"""A tile of neutral grey, coded as the tiles beside it are, for one that is missing."""

from __future__ import annotations

import io
from dataclasses import dataclass

from PIL import Image

from needlewright.core.mending.base import Unmendable
from needlewright.core.mending.heif.items import CODINGS, model_of
from needlewright.core.sources.memory import MemorySource

GREY = 0x80
CHROMA_AT, DEPTH_AT = 16, 17  # in the decoder's configuration (14496-15, 8.3.3.1)
CHROMA = {0: 400, 1: 420, 2: 422, 3: 444}
CHROMA_BITS, DEEP = 0x1C, 0x60  # in that of AV1 (AV1 in ISO Base Media File Format, 2.3.3)
SAMPLINGS = {0x0C: "4:2:0", 0x08: "4:2:2", 0: "4:4:4", 0x1C: "4:0:0"}
MOST_SIDE = 8192


@dataclass(frozen=True, slots=True)
class Neutral:
    """The tile, and what a decoder is told of it."""

    configuration: bytes
    data: bytes


def neutral(size: tuple[int, int], configuration: bytes, is_av1: bool) -> Neutral:
    """A tile of `size` pixels as `configuration` says that others are. Raises Unmendable."""
    if is_av1:
        return _as_av1(size, configuration)
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
    made = _first_of(out.getvalue())
    if made.configuration[DEPTH_AT] & 7 != configuration[DEPTH_AT] & 7:
        raise Unmendable("coding-unknown")
    return made


def _as_av1(size: tuple[int, int], configuration: bytes) -> Neutral:
    if len(configuration) < 4 or not 0 < min(size) <= max(size) <= MOST_SIDE:
        raise Unmendable("index-unusual")
    sampling = SAMPLINGS.get(configuration[2] & CHROMA_BITS)
    if sampling is None or configuration[2] & DEEP:
        raise Unmendable("coding-unknown")
    out = io.BytesIO()
    Image.new("RGB", size, (GREY,) * 3).save(out, "AVIF", quality=95, subsampling=sampling)
    return _first_of(out.getvalue())


def _first_of(data: bytes) -> Neutral:
    """The first coded picture of a file."""
    model = model_of(MemorySource(data))
    item = next(n for n in model.in_line() if model.kinds[n] in CODINGS)
    start, stop = model.spans[item][0]
    return Neutral(model.configuration(item), model.view.take(start, stop - start))
