"""PNG: chunks found again by their names, checksums made anew, the size from the rows, and as many
rows as the stream still gives, behind damage as well (W3C PNG, third edition: 5 chunks, 9
filtering, 10 compression).
"""

from __future__ import annotations

import math
import struct
import zlib
from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from needlewright.core.errors import FormatError
from needlewright.core.mending.base import (
    Change,
    Mended,
    Mender,
    Patient,
    Unmendable,
    bytes_written,
)
from needlewright.core.mending.png import passes, tail
from needlewright.core.mending.registry import register
from needlewright.core.structures.inflating import Inflater

MAGIC = b"\x89PNG\r\n\x1a\n"
MAX_BYTES, MAX_INFLATED = 1 << 27, 1 << 27
SAMPLES = {0: 1, 2: 3, 3: 1, 4: 2, 6: 4}  # colour type -> samples a pixel
DEPTHS = {0: (8, 16, 1, 2, 4), 2: (8, 16), 3: (8, 4, 2, 1), 4: (8, 16), 6: (8, 16)}
FILTERS = 5
SIDE = 65_535  # no wider picture is guessed
LEAST_ROWS = 4
MOST_SAMPLES = 1 << 26  # that are taken up behind damage
MOST_TOLD = 40  # areas
SCRAP = 0.001
GREY = 0x80
SECTOR = 512
PIECE = 1 << 12  # bytes that are inflated at once
KNOWN = frozenset((
    b"IHDR", b"PLTE", b"IDAT", b"IEND", b"tRNS", b"gAMA", b"cHRM", b"sRGB", b"iCCP", b"sBIT",
    b"bKGD", b"hIST", b"pHYs", b"sPLT", b"tIME", b"tEXt", b"zTXt", b"iTXt", b"eXIf", b"acTL",
    b"fcTL", b"fdAT", b"cICP", b"mDCV", b"cLLI"))


@dataclass(slots=True)
class _Parts:
    """What stands in the file. `sound`: chunks with right checksums; `bad_at`: compressed bytes in
    front of the first whose checksum is wrong; `sums`: how many are."""

    header: bytes | None = None
    others: list[tuple[bytes, bytes]] = field(default_factory=list)
    data: bytearray = field(default_factory=bytearray)
    bad_at: int | None = None
    bad_until: int = 0  # compressed bytes behind the last one
    sums: int = 0
    ended: bool = False
    claim: tuple[bytes, int] | None = None  # a damaged IHDR's bytes and its checksum


def mend(patient: Patient) -> Iterator[Mended]:
    size = patient.source.size
    if size > MAX_BYTES:
        raise Unmendable("too-large")
    data = patient.source.read_at(0, size)
    parts = _gathered(data)
    if not parts.data:
        raise Unmendable("nothing-decodes")
    patient.breathe(0.2)
    rows, whole = _inflated(bytes(parts.data))
    patient.breathe(0.6)
    changes: list[Change] = []
    header = parts.header
    if header is None:
        header = _header_for(rows, whole, parts)
        width, height = struct.unpack_from(">II", header)
        changes.append(Change("size-found", {"width": width, "height": height}))
    yield _made(patient, parts, header, rows, whole, changes, data)


def _gathered(data: bytes) -> _Parts:
    """The chunks, by their lengths where these lead on, else by the next known name."""
    parts, at = _Parts(), 8 if data[:8] == MAGIC else 0
    while at + 8 <= len(data):
        length, name = struct.unpack_from(">I4s", data, at)
        if name not in KNOWN or (at + 12 + length > len(data) and name != b"IDAT"):
            found = _next_chunk(data, at + 1)
            if found is None:
                break
            at = found
            continue
        stop = min(at + 8 + length, len(data))
        behind = _next_chunk(data, at + 8, limit=stop + 12)
        astray = stop + 12 <= len(data) and data[stop + 8 : stop + 12] not in KNOWN
        if astray and behind is not None:
            stop = behind - 4  # the length is wrong: another chunk begins before
        _take(parts, name, data[at + 8 : stop], data[stop : stop + 4])
        at = stop + 4
        if name == b"IEND":
            break
    return parts


def _next_chunk(data: bytes, at: int, limit: int | None = None) -> int | None:
    """Where the next chunk begins whose name is known and whose length is possible."""
    best = None
    for name in (b"IDAT", b"IEND", b"IHDR", b"PLTE", b"tRNS"):
        place = data.find(name, at + 4, limit)
        if place >= 4 and (best is None or place - 4 < best) and (
                int.from_bytes(data[place - 4 : place], "big") <= len(data)):
            best = place - 4
    return best


def _take(parts: _Parts, name: bytes, body: bytes, stated: bytes) -> None:
    sound = len(stated) == 4 and zlib.crc32(body, zlib.crc32(name)) == int.from_bytes(stated, "big")
    if not sound:
        parts.sums += 1
    if name == b"IDAT":
        sound = sound or len(stated) < 4  # cut off, which is no damage
        if not sound and parts.bad_at is None:
            parts.bad_at = len(parts.data)
        parts.data += body
        if not sound:
            parts.bad_until = len(parts.data)
    elif name == b"IEND":
        parts.ended = True
    elif name == b"IHDR":
        if sound and len(body) == 13:
            parts.header = body
        elif len(body) == 13 and len(stated) == 4:
            parts.claim = (body, int.from_bytes(stated, "big"))
    elif sound:
        parts.others.append((name, body))


def _inflated(data: bytes) -> tuple[bytes, bool]:
    """(what the stream gives, whether to its end with the right checksum)."""
    out, inflater = bytearray(), Inflater(MAX_INFLATED, piece=PIECE)
    try:
        for at in range(0, len(data), PIECE):  # what came before an error is not lost with it
            for piece in inflater.feed(data[at : at + PIECE]):
                out += piece
    except FormatError:
        pass
    if inflater.too_much:
        raise Unmendable("too-large")
    return bytes(out), inflater.ended


def _header_for(rows: bytes, whole: bool, parts: _Parts) -> bytes:
    """A header that the rows fit; the checksum of the lost one decides where it is there."""
    found = []
    palette = any(name == b"PLTE" for name, _ in parts.others)
    for colour in ((3, 2, 6, 0, 4) if palette else (2, 6, 0, 4)):
        for depth in DEPTHS[colour]:
            for width, height in _sizes(rows, whole, SAMPLES[colour] * depth,
                                        parts.claim is not None):
                header = struct.pack(">IIBBBBB", width, height, depth, colour, 0, 0, 0)
                if parts.claim is not None and parts.claim[1] == zlib.crc32(
                        header, zlib.crc32(b"IHDR")):
                    return header
                found.append(header)
        if found and parts.claim is None:
            break
    if not found:
        raise Unmendable("size-unknown")
    return found[0]


def _sizes(rows: bytes, whole: bool, bits: int, summed: bool) -> Iterator[tuple[int, int]]:
    """(width, height) at which every row begins with a filter type that exists. `summed`: a
    checksum decides; else rows that all begin with zeros say nothing."""
    total = len(rows)
    for width in range(1, SIDE):
        row = 1 + -(-width * bits // 8)
        if row * LEAST_ROWS > total:
            return
        if whole and total % row:
            continue
        types = rows[::row]
        if max(types) < FILTERS and len(types) >= LEAST_ROWS and (summed or any(types)):
            yield width, -(-total // row) if whole else total // row


def _made(patient: Patient, parts: _Parts, header: bytes, rows: bytes, whole: bool,
          changes: list[Change], data: bytes) -> Mended:
    width, height, depth, colour, _, _, interlace = struct.unpack(">IIBBBBB", header)
    if colour not in SAMPLES or not width or not height:
        raise Unmendable("size-unknown")
    row = 1 + -(-width * SAMPLES[colour] * depth // 8)
    if row * height > MAX_INFLATED:
        raise Unmendable("too-large")
    doubts: tuple[str, ...] = ()
    share = 1.0
    before: float | None = None
    if (whole and not interlace and len(rows) == row * height) or (whole and interlace):
        body = bytes(parts.data)
        if parts.sums:
            changes.append(Change("sums-made", {"count": parts.sums}))
    elif interlace:
        step = SAMPLES[colour] * depth // 8
        if depth < 8 or row * height > MOST_SAMPLES:
            raise Unmendable("interlaced-damaged")
        body, share, before, lacks = _passes_made(patient, rows, (width, height), step,
                                                  GREY if colour != 3 else 0, parts)
        changes += lacks
        header = header[:-1] + b"\0"
    else:
        good = _rows_kept(rows, row, height, parts, _reached(patient, rows, row, parts))
        step = max(1, SAMPLES[colour] * depth // 8)
        neutral = GREY if depth >= 8 and colour != 3 else 0
        body, there = _rows_made(patient, rows[: good * row], row, height, step, neutral, parts)
        share, before = round(float(there.mean()), 4), good / height
        if share < SCRAP:
            raise Unmendable("nothing-decodes")
        changes += _told(there, good, width)
    if not parts.ended:
        changes.append(Change("end-added"))
    if not changes:
        if data[:8] == MAGIC:
            raise Unmendable("nothing-found")
        changes.append(Change("header-made"))
    out = [MAGIC, _chunk(b"IHDR", header)]
    out += [_chunk(name, inner) for name, inner in parts.others]
    out += [_chunk(b"IDAT", body), _chunk(b"IEND", b"")]
    return Mended(bytes_written(b"".join(out)), "png", tuple(changes), share, doubts,
                  share_before=before)


def _reached(patient: Patient, rows: bytes, row: int, parts: _Parts) -> int:
    """How many rows stand in front of the place at which the walk notices the damage, less what a
    sector makes: so much may be foreign before it is noticed."""
    broken = patient.walk.broken if patient.walk is not None else None
    if broken is None or not broken.row or not parts.data:
        return 0
    each = SECTOR * len(rows) / len(parts.data)  # bytes of rows that a sector makes
    return max(0, broken.row - math.ceil(each / row))


def _rows_kept(rows: bytes, row: int, height: int, parts: _Parts, reached: int) -> int:
    """How many rows in front of the damage are there. What came out of a chunk whose checksum is
    wrong is believed as far as the walk `reached`."""
    good = min(height, len(rows) // row)
    if parts.bad_at is not None and parts.bad_at:
        sure, _ = _inflated(bytes(parts.data[: parts.bad_at]))
        good = min(good, max(reached, len(sure) // row))
    for number in range(good):
        if rows[number * row] >= FILTERS:
            return number
    return good


def _rows_made(patient: Patient, head: bytes, row: int, height: int, step: int, neutral: int,
               parts: _Parts) -> tuple[bytes, npt.NDArray[np.bool_]]:
    """(a stream of all rows, `neutral` for what is lost; bool[height, bytes]: what is not)."""
    ends = _ends(patient, parts, row, height, row * height)
    if ends is None:
        there = np.zeros((height, row - 1), np.bool_)
        there[: len(head) // row] = True
        lost = (b"\0" + bytes([neutral]) * (row - 1)) * (height - len(head) // row)
        return zlib.compress(head + lost, 6), there
    values = tail.joined(head, ends, row * height).reshape(height, row)
    made, there = tail.samples(values, step, neutral)
    return zlib.compress(made, 6), there


def _ends(patient: Patient, parts: _Parts, row: int, count: int, total: int) -> tail.Values | None:
    """What the end of the stream makes, as `tail_of` gives it."""
    data = bytes(parts.data)
    sound_behind = parts.bad_until if 0 < parts.bad_until < len(data) else None
    ends: tail.Values | None = None
    for begin in (None, sound_behind) if sound_behind else (None,):
        if total <= MOST_SAMPLES and ends is None:
            ends = tail.tail_of(data, begin, row, count, total, lambda: patient.breathe(0.7))
    return ends


def _passes_made(patient: Patient, rows: bytes, size: tuple[int, int], step: int, neutral: int,
                 parts: _Parts) -> tuple[bytes, float, float, list[Change]]:
    """(a stream of all rows of what was stored in passes; the share of its pixels that is there,
    and that stands in front of the damage; what the others are)."""
    found = passes.passes_of(*size, step)
    last = found[-1]
    sure = rows if not parts.bad_at else _inflated(bytes(parts.data[: parts.bad_at]))[0]
    good = min(passes.good_until(rows, found), passes.good_until(sure, found))
    ends = _ends(patient, parts, last.row, last.rows, last.stop)
    values = tail.joined(rows[:good], np.zeros(0, np.int16) if ends is None else ends, last.stop)
    made, there, coarse = passes.samples(values, found, *size, step, neutral)
    share = round(float(there.mean()), 4)
    if share < SCRAP:
        raise Unmendable("nothing-decodes")
    changes = []
    for code, mask in (("detail-missing", coarse), ("blocks-missing", ~there & ~coarse)):
        lines = np.flatnonzero(mask.any(axis=1))
        if lines.size:
            changes.append(Change(code, {
                "share": round(float(mask.mean()), 4),
                "areas": [[int(lines[0]), 0, int(lines[-1]) + 1, size[0]]]}))
    before = share
    if ends is not None:
        head = tail.joined(rows[:good], np.zeros(0, np.int16), last.stop)
        before = float(passes.samples(head, found, *size, step, neutral)[1].mean())
    return zlib.compress(made, 6), share, before, changes


def _told(there: npt.NDArray[np.bool_], good: int, width: int) -> list[Change]:
    """Which rows are missing in part or wholly, and from where on there are some again."""
    missing = ~there.all(axis=1)
    edges = np.flatnonzero(np.diff(np.concatenate(([0], missing.astype(np.int8), [0])))).tolist()
    areas = [[top, 0, bottom, width] for top, bottom in zip(edges[::2], edges[1::2])]
    changes = [Change("rows-missing", {
        "rows": int(missing.sum()), "total": len(there), "areas": areas[:MOST_TOLD]})]
    again = np.flatnonzero(there[good:].any(axis=1))
    if again.size:
        changes.append(Change("taken-up", {"row": good + int(again[0])}))
    return changes


def _chunk(name: bytes, body: bytes) -> bytes:
    return struct.pack(">I4s", len(body), name) + body + struct.pack(
        ">I", zlib.crc32(body, zlib.crc32(name)))


register(Mender("png", frozenset(("png",)), mend))
