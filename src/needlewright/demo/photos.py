"""Encodes the survey's pictures as a camera would: JPEG with EXIF and thumbnail, PNG charts."""

from __future__ import annotations

import io
import struct

from PIL import Image

MAKE, MODEL = "Brackenfield", "Brackenfield TC-4"
THUMBNAIL = (160, 120)


def _ascii(text: str) -> bytes:
    return text.encode("ascii") + b"\0"


class _Ifd:
    """Builds one little-endian IFD; values over four bytes go behind the table."""

    def __init__(self) -> None:
        self.entries: list[tuple[int, int, int, bytes]] = []

    def add(self, tag: int, kind: int, count: int, value: bytes) -> None:
        self.entries.append((tag, kind, count, value))

    def short(self, tag: int, value: int) -> None:
        self.add(tag, 3, 1, struct.pack("<H", value))

    def long(self, tag: int, value: int) -> None:
        self.add(tag, 4, 1, struct.pack("<I", value))

    def text(self, tag: int, value: str) -> None:
        self.add(tag, 2, len(value) + 1, _ascii(value))

    def ratio(self, tag: int, top: int, bottom: int) -> None:
        self.add(tag, 5, 1, struct.pack("<II", top, bottom))

    @property
    def size(self) -> int:
        far = sum(len(v) + len(v) % 2 for *_, v in self.entries if len(v) > 4)
        return 6 + 12 * len(self.entries) + far

    def pack(self, at: int, following: int = 0) -> bytes:
        """The bytes of the table placed at `at` in the TIFF block."""
        table, far = b"", b""
        start = at + 6 + 12 * len(self.entries)
        for tag, kind, count, value in sorted(self.entries):
            field = value.ljust(4, b"\0")
            if len(value) > 4:
                field = struct.pack("<I", start + len(far))
                far += value + b"\0" * (len(value) % 2)
            table += struct.pack("<HHI", tag, kind, count) + field
        return struct.pack("<H", len(self.entries)) + table + struct.pack("<I", following) + far


def exif_block(width: int, height: int, taken: str, thumbnail: bytes, exposure: int,
               orientation: int = 1) -> bytes:
    """An APP1 body (`Exif\\0\\0` + TIFF) with the usual tags and the thumbnail in IFD1."""
    main, inner, second = _Ifd(), _Ifd(), _Ifd()
    main.text(0x010F, MAKE)
    main.text(0x0110, MODEL)
    main.short(0x0112, orientation)
    main.text(0x0132, taken)
    main.long(0x8769, 0)
    inner.ratio(0x829A, 1, exposure)
    inner.ratio(0x829D, 28, 10)
    inner.short(0x8827, 100 + exposure % 7 * 100)
    inner.text(0x9003, taken)
    inner.text(0x9004, taken)
    inner.ratio(0x920A, 24, 1)
    inner.long(0xA002, width)
    inner.long(0xA003, height)
    second.short(0x0103, 6)
    second.long(0x0201, 0)
    second.long(0x0202, len(thumbnail))
    inner_at = 8 + main.size
    second_at = inner_at + inner.size
    thumb_at = second_at + second.size
    main.entries[-1] = (0x8769, 4, 1, struct.pack("<I", inner_at))
    second.entries[1] = (0x0201, 4, 1, struct.pack("<I", thumb_at))
    tiff = b"II*\0" + struct.pack("<I", 8) + main.pack(8, second_at) + inner.pack(inner_at)
    return b"Exif\0\0" + tiff + second.pack(second_at) + thumbnail


def encode_photo(image: Image.Image, taken: str, exposure: int, quality: int,
                 progressive: bool = False, restart_rows: int = 0) -> bytes:
    """A camera's JPEG of `image`: EXIF, thumbnail, then the picture."""
    small = io.BytesIO()
    size = THUMBNAIL if image.width >= image.height else THUMBNAIL[::-1]
    image.resize(size, Image.Resampling.BOX).save(small, "JPEG", quality=80)
    block = exif_block(image.width, image.height, taken, small.getvalue(), exposure)
    out = io.BytesIO()
    image.save(out, "JPEG", quality=quality, exif=block, progressive=progressive,
               subsampling="4:2:0" if exposure % 3 else "4:2:2",
               **({"restart_marker_rows": restart_rows} if restart_rows else {}))
    return out.getvalue()


def encode_chart(image: Image.Image) -> bytes:
    """A PNG of `image` with several IDAT chunks."""
    out = io.BytesIO()
    image.save(out, "PNG", compress_level=6)
    return out.getvalue()
