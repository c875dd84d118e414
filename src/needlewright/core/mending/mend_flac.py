"""FLAC with foreign or missing bytes: the frames whose checksums agree (RFC 9639, section 9)."""

from __future__ import annotations

import struct
from collections.abc import Iterator

import numpy as np
import numpy.typing as npt

from needlewright.core.kernels.flac import OK, follow_frames
from needlewright.core.mending.base import Change, Mended, Mender, Patient, Reference, Unmendable
from needlewright.core.mending.registry import register
from needlewright.core.mending.streams.pieces import Pieces, left_out, writing
from needlewright.core.sources.source import Source

MOST_BYTES = 1 << 29
INFORMATION = 42  # mark, head and stream information (8.1, 8.2)
SEEK_TABLE, ROOM = 3, 1
MAX_METADATA = 1000


def mend(patient: Patient) -> Iterator[Mended]:
    source = patient.source
    if source.size > MOST_BYTES:
        raise Unmendable("too-large")
    head, first, lent = _head(patient)
    data = np.frombuffer(source.read_at(0, source.size), np.uint8)
    bits = int.from_bytes(head[18:26], "big")
    rate, depth, stated = bits >> 44, (bits >> 36 & 31) + 1, bits & (1 << 36) - 1
    pieces, samples, frames, gaps = _frames(patient, data, first, depth)
    if not frames or not rate:
        raise Unmendable("samples-none")
    total = samples if lent is not None or not stated else stated
    if not gaps and samples == total and lent is None:
        raise Unmendable("nothing-found")
    struct.pack_into(">Q", head, 18, bits >> 36 << 36 | samples)
    head[26:42] = bytes(16)  # the sum of all samples that there were (8.2): unknown
    changes = [Change("header-lent", {"reference": lent.name})] if lent is not None else []
    changes += [Change("frames-joined", {"count": frames, "times": max(1, len(gaps))}),
                *left_out(0, [(at / rate, at / rate) for at in gaps])]
    yield Mended(writing(source, [bytes(head)], pieces.pieces), "flac", tuple(changes),
                 min(1.0, samples / max(1, total)), ("unproven",) if lent is not None else (), lent)


def _metadata(source: Source) -> tuple[bytearray, int] | None:
    """(mark and metadata without places of frames, where the frames begin)."""
    if source.read_at(0, 4) != b"fLaC" or source.read_at(4, 1)[:1] not in (b"\0", b"\x80"):
        return None
    at = 4
    for _ in range(MAX_METADATA):
        block = source.read_at(at, 4)
        if len(block) < 4 or block[0] & 0x7F > 6:
            return None
        size = int.from_bytes(block[1:], "big")
        if at == 4 and size != 34:
            return None
        at += 4 + size
        if at > source.size:
            return None
        if block[0] & 0x80:
            break
    else:
        return None
    head, at = bytearray(source.read_at(0, at)), 4
    while at < len(head):
        if head[at] & 0x7F == SEEK_TABLE:
            head[at] = head[at] & 0x80 | ROOM
        at += 4 + int.from_bytes(head[at + 1 : at + 4], "big")
    return head, len(head)


def _head(patient: Patient) -> tuple[bytearray, int, Reference | None]:
    own = _metadata(patient.source)
    if own is not None:
        return own[0], own[1], None
    for reference in patient.references:
        other = _metadata(reference.source)
        if other is not None:
            head = other[0][:INFORMATION]
            head[4] |= 0x80
            head[12:18] = bytes(6)  # sizes of its smallest and largest frame
            return head, 0, reference
    raise Unmendable("reference-missing")


def _frames(patient: Patient, data: npt.NDArray[np.uint8], at: int, depth: int) -> tuple[
        Pieces, int, int, list[int]]:
    """(frames in row, their samples, how many, samples before each gap)."""
    pieces, samples, frames, gaps = Pieces(), 0, 0, list[int]()
    while at < data.size:
        patient.breathe(at / data.size * 0.8)
        stop, found, made, _ = follow_frames(data, at, depth, 0)
        if found:
            pieces.add((at, stop))
            samples, frames = samples + made, frames + found
        if stop >= data.size:
            break
        gaps.append(samples)
        at = _again(data, stop + (0 if found else 1), depth)
        if at < 0:
            if found or frames:
                gaps.pop()
            break
    return pieces, samples, frames, gaps


def _again(data: npt.NDArray[np.uint8], at: int, depth: int) -> int:
    """Where the next frame with right checksums begins; -1 where none does."""
    heads = np.flatnonzero((data[at:-1] == 0xFF) & (data[at + 1 :] & 0xFE == 0xF8)) + at
    for place in heads.tolist():
        _, found, _, state = follow_frames(data[: place + (1 << 20)], place, depth, 1)
        if found or state == OK:
            return int(place)
    return -1


register(Mender("flac", frozenset(("flac",)), mend))
