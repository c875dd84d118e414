"""HEIC and AVIF whose file type box is lost: made anew, exactly as long, so that every place that
the index tells stays right (ISO/IEC 23008-12, 10; ISO/IEC 14496-12, 4.3; AV1 Image File Format).

Without the index nothing says where the tiles lie and how they are coded.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator

from needlewright.core.mending.base import Change, Mended, Mender, Patient, Unmendable
from needlewright.core.mending.registry import register
from needlewright.core.mending.streams.pieces import writing

LOOK_BYTES = 1 << 17
LEAST = 16  # bytes of a file type box
MOST = 4096  # bytes in front of an index that may be made anew
CODED = ((b"hvcC", b"heic", "heic"), (b"av1C", b"avif", "avif"))


def mend(patient: Patient) -> Iterator[Mended]:
    source = patient.source
    head = source.read_at(0, min(LOOK_BYTES, source.size))
    at = head.find(b"meta") - 4
    if not LEAST <= at <= MOST or at % 4:
        raise Unmendable("index-lost")
    size = int.from_bytes(head[at : at + 4], "big")
    if not 16 <= size <= source.size - at or b"iloc" not in head[at : at + size]:
        raise Unmendable("index-lost")
    coded = next((c for c in CODED if c[0] in head[at : at + size]), None)
    if coded is None:
        raise Unmendable("coding-unknown")
    _, brand, extension = coded
    brands = [b"mif1", brand, b"miaf"]
    room = (at - LEAST) // 4
    listed = b"".join((brands * (room // len(brands) + 1))[:room])
    made = struct.pack(">I4s4sI", at, b"ftyp", brand, 0) + listed
    if head[:8] == made[:8] and head[8:12] in (brand, b"mif1"):
        raise Unmendable("nothing-found")
    yield Mended(writing(source, [made, (at, source.size)]), extension, (Change("header-made"),))


register(Mender("heif", frozenset(("heif", "heic", "avif")), mend))
