"""A JPEG written from coefficients: the segments that are there, tables that fit, one scan (ITU-T
T.81)."""

from __future__ import annotations

import heapq
import struct
from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from needlewright.core.formats import jpeg_segments as seg
from needlewright.core.kernels.jpeg_coefficients import (
    Coefficients,
    encode_scan,
    symbol_counts,
)
from needlewright.core.mending.jpeg.anatomy import Head, Segment

SOI, EOI = b"\xff\xd8", b"\xff\xd9"
LONGEST_CODE = 16
MP_ENTRIES = 0xB002
REMADE = frozenset((seg.DHT, seg.DRI, seg.SOS, seg.DNL))


def code_lengths(counts: npt.NDArray[np.int64]) -> dict[int, int]:
    """Symbol -> length of its code, at most 16 bits, none of them all ones (K.2). The place of the
    all-ones code is kept by a symbol that is counted once and then left out."""
    used = [int(s) for s in np.flatnonzero(counts)]
    if not used:
        used, counts = [0], np.eye(1, 256, dtype=np.int64)[0]
    heap: list[tuple[int, int, tuple[int, ...]]] = [
        (int(counts[s]), n, (s,)) for n, s in enumerate(used)]
    heap.append((0, 1 << 20, (-1,)))
    heapq.heapify(heap)
    depth = dict.fromkeys((*used, -1), 0)
    number = 1 << 21
    while len(heap) > 1:
        first, _, one = heapq.heappop(heap)
        second, _, two = heapq.heappop(heap)
        for symbol in (*one, *two):
            depth[symbol] += 1
        heapq.heappush(heap, (first + second, number, (*one, *two)))
        number += 1
    bits = [0] * 300
    for length in depth.values():
        bits[length] += 1
    for length in range(len(bits) - 1, LONGEST_CODE, -1):  # figure K.3
        while bits[length] > 0:
            shorter = length - 2
            while bits[shorter] == 0:
                shorter -= 1
            bits[length] -= 2
            bits[length - 1] += 1
            bits[shorter + 1] += 2
            bits[shorter] -= 1
    last = max(n for n in range(1, LONGEST_CODE + 1) if bits[n])
    bits[last] -= 1  # the one that was kept free
    ordered = sorted(used, key=lambda s: (depth[s], s))
    out, at = {}, 0
    for length in range(1, LONGEST_CODE + 1):
        for symbol in ordered[at : at + bits[length]]:
            out[symbol] = length
        at += bits[length]
    return out


def _table(lengths: dict[int, int], place: int) -> tuple[bytes, npt.NDArray[np.int64],
                                                        npt.NDArray[np.int64]]:
    """(body of DHT, codes int64[256], lengths int64[256]) of the canonical code (C.2)."""
    ordered = sorted(lengths, key=lambda s: (lengths[s], s))
    codes, sizes = np.zeros(256, np.int64), np.zeros(256, np.int64)
    code, before = 0, 0
    for symbol in ordered:
        code <<= lengths[symbol] - before
        before = lengths[symbol]
        codes[symbol], sizes[symbol] = code, before
        code += 1
    counts = bytes(sum(1 for s in ordered if lengths[s] == n) for n in range(1, 17))
    return bytes((place,)) + counts + bytes(ordered), codes, sizes


def segment(marker: int, body: bytes) -> bytes:
    return struct.pack(">BBH", 0xFF, marker, len(body) + 2) + body


def frame_segment(frame: seg.Frame, marker: int = 0xC0) -> bytes:
    """A frame header of `frame`."""
    parts = b"".join(bytes((c.identifier, c.horizontal << 4 | c.vertical, c.quantiser))
                     for c in frame.components)
    return segment(marker, struct.pack(">BHHB", frame.precision, frame.height, frame.width,
                                       len(frame.components)) + parts)


def picture(head: Head, frame: seg.Frame, coefficients: Coefficients,
            component: npt.NDArray[np.int64], restart: int) -> bytes:
    """SOI to EOI: all segments of `head` but for tables of codes, which are made anew, and one
    scan of int16[MCUs, blocks, 64]."""
    classes = [0 if c == 0 else 1 for c in range(len(frame.components))]
    dc, ac = symbol_counts(coefficients, component, classes, restart)
    tables, codes, sizes = [], [], []
    for group, counts in ((0, dc), (1, ac)):
        for number in range(2):
            body, own_codes, own_sizes = _table(code_lengths(counts[number]), group << 4 | number)
            codes.append(own_codes)
            sizes.append(own_sizes)
            if number <= max(classes):
                tables.append(segment(seg.DHT, body))
    out = [SOI]
    for part in head.segments:
        if part.marker in seg.FRAMES:
            out.append(frame_segment(frame))
        elif part.marker not in REMADE:
            out.append(head.data[part.start : part.stop])
    out += tables
    if restart:
        out.append(segment(seg.DRI, struct.pack(">H", restart)))
    members = b"".join(bytes((c.identifier, classes[i] * 0x11))
                       for i, c in enumerate(frame.components))
    out.append(segment(seg.SOS, bytes((len(frame.components),)) + members + b"\0\x3f\0"))
    out.append(encode_scan(coefficients, component, classes, restart, np.stack(codes),
                           np.stack(sizes)))
    out.append(EOI)
    return b"".join(out)


def copied(head: Head, parts: Sequence[Segment]) -> bytes:
    """Segments of `head` as they stand."""
    return b"".join(head.data[p.start : p.stop] for p in parts)


def with_tail(made: bytes, tail: bytes, head: Head, stop: int) -> bytes:
    """`made`, the picture, and `tail`, what stood behind its end mark at `stop`: the index of
    appended pictures (CIPA DC-007, 5.2.3) leads to them again."""
    if not tail or not head.headers.appended:
        return made + tail
    out = bytearray(made)
    index = made.find(b"MPF\0")
    moved = len(made) - (stop + 2)
    block = index + 4
    order = {b"II*\0": "<", b"MM\0*": ">"}.get(bytes(out[block : block + 4]))
    if index < 0 or order is None:
        return made + tail
    try:
        (ifd,) = struct.unpack_from(order + "I", out, block + 4)
        (count,) = struct.unpack_from(order + "H", out, block + ifd)
        for entry in range(count):
            place = block + ifd + 2 + 12 * entry
            tag, _, size, where = struct.unpack_from(order + "HHII", out, place)
            if tag != MP_ENTRIES:
                continue
            for at in range(block + where, block + where + size, 16):
                _, length, offset = struct.unpack_from(order + "III", out, at)
                value = (len(made), 0) if offset == 0 else (length, offset + moved)
                struct.pack_into(order + "II", out, at + 4, *value)
    except struct.error:
        return made + tail
    return bytes(out) + tail
