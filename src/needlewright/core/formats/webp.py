"""WebP files (RFC 9649): a RIFF container with VP8, VP8L or extended VP8X content.

Little-endian. The coded data carries no checksum; an independent decoder has to read it.
"""

from __future__ import annotations

from needlewright.core.errors import FormatError
from needlewright.core.formats.base import Format, Signature
from needlewright.core.formats.exif import Exif, read_exif
from needlewright.core.formats.registry import register
from needlewright.core.sources.source import Source
from needlewright.core.structures.riff import Chunk, chunks
from needlewright.core.structures.sector_checks import payload_check
from needlewright.core.structures.view import (
    Parts,
    View,
    dimensions,
    end_mark,
    finish,
    structure,
)
from needlewright.core.walks import Facts, Kind, Walk

KNOWN = (b"VP8 ", b"VP8L", b"VP8X", b"ALPH", b"ANIM", b"ANMF", b"ICCP", b"EXIF", b"XMP ")
CODED = (b"VP8 ", b"VP8L", b"ALPH", b"ANMF")
MAX_EXIF = 1 << 20


def _size(view: View, chunk: Chunk) -> tuple[int, int] | None:
    """The picture size that an image chunk states (RFC 9649 2.5-2.7)."""
    if chunk.name == b"VP8X":
        return view.little(chunk.body + 4, 3) + 1, view.little(chunk.body + 7, 3) + 1
    if chunk.name == b"VP8L":
        if view.take(chunk.body, 1) != b"\x2f":
            raise FormatError("no-picture-in-place", offset=chunk.body)
        bits = view.little(chunk.body + 1, 4)
        return (bits & 0x3FFF) + 1, (bits >> 14 & 0x3FFF) + 1
    if chunk.name == b"VP8 ":
        if view.take(chunk.body + 3, 3) != b"\x9d\x01\x2a":
            raise FormatError("no-picture-in-place", offset=chunk.body)
        return view.little(chunk.body + 6, 2) & 0x3FFF, view.little(chunk.body + 8, 2) & 0x3FFF
    return None


def walk(source: Source, start: int, stop: int) -> Walk:
    """Follow the WebP at `start`, never past `stop`; FormatError if no picture begins there."""
    view, parts = View(source, start, stop), Parts()
    stated = start + 8 + view.little(start + 4, 4)
    size: tuple[int, int] | None = None
    exif, pictures = Exif(), 0
    coded: list[tuple[int, int]] = []
    dense: list[tuple[int, int]] = []
    problem: FormatError | None = None
    at = sure = start + 12
    try:
        for chunk in chunks(view, at, stated):
            sure = chunk.start  # a chunk's size is right where the next one follows it
            if chunk.name not in KNOWN and not pictures:
                raise FormatError("unknown-chunk-before-picture", offset=chunk.start)
            size = size or _size(view, chunk)
            pictures += chunk.name in (b"VP8 ", b"VP8L", b"ANMF")
            if chunk.name == b"EXIF" and chunk.stop - chunk.body <= MAX_EXIF:
                block = view.peek(chunk.body, chunk.stop - chunk.body)
                exif = read_exif(block.removeprefix(b"Exif\0\0"))
            if chunk.name in CODED:
                coded.append((chunk.body, min(chunk.stop, view.stop)))
            if chunk.name == b"VP8 ":  # what else is coded may hold long runs of one value
                dense.append((chunk.body, min(chunk.stop, view.stop)))
            parts.add(chunk.name.decode("ascii").strip(), chunk.start, min(chunk.next, view.stop))
            at = min(chunk.next, stated, view.stop)
        if not pictures:
            raise FormatError("no-picture-data", offset=at)
    except FormatError as error:
        problem = error
    if size is None:
        raise problem or FormatError("no-picture", offset=start)
    end = stated if problem is None else max(at, problem.offset)
    facts = Facts(*size, exif.taken, exif.camera, exif.orientation, None, dict(exif.extra))
    return finish(
        start, end, problem, facts, parts,
        (structure(problem, start, len(parts)), end_mark(problem is None, counted=True),
         dimensions(*size), *([payload_check(view, dense)] if problem is None else [])),
        share=(end - start) / max(1, stated - start),
        verified=None if problem is None else max(sure, start + 30), opaque=coded,
        unproven="coding-silent")


register(Format(
    name="webp", kind=Kind.PHOTO, extension="webp",
    signatures=(Signature(b"RIFF\0\0\0\0WEBPVP8", 0, b"\xff" * 4 + bytes(4) + b"\xff" * 7),),
    accept=lambda head: head[:4] == b"RIFF" and head[8:15] == b"WEBPVP8", walk=walk,
    decoder="WEBP",
    joined="around",
))
