"""WAV whose sizes were never written, or whose header is lost: a new header from what the data is
(RIFF WAVE, Multimedia Programming Interface 1.0; EBU Tech 3306 for sizes beyond 4 GiB).
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from typing import BinaryIO

import numpy as np

from needlewright.core.mending.base import Change, Mended, Mender, Patient, Reference, Unmendable
from needlewright.core.mending.registry import register
from needlewright.core.mending.streams.pieces import copy
from needlewright.core.sources.source import Source

HEAD_BYTES = 1 << 16
LIMIT = (1 << 32) - 64
LEAST_BYTES = 64
SEEN_BYTES = 1 << 20
GOES_ON = 0.2  # the least correlation of samples that follow each other: that of noise is none


def mend(patient: Patient) -> Iterator[Mended]:
    source = patient.source
    head = source.read_at(0, min(HEAD_BYTES, source.size))
    form, start, reference, lost = _described(head, patient)
    align = struct.unpack_from("<H", form, 12)[0] or 1
    stop = _stop(source, head, start)
    length = (stop - start) // align * align
    if length < LEAST_BYTES:
        raise Unmendable("samples-none")
    if lost and reference is not None and not _is_sound(source.read_at(start, SEEN_BYTES), form):
        raise Unmendable("nothing-decodes")
    if length > LIMIT:
        raise Unmendable("too-large")
    changes = [Change("header-made")] if lost else [Change("sizes-corrected", {"count": 2})]
    if reference is not None:
        changes.append(Change("index-lent", {"reference": reference.name}))
    chunk = b"fmt " + struct.pack("<I", len(form)) + form + b"\0" * (len(form) & 1)
    pad = length & 1

    def write(out: BinaryIO) -> None:
        out.write(b"RIFF" + struct.pack("<I", 4 + len(chunk) + 8 + length + pad) + b"WAVE" + chunk)
        out.write(b"data" + struct.pack("<I", length))
        copy(source, start, start + length, out)
        out.write(b"\0" * pad)
    # Of samples that nothing checks, some may be missing anywhere.
    stated = int.from_bytes(head[start - 4 : start], "little") if start >= 8 and not lost else 0
    share = min(1.0, length / stated) if 0 < stated < LIMIT else 1.0
    if share < 1:
        changes.append(Change("rest-cut-off", {"share": round(1 - share, 4)}))
    doubted = share < 1 or (lost and reference is not None)
    yield Mended(write, "wav", tuple(changes), share, ("unproven",) if doubted else (), reference)


def _is_sound(data: bytes, form: bytes) -> bool:
    """Whether samples of 16 bits follow each other as a lent header says; True for others."""
    tag, channels, bits = *struct.unpack_from("<HH", form), int.from_bytes(form[14:16], "little")
    if tag != 1 or bits != 16:
        return True
    samples = np.frombuffer(data[: len(data) // (2 * channels) * 2 * channels], "<i2")
    one = samples.reshape(-1, channels)[:, 0].astype(np.float64)
    one = one[np.flatnonzero(one)[0] :] if one.any() else one[:0]
    if one.size < LEAST_BYTES or not one[:-1].std() or not one[1:].std():
        return False
    return bool(np.corrcoef(one[:-1], one[1:])[0, 1] > GOES_ON)


def _described(head: bytes, patient: Patient) -> tuple[bytes, int, Reference | None, bool]:
    """(format chunk, where the data begins, reference or None, whether the header was lost)."""
    own = _format_in(head)
    data = head.find(b"data", 12)
    if own is not None and data > 0:
        return own, data + 8, None, not head.startswith(b"RIFF")
    for reference in patient.references:
        other = reference.source.read_at(0, min(HEAD_BYTES, reference.source.size))
        lent = _format_in(other)
        if lent is not None and other.startswith(b"RIFF"):
            begin = data + 8 if data > 0 else len(head) - len(head.lstrip(b"\0"))
            align = struct.unpack_from("<H", lent, 12)[0] or 1
            return lent, begin // align * align if data <= 0 else begin, reference, True
    raise Unmendable("reference-missing")


def _format_in(head: bytes) -> bytes | None:
    """The body of a format chunk that makes sense."""
    at = head.find(b"fmt ")
    if at < 0:
        return None
    size = int.from_bytes(head[at + 4 : at + 8], "little")
    body = head[at + 8 : at + 8 + size]
    if not 16 <= size <= 64 or len(body) != size:
        return None
    tag, channels, rate, _, align, bits = struct.unpack_from("<HHIIHH", body)
    sane = 1 <= channels <= 32 and 1000 <= rate <= 768_000 and align > 0
    plain = tag not in (1, 3) or align == channels * -(-bits // 8)
    return body if sane and plain else None


def _stop(source: Source, head: bytes, start: int) -> int:
    """Where the samples end: as stated, where another chunk or the end stands there; else the
    file's end."""
    stated = int.from_bytes(head[start - 4 : start], "little") if start >= 8 else 0
    stop = start + stated
    if stated > 0 and stop <= source.size:
        behind = source.read_at(stop + (stated & 1), 4)
        if not behind or behind.isalnum() or behind.strip().isalnum():
            return stop
    return source.size


register(Mender("wav", frozenset(("wav",)), mend))
