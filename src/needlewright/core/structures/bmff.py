"""ISO base media boxes (ISO/IEC 14496-12:2022, 4.2) and QuickTime atoms, which they came from.

Big-endian; a box's size counts its own header; size 1 means a 64-bit size follows, size 0 that the
box reaches to the end of the file.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from needlewright.core.errors import FormatError
from needlewright.core.structures.view import View

MAX_BOXES = 500_000
MAX_TABLE_BYTES = 1 << 25  # of one sample table; a day of film stays below
LETTERS = frozenset(b"abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789 -_.\xa9")
PRIVATE = frozenset(b"abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789")
MAX_PRIVATE = 1 << 24  # bytes of a box that only its maker knows
TOP_LEVEL = frozenset((
    b"ftyp", b"styp", b"moov", b"moof", b"mdat", b"free", b"skip", b"wide", b"uuid", b"meta",
    b"mfra", b"sidx", b"ssix", b"prft", b"emsg", b"pdin", b"pnot", b"PICT", b"udta", b"junk",
    b"mpvd", b"sefd", b"thum", b"beam", b"JXL ", b"jxlc", b"jxlp", b"jxll", b"jxli", b"jbrd",
    b"Exif", b"xml ", b"brob", b"etyp", b"cdsc", b"imda"))


@dataclass(frozen=True, slots=True)
class Box:
    """One box: header at `start`, content from `body` to `stop`. `open_ended`: its size was 0."""

    name: bytes
    start: int
    body: int
    stop: int
    open_ended: bool = False

    @property
    def size(self) -> int:
        return self.stop - self.start


def read_box(view: View, at: int) -> Box:
    """The box at `at`; its end may lie past the view. FormatError if no box stands there."""
    head = view.take(at, 8)
    size, name = int.from_bytes(head[:4], "big"), head[4:]
    if not LETTERS.issuperset(name):
        raise FormatError("no-box", offset=at)
    if size == 1:
        size, body = view.big(at + 8, 8), at + 16
    elif size == 0:
        return Box(name, at, at + 8, view.stop, True)
    else:
        body = at + 8
    if size < body - at:
        raise FormatError("box-too-short", offset=at)
    return Box(name, at, body, at + size)


def children(view: View, start: int, stop: int) -> Iterator[Box]:
    """The boxes from `start` to `stop`; FormatError at the first that does not fit there."""
    at = start
    for _ in range(MAX_BOXES):
        if at + 8 > stop:
            return  # four zero bytes may end a QuickTime list
        if view.peek(at, 4) == bytes(4) and stop - at <= 8:
            return
        box = read_box(view, at)
        if box.stop > stop or box.open_ended:
            raise FormatError("box-past-outer", offset=at)
        yield box
        at = box.stop
    raise FormatError("too-many-boxes", offset=at)


def child(view: View, start: int, stop: int, *path: bytes) -> Box | None:
    """The first box at `path`, or None; damage before it counts as its absence."""
    found: Box | None = None
    for name in path:
        found = None
        try:
            for box in children(view, start, stop):
                if box.name == name:
                    found = box
                    break
        except FormatError:
            return None
        if found is None:
            return None
        start, stop = found.body, found.stop
        if name == b"meta" and view.peek(start + 4, 4) != b"hdlr":
            start += 4  # a full box in ISO files, a plain one in QuickTime
    return found


def top_level(view: View, at: int) -> Iterator[Box]:
    """The boxes of a file one after another, as long as known ones follow.

    Ends quietly where something else begins; a box that reaches past the view is yielded, and is
    the last.
    """
    for _ in range(MAX_BOXES):
        if at + 8 > view.stop:
            return
        try:
            box = read_box(view, at)
        except FormatError:
            return
        if box.name not in TOP_LEVEL and not _private(view, box):
            return
        yield box
        if box.open_ended or box.stop > view.stop:
            return
        at = box.stop


def _private(view: View, box: Box) -> bool:
    """Whether a box of an unknown name is a maker's own: small, inside, and not at a sector
    boundary, where whatever lies there next begins."""
    at_sector = (box.start - view.start) % view.source.sector_size == 0
    plain = all(c in PRIVATE for c in box.name)
    return plain and not at_sector and not box.open_ended and (
        8 <= box.size <= MAX_PRIVATE and box.stop <= view.stop)


def brands(view: View, box: Box) -> tuple[bytes, ...]:
    """Major and compatible brands of a `ftyp` box."""
    raw = view.take(box.body, min(box.stop - box.body, 512))
    return (raw[:4], *(raw[i : i + 4] for i in range(8, len(raw) - 3, 4)))
