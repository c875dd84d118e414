"""AIFF whose sizes were never written, or that is cut off: sizes from what is there (Audio
Interchange File Format 1.3; AIFF-C draft of 1991).
"""

from __future__ import annotations

import struct
from collections.abc import Iterator

from needlewright.core.mending.base import Change, Mended, Mender, Patient, Unmendable
from needlewright.core.mending.registry import register
from needlewright.core.mending.streams.pieces import writing

HEAD_BYTES = 1 << 16
LIMIT = (1 << 31) - 64


def mend(patient: Patient) -> Iterator[Mended]:
    source = patient.source
    head = source.read_at(0, min(HEAD_BYTES, source.size))
    common, data = head.find(b"COMM"), head.find(b"SSND")
    if common < 0 or data < 0 or len(head) < max(common + 26, data + 16):
        raise Unmendable("reference-missing")
    size = int.from_bytes(head[common + 4 : common + 8], "big")
    body = bytearray(head[common + 8 : common + 8 + size])
    if not 18 <= size <= 1024 or len(body) != size:
        raise Unmendable("size-unknown")
    channels, _, bits = struct.unpack_from(">HIH", body)
    align = channels * -(-bits // 8)
    linear = head[8:12] != b"AIFC" or bytes(body[18:22]) in (b"NONE", b"twos", b"sowt")
    if not align or not linear:
        raise Unmendable("size-unknown")
    start = data + 16
    stated = int.from_bytes(head[data + 4 : data + 8], "big") - 8
    stop = start + stated if 0 < stated <= source.size - start else source.size
    length = (stop - start) // align * align
    if length <= 0:
        raise Unmendable("samples-none")
    if length > LIMIT:
        raise Unmendable("too-large")
    struct.pack_into(">I", body, 2, length // align)
    kind = head[8:12] if head[8:12] in (b"AIFF", b"AIFC") else b"AIFF"
    chunk = b"COMM" + struct.pack(">I", size) + bytes(body) + bytes(size & 1)
    form = b"FORM" + struct.pack(
        ">I", 4 + len(chunk) + 16 + length + (length & 1)) + kind
    sound = b"SSND" + struct.pack(">III", length + 8, 0, 0)
    changes = [Change("sizes-corrected", {"count": 3})]
    share = min(1.0, length / stated) if stated > 0 else 1.0
    if share < 1:
        changes.append(Change("rest-cut-off", {"share": round(1 - share, 4)}))
    yield Mended(writing(source, [form + chunk + sound, (start, start + length),
                                  bytes(length & 1)]), "aif",
                 tuple(changes), share, ("unproven",) if share < 1 else ())


register(Mender("aiff", frozenset(("aiff", "aif")), mend))
