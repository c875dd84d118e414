"""EXIF metadata: a TIFF structure inside a JPEG APP1 or a PNG eXIf chunk.

Sources: TIFF 6.0 section 2, Exif 2.32 sections 4.5-4.6. Either byte order. Only the facts shown to
the user are read; maker notes are not.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass, field

MAX_IFDS = 16  # chains longer than this, and chains that loop, end here
MAX_ENTRIES = 1024
MAX_TEXT = 256

TYPE_BYTES = {1: 1, 2: 1, 3: 2, 4: 4, 5: 8, 7: 1, 9: 4, 10: 8}


@dataclass(slots=True)
class Exif:
    """Facts in an EXIF block; `thumbnail` is (offset in the TIFF block, length), bytes; `pixels`:
    width and height as the camera stated them, before any turning; 0 where it did not."""

    make: str = ""
    model: str = ""
    taken: str | None = None
    orientation: int = 1
    thumbnail: tuple[int, int] | None = None
    pixels: tuple[int, int] = (0, 0)
    extra: dict[str, str] = field(default_factory=dict)

    @property
    def camera(self) -> str | None:
        if self.make and self.model.startswith(self.make):
            return self.model
        return f"{self.make} {self.model}".strip() or None


class _Tiff:
    """Bounds-checked reads in one TIFF block; what lies outside reads as absent."""

    def __init__(self, block: bytes) -> None:
        self.block = block
        self.order = {b"II*\0": "<", b"MM\0*": ">"}.get(block[:4], "")

    def number(self, offset: int, size: int) -> int | None:
        if offset < 0 or offset + size > len(self.block):
            return None
        code = {1: "B", 2: "H", 4: "I"}[size]
        return int(struct.unpack_from(self.order + code, self.block, offset)[0])

    def entries(self, ifd: int) -> Iterator[tuple[int, int, int, int]]:
        """(tag, type, count, offset of the value) of each entry that lies inside the block."""
        count = self.number(ifd, 2)
        for index in range(min(count or 0, MAX_ENTRIES)):
            at = ifd + 2 + 12 * index
            if at + 12 > len(self.block):
                return
            tag, kind, number = struct.unpack_from(self.order + "HHI", self.block, at)
            size = TYPE_BYTES.get(kind, 0) * number
            where = at + 8 if size <= 4 else self.number(at + 8, 4)
            if where is not None and size and where + size <= len(self.block):
                yield tag, kind, number, where

    def value(self, kind: int, count: int, where: int) -> int | None:
        size = {3: 2, 4: 4, 1: 1}.get(kind)
        return None if size is None or count < 1 else self.number(where, size)

    def text(self, count: int, where: int) -> str:
        raw = self.block[where : where + min(count, MAX_TEXT)].split(b"\0")[0]
        return raw.decode("utf-8", "replace").strip()

    def ratio(self, where: int) -> float | None:
        top, bottom = self.number(where, 4), self.number(where + 4, 4)
        return None if top is None or not bottom else top / bottom


def read_exif(block: bytes) -> Exif:
    """The facts in a TIFF `block` (from its byte-order mark on); empty where it is damaged."""
    exif = Exif()
    tiff = _Tiff(block)
    if not tiff.order:
        return exif
    seen: set[int] = set()
    ifd = tiff.number(4, 4)
    for index in range(MAX_IFDS):
        if not ifd or ifd in seen:
            break
        seen.add(ifd)
        _read_ifd(tiff, ifd, exif, first=index == 0, seen=seen)
        count = tiff.number(ifd, 2) or 0
        ifd = tiff.number(ifd + 2 + 12 * count, 4)
    return exif


def _read_ifd(tiff: _Tiff, ifd: int, exif: Exif, first: bool, seen: set[int]) -> None:
    thumb_at = thumb_size = None
    for tag, kind, count, where in tiff.entries(ifd):
        if tag == 0x0201:
            thumb_at = tiff.value(kind, count, where)
        elif tag == 0x0202:
            thumb_size = tiff.value(kind, count, where)
        elif not first:
            continue
        elif tag == 0x010F:
            exif.make = tiff.text(count, where)
        elif tag == 0x0110:
            exif.model = tiff.text(count, where)
        elif tag == 0x0112:
            value = tiff.value(kind, count, where) or 1
            exif.orientation = value if 1 <= value <= 8 else 1
        elif tag == 0x8769:
            inner = tiff.value(kind, count, where)
            if inner and inner not in seen:
                seen.add(inner)
                _read_exposure(tiff, inner, exif)
    if thumb_at and thumb_size and thumb_at + thumb_size <= len(tiff.block):
        exif.thumbnail = (thumb_at, thumb_size)


def _read_exposure(tiff: _Tiff, ifd: int, exif: Exif) -> None:
    taken, zone, fraction = "", "", ""
    for tag, kind, count, where in tiff.entries(ifd):
        if tag == 0xA002:
            exif.pixels = tiff.value(kind, count, where) or 0, exif.pixels[1]
        elif tag == 0xA003:
            exif.pixels = exif.pixels[0], tiff.value(kind, count, where) or 0
        elif tag == 0x9003:
            taken = tiff.text(count, where)
        elif tag == 0x9011:
            zone = tiff.text(count, where)
        elif tag == 0x9291:
            fraction = tiff.text(count, where)
        elif tag == 0x829A and kind == 5:
            seconds = tiff.ratio(where)
            if seconds:
                exif.extra["exposure"] = f"1/{round(1 / seconds)} s" if seconds < 0.4 else (
                    f"{seconds:.1f} s")
        elif tag == 0x829D and kind == 5:
            stop = tiff.ratio(where)
            if stop:
                exif.extra["aperture"] = f"f/{stop:.1f}"
        elif tag == 0x8827:
            exif.extra["sensitivity"] = f"ISO {tiff.value(kind, count, where)}"
        elif tag == 0x920A and kind == 5:
            length = tiff.ratio(where)
            if length:
                exif.extra["focal length"] = f"{length:.0f} mm"
    exif.taken = rfc3339(taken, zone, fraction)


def rfc3339(text: str, zone: str = "", fraction: str = "") -> str | None:
    """'2031:05:12 05:58:12' as '2031-05-12T05:58:12' + zone where known; None if it is no date."""
    digits = text.replace(":", "").replace(" ", "").replace("-", "")
    if len(digits) != 14 or not digits.isdigit():
        return None
    year, month, day = digits[:4], digits[4:6], digits[6:8]
    hour, minute, second = digits[8:10], digits[10:12], digits[12:14]
    plausible = (
        int(year) > 0 and 1 <= int(month) <= 12 and 1 <= int(day) <= 31
        and int(hour) < 24 and int(minute) < 60 and int(second) <= 60
    )
    if not plausible:
        return None
    part = f".{fraction}" if fraction.isdigit() else ""
    known = zone if len(zone) == 6 and zone[0] in "+-" and zone[3] == ":" else ""
    return f"{year}-{month}-{day}T{hour}:{minute}:{second}{part}{known}"
