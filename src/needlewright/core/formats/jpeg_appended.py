"""Clips and trailers that phones append to a JPEG behind its end mark.

Motion photos carry a whole MP4; its XMP says so. Some phones close their files with a block of
tagged data of their own, which ends with a fixed mark.
"""

from __future__ import annotations

from needlewright.core.errors import FormatError
from needlewright.core.formats.mp4 import walk as walk_clip
from needlewright.core.sources.source import Source
from needlewright.core.walks import Part

LOOK_BYTES = 4096
CLIP_TAG = b"MotionPhoto_Data"
BLOCK_OPENS, BLOCK_CLOSES = b"SEFH", b"SEFT"


def appended_clip(source: Source, at: int, stop: int, announced: bool) -> list[Part]:
    """The parts that stand at `at`, the end of a picture; empty where none do.

    `announced`: the headers speak of a clip. Without that, what begins exactly at a sector is taken
    for a file of its own.
    """
    parts: list[Part] = []
    if not announced and at % source.sector_size == 0:
        return parts
    head = source.read_at(at, min(LOOK_BYTES, max(0, stop - at)))
    tagged = head.find(CLIP_TAG)
    clip_at = at + tagged + len(CLIP_TAG) if 0 <= tagged < 256 else at
    if head[clip_at - at + 4 : clip_at - at + 8] == b"ftyp":
        try:
            walk = walk_clip(source, clip_at, stop)
        except FormatError:
            return parts
        if walk.broken is not None:
            return parts
        parts.append(Part("appended clip", at, walk.stop))
        at = walk.stop
        head = source.read_at(at, min(LOOK_BYTES, max(0, stop - at)))
    opens = head.find(BLOCK_OPENS)
    closes = head.find(BLOCK_CLOSES, opens) if opens >= 0 else -1
    if closes >= 0:
        parts.append(Part("phone's own data", at, at + closes + 4))
    return parts
