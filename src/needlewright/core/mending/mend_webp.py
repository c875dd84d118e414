"""WebP whose container is damaged: a new one around the coded picture, which says how large it is
(RFC 9649, 2.3 to 2.7). What is coded carries no places at which it could be taken up again.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator

from needlewright.core.mending.base import Change, Mended, Mender, Patient, Unmendable
from needlewright.core.mending.registry import register
from needlewright.core.mending.streams.pieces import Piece, writing

LOOK_BYTES = 1 << 16
KEY_FRAME = b"\x9d\x01\x2a"  # of VP8 (RFC 6386, 9.1), behind three bytes
LOSSLESS = b"\x2f"
HEAD = 12
# Data that was cut off opens nowhere. Where it opens, bytes were lost inside of it, and all behind
# them is wrong: half of it at the average.
HALF = 0.5


def mend(patient: Patient) -> Iterator[Mended]:
    source = patient.source
    head = source.read_at(0, min(LOOK_BYTES, source.size))
    extended = head.find(b"VP8X")
    found = None
    for name in (b"VP8 ", b"VP8L"):
        at = head.find(name)
        if at >= 0 and _is_coded(head, name, at + 8) and (found is None or at < found[1]):
            found = name, at
    if found is None:
        raise Unmendable("nothing-decodes")
    name, at = found
    length = int.from_bytes(head[at + 4 : at + 8], "little")
    room = source.size - at - 8
    cut = length > room
    changes: list[Change] = []
    begin = extended if 0 <= extended < at and extended + 18 <= len(head) else at
    if length > room:
        length = room
        changes.append(Change("sizes-corrected", {"count": 1}))
    stop = at + 8 + length + (length & 1)
    last = max(stop, source.size) if begin != at else stop  # EXIF and more follow
    pad = b"\0" * max(0, last - source.size)
    size = 4 + last - begin
    made = b"RIFF" + struct.pack("<I", size) + b"WEBP"
    pieces: list[Piece] = [made, (begin, at + 4), struct.pack("<I", length),
                           (at + 8, min(last, source.size)), pad]
    if head[:HEAD] != made or begin != HEAD:
        changes.insert(0, Change("header-made"))
    if not changes:
        raise Unmendable("nothing-found")
    yield Mended(writing(source, pieces), "webp", tuple(changes),
                 HALF if cut else 1.0, ("loss-inside",) if cut else (), share_before=0.0)


def _is_coded(head: bytes, name: bytes, at: int) -> bool:
    """Whether a coded picture begins at `at`, as its chunk `name` must."""
    if name == b"VP8 ":
        return head[at + 3 : at + 6] == KEY_FRAME
    return head[at : at + 1] == LOSSLESS


register(Mender("webp", frozenset(("webp",)), mend))
