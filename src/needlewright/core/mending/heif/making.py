"""An index made from nothing but the pictures themselves: those of AV1 say of themselves all that
one must (AV1 Image File Format, 2 to 4; ISO/IEC 23008-12, 6).
"""

from __future__ import annotations

import struct

from needlewright.core.mending.base import Unmendable
from needlewright.core.mending.heif.av1 import Coded, described
from needlewright.core.mending.heif.writing import LONG, TURNS
from needlewright.core.structures.bmff_writing import box

FILE_TYPE = box(b"ftyp", b"avif", bytes(4), b"avifmif1miaf")
ALPHA = b"urn:mpeg:mpegB:cicp:systems:auxiliary:alpha\0"
Span = tuple[int, int]


def front(picture: Coded, veil: Coded | None, exif: Span | None, orientation: int,
          low: int, size: int) -> bytes:
    """All in front of `size` bytes of data that stood from byte `low` on: `picture`, how far it is
    transparent (`veil`), and its Exif data. `orientation`: as Exif says it."""
    if size >= 1 << 31:
        raise Unmendable("too-large")
    items: list[tuple[int, bytes, Span]] = [(1, b"av01", (picture.start, picture.stop))]
    said = described(picture.sequence)
    if TURNS.get(orientation):
        said.append((b"irot", bytes((TURNS[orientation],)), True))
    links = [(1, said)]
    refers = []
    if veil is not None:
        items.append((2, b"av01", (veil.start, veil.stop)))
        links.append((2, [*described(veil.sequence), (b"auxC", bytes(4) + ALPHA, True)]))
        refers.append(box(b"auxl", struct.pack(">HHH", 2, 1, 1)))
    if exif is not None:
        items.append((3, b"Exif", exif))
        refers.append(box(b"cdsc", struct.pack(">HHH", 3, 1, 1)))
    begin = 0
    for _ in range(2):  # how long it is does not depend on what it says
        places = b"".join(struct.pack(">HHHII", number, 0, 1, begin + start - low, stop - start)
                          for number, _, (start, stop) in items)
        names = b"".join(box(b"infe", struct.pack(">IHH4sB", 2 << 24, number, 0, kind, 0))
                         for number, kind, _ in items)
        meta = box(
            b"meta", bytes(4), box(b"hdlr", bytes(8), b"pict", bytes(13)),
            box(b"pitm", struct.pack(">IH", 0, 1)),
            box(b"iloc", struct.pack(">IHH", 0, 0x4400, len(items)), places),
            box(b"iinf", struct.pack(">IH", 0, len(items)), names),
            box(b"iref", bytes(4), *refers) if refers else b"", _said(links))
        begin = len(FILE_TYPE) + len(meta) + LONG
    return FILE_TYPE + meta + struct.pack(">I4s", LONG + size, b"mdat")


def _said(links: list[tuple[int, list[tuple[bytes, bytes, bool]]]]) -> bytes:
    """The properties of each item, and which they are (14496-12, 8.11.14)."""
    boxes, entries = [], []
    for item, said in links:
        numbers = []
        for name, content, needed in said:
            boxes.append(box(name, content))
            numbers.append(len(boxes) | needed << 7)
        entries.append(struct.pack(">HB", item, len(numbers)) + bytes(numbers))
    return box(b"iprp", box(b"ipco", *boxes),
               box(b"ipma", struct.pack(">II", 0, len(entries)), *entries))
