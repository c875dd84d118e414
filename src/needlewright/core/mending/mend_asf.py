"""ASF, WMV and WMA: what was never closed or is cut off gets the sizes that it has; packets that
are none are taken out (Advanced Systems Format Specification 1.20.06, 3 and 5).

All packets have one size, and each its time. What a packet that is lost had of a larger picture,
decoders miss: which pictures that spoils, not all decoders notice; it is a doubt.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator

from needlewright.core.formats import asf
from needlewright.core.mending.base import Change, Mended, Mender, Patient, Reference, Unmendable
from needlewright.core.mending.registry import register
from needlewright.core.mending.streams.pieces import Pieces, writing
from needlewright.core.sources.source import Source

FRONT = b"\x82\0\0"  # of a packet: its error correction (5.2.1)
LEAST_HEADER, MAX_HEADER = 30, 1 << 24
DATA_HEAD = 50
PACKET_SIZES = range(64, 1 << 17)
BLOCK = 1 << 20
IN_STEP = 3  # packets for a new beginning to be believed


def mend(patient: Patient) -> Iterator[Mended]:
    source = patient.source
    head, reference, begin = _head(patient)
    size = _packet_bytes(head)
    pieces, count, gaps = _packets(patient, begin, size)
    if not count:
        raise Unmendable("samples-none")
    stated = int.from_bytes(source.read_at(begin - 10, 8), "little") if begin >= DATA_HEAD else 0
    if reference is None and not gaps and stated == count:
        raise Unmendable("nothing-found")
    made = bytearray(head)
    place = head.find(asf.FILE_PROPERTIES)
    data_bytes = DATA_HEAD + count * size
    struct.pack_into("<Q", made, place + 40, len(head) + data_bytes)
    struct.pack_into("<Q", made, place + 56, count)
    flags = int.from_bytes(made[place + 88 : place + 92], "little") & ~1
    struct.pack_into("<I", made, place + 88, flags)
    front = asf.DATA + struct.pack("<Q", data_bytes) + head[place + 24 : place + 40] + struct.pack(
        "<QH", count, 0x101)
    changes = [Change("sizes-corrected", {"count": 3}) if reference is None else
               Change("header-lent", {"reference": reference.name})]
    if gaps:
        changes.append(Change("packets-in-step", {"count": count, "times": gaps}))
    share = min(1.0, count / stated) if count < stated < 1 << 40 else 1.0
    if share < 1:
        changes.append(Change("rest-cut-off", {"share": round(1 - share, 4)}))
    video = asf.VIDEO_MEDIA in head
    doubts = ("unproven",) if gaps else ()
    yield Mended(writing(source, [bytes(made), front], pieces.pieces), "wmv" if video else "wma",
                 tuple(changes), round(share, 4), doubts, reference)


def _head(patient: Patient) -> tuple[bytes, Reference | None, int]:
    """(the header object, the sibling that lent it, where packets begin)."""
    own = _header_of(patient.source)
    if own is not None:
        return own, None, len(own) + DATA_HEAD
    for reference in patient.references:
        lent = _header_of(reference.source)
        if lent is not None:
            mark = patient.source.read_at(0, min(patient.source.size, MAX_HEADER)).find(asf.DATA)
            return lent, reference, mark + DATA_HEAD if mark >= 0 else 0
    raise Unmendable("reference-missing" if not patient.references else "reference-damaged")


def _header_of(source: Source) -> bytes | None:
    """The header object of a file, with all that it must hold; None where it is not there."""
    front = source.read_at(0, 24)
    size = int.from_bytes(front[16:24], "little")
    if front[:16] != asf.HEADER or not LEAST_HEADER < size <= min(MAX_HEADER, source.size):
        return None
    head = source.read_at(0, size)
    place = head.find(asf.FILE_PROPERTIES)
    whole = 0 <= place <= len(head) - 104 and asf.STREAM_PROPERTIES in head
    return head if whole and _packet_bytes(head) in PACKET_SIZES else None


def _packet_bytes(head: bytes) -> int:
    place = head.find(asf.FILE_PROPERTIES)
    return int.from_bytes(head[place + 92 : place + 96], "little")


def _packets(patient: Patient, at: int, size: int) -> tuple[Pieces, int, int]:
    """(the packets from `at` on, how many, how often something else stood between)."""
    source, pieces = patient.source, Pieces()
    count = gaps = 0
    while at + size <= source.size:
        patient.breathe(at / source.size * 0.8)
        if source.read_at(at, 3) == FRONT:
            pieces.add((at, at + size))
            count, at = count + 1, at + size
            continue
        if source.read_at(at, 16) in asf.INDEXES:
            break
        begun, at = at, _again(patient, at + 1, size)
        gaps += at < source.size or source.size - begun > size
        # Foreign bytes may have begun in the packet before, whose place shows nothing.
        last = pieces.pieces[-1] if pieces.pieces else None
        if at < source.size and isinstance(last, tuple) and (at - begun) % size:
            pieces.pieces[-1] = last[0], last[1] - size
            count -= 1
    return pieces, count, gaps


def _again(patient: Patient, at: int, size: int) -> int:
    """The next place from which packets stand in step; the end where none do."""
    source = patient.source
    while at < source.size:
        patient.breathe(at / source.size * 0.8)
        block = source.read_at(at, BLOCK + 2)
        place = block.find(FRONT)
        while 0 <= place < BLOCK:
            begin = at + place
            steps = [begin + n * size for n in range(IN_STEP) if begin + n * size < source.size]
            if all(source.read_at(s, 3) == FRONT for s in steps):
                return begin
            place = block.find(FRONT, place + 1)
        at += BLOCK
    return source.size


register(Mender("asf", frozenset(("asf", "wmv", "wma")), mend))
