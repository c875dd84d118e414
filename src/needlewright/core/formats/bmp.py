"""BMP files (Windows bitmap: BITMAPFILEHEADER and BITMAPINFOHEADER to BITMAPV5HEADER, OS/2 1.x).

Little-endian. The pixels of an uncompressed picture carry nothing that could be checked but how
they continue each other, which `structures.sector_checks` looks at.
"""

from __future__ import annotations

import struct

from needlewright.core.errors import FormatError
from needlewright.core.formats.base import Format, Signature
from needlewright.core.formats.registry import register
from needlewright.core.sources.source import Source
from needlewright.core.structures.sector_checks import samples_check
from needlewright.core.structures.view import (
    MAX_PIXELS,
    Parts,
    View,
    dimensions,
    end_mark,
    finish,
    structure,
)
from needlewright.core.walks import Facts, Kind, Walk

HEADER_SIZES = (12, 40, 52, 56, 64, 108, 124)
DEPTHS = (1, 4, 8, 16, 24, 32)
PLAIN = (0, 3, 6)  # BI_RGB, BI_BITFIELDS, BI_ALPHABITFIELDS


def _header(view: View, at: int) -> tuple[int, int, int, int, int]:
    """(width, height, bits a pixel, compression, stated size of the pixels)."""
    size = view.little(at, 4)
    if size == 12:
        width, height, planes, depth = struct.unpack("<HHHH", view.take(at + 4, 8))
        compression = stated = 0
    elif size in HEADER_SIZES:
        width, height, planes, depth, compression, stated = struct.unpack(
            "<iiHHII", view.take(at + 4, 20))
    else:
        raise FormatError("header-makes-no-sense", offset=at)
    height = abs(height)
    plausible = width > 0 and height > 0 and width * height <= MAX_PIXELS
    if planes != 1 or depth not in DEPTHS or compression > 6 or not plausible:
        raise FormatError("header-makes-no-sense", offset=at)
    return width, height, depth, compression, stated


def walk(source: Source, start: int, stop: int) -> Walk:
    """Follow the BMP at `start`, never past `stop`; FormatError if no picture begins there."""
    view, parts = View(source, start, stop), Parts()
    file_size, _, pixels_at = struct.unpack("<III", view.take(start + 2, 12))
    width, height, depth, compression, stated = _header(view, start + 14)
    row_bytes = -(-width * depth // 32) * 4
    need = row_bytes * height if compression in PLAIN else stated
    header_end = 14 + view.little(start + 14, 4)
    if not header_end <= pixels_at <= header_end + (1 << 12) or need == 0:
        raise FormatError("pixels-without-place", offset=start + 10)
    size = pixels_at + need
    if size <= file_size <= size + 4096:
        size = file_size  # some writers pad, or append a colour profile
    elif file_size not in (0, size) and compression not in PLAIN:
        raise FormatError("stated-sizes-disagree", offset=start + 2)
    end, problem = start + size, None
    if end > view.stop:
        problem = FormatError("data-ends", offset=view.stop)
        end = view.stop
    parts.add("header", start, start + pixels_at)
    parts.add("pixels", start + pixels_at, end)
    checks = [structure(problem, start, len(parts)), end_mark(problem is None, counted=True),
              dimensions(width, height)]
    if compression in PLAIN and depth >= 8:
        checks.append(samples_check(
            view, start + pixels_at, min(start + pixels_at + need, end), row_bytes, depth // 8))
    share = max(0.0, (end - start - pixels_at) / need)
    return finish(start, end, problem, Facts(width, height), parts, checks, share=share,
                  verified=None if problem is None else start + pixels_at,
                  opaque=[(start + pixels_at, end)],
                  unproven="coding-silent" if compression in PLAIN else "")


def accept(head: bytes) -> bool:
    """'BM', reserved zeros and a header size that exists."""
    return (head[:2] == b"BM" and head[6:10] == bytes(4)
            and int.from_bytes(head[14:18], "little") in HEADER_SIZES)


register(Format(
    name="bmp", kind=Kind.PHOTO, extension="bmp",
    signatures=tuple(
        Signature(b"BM" + bytes(12) + bytes([size, 0, 0, 0]), 0,
                  b"\xff\xff" + bytes(4) + b"\xff" * 4 + bytes(4) + b"\xff" * 4, weak=True)
        for size in HEADER_SIZES),
    accept=accept, walk=walk, decoder="BMP",
    joined="around", object_formats={"bmp": 0x3804},
))
