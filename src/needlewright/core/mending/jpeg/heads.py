"""A head for a JPEG that has lost its own: what is left of it, and the rest from a picture of the
same camera.

Only what decoding needs is lent: tables, the frame, the scan. What another picture says of its
time, place or orientation is not this one's. Every head is proven by decoding with it (ITU-T T.81
annex B, K.3).
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from needlewright.core.errors import FormatError, SourceError
from needlewright.core.formats import jpeg_segments as seg
from needlewright.core.kernels.jpeg_bits import CleanScan, is_padding, unstuff
from needlewright.core.kernels.jpeg_coefficients import decode_chain, first_survivor
from needlewright.core.kernels.jpeg_edges import mcu_edges
from needlewright.core.mending.base import Change, Patient, Reference, Unmendable
from needlewright.core.mending.jpeg.anatomy import Head, Layout, Segment, layout_of, read_head
from needlewright.core.mending.jpeg.blocks import picture_of
from needlewright.core.mending.jpeg.ends import coded_end
from needlewright.core.mending.jpeg.passes import Pass
from needlewright.core.mending.jpeg.scans import scans_of
from needlewright.core.mending.jpeg.writing import SOI, copied, segment

SCAN = re.compile(rb"\xff\xda\x00[\x08\x0a\x0c\x0e][\x01-\x04]")
MARK = re.compile(rb"\xff[\xc0-\xc4\xc9-\xcb\xdb\xdd\xe0-\xef\xfe]")
MAX_HEAD = 1 << 20  # bytes in which a head is looked for
SAMPLINGS = (0x22, 0x21, 0x11, 0x12)  # across and down, of the brightness
MAX_SCANS, MAX_MARKS = 24, 2048
PASSES = 3  # scan headers: a picture and its thumbnail have no more, one in passes has
SMALL = 640  # pixels: a scan of no more is that of a thumbnail
TRIAL = 400  # MCUs that must decode before a head is believed
PLACES, PLACE_BITS = (0.15, 0.45, 0.75), 1 << 14  # shares of the data that are tried; bits there
SECTORS = (512, 1024, 2048, 4096, 8192, 16_384, 32_768, 65_536)
#: The tables of codes that encoders use unless they make their own (K.3.1, K.3.2).
USUAL_CODES = bytes.fromhex(
    "0000010501010101010100000000000000000102030405060708090a0b100002010303020403050504040000017d"
    "01020300041105122131410613516107227114328191a1082342b1c11552d1f02433627282090a161718191a2526"
    "2728292a3435363738393a434445464748494a535455565758595a636465666768696a737475767778797a838485"
    "868788898a92939495969798999aa2a3a4a5a6a7a8a9aab2b3b4b5b6b7b8b9bac2c3c4c5c6c7c8c9cad2d3d4d5d6"
    "d7d8d9dae1e2e3e4e5e6e7e8e9eaf1f2f3f4f5f6f7f8f9fa01000301010101010101010100000000000001020304"
    "05060708090a0b110002010204040304070504040001027700010203110405213106124151076171132232810814"
    "4291a1b1c109233352f0156272d10a162434e125f11718191a262728292a35363738393a434445464748494a5354"
    "55565758595a636465666768696a737475767778797a82838485868788898a92939495969798999aa2a3a4a5a6a7"
    "a8a9aab2b3b4b5b6b7b8b9bac2c3c4c5c6c7c8c9cad2d3d4d5d6d7d8d9dae2e3e4e5e6e7e8e9eaf2f3f4f5f6f7f8"
    "f9fa")


@dataclass(frozen=True, slots=True)
class Restored:
    """A file with a head that decodes. `known`: its coded data begins with the first MCU."""

    data: bytes
    head: Head
    known: bool
    changes: tuple[Change, ...]
    reference: Reference | None


def restored(data: bytes, patient: Patient) -> Restored:
    """`data` with its own head where that is there, else with one that fits; Unmendable without."""
    try:
        if data[:2] == SOI:
            head = read_head(data)
            if head.frame.marker == seg.PROGRESSIVE:
                return Restored(data, head, True, (), None)
            layout_of(head)
            return Restored(data, head, True, (), None)
    except FormatError:
        pass
    return _rebuilt(data, patient)


def _rebuilt(data: bytes, patient: Patient) -> Restored:
    best: tuple[float, Restored] | None = None
    tried = refused = 0
    for sampling in (None, *SAMPLINGS):  # a camera may have several
        for kept, begin, known, scan in _left_of(data):
            missing = _missing(kept)
            if sampling is not None and 0xC0 not in missing:
                continue
            for reference in ([None] if not missing else [None, *patient.references]):
                patient.breathe(0.02)
                found = _with(data, kept, begin, known, scan, missing, reference, sampling)
                if found is None:
                    continue
                tried += 1
                worth = _worth(found)
                if worth <= 0:
                    refused += reference is not None
                    continue
                if best is None or worth > best[0]:
                    best = worth, found
                if worth >= 3:
                    return found
        if best is not None:
            return best[1]
    if len(SCAN.findall(data)) > PASSES:
        raise Unmendable("codes-lost")
    if not patient.references:
        raise Unmendable("reference-missing")
    raise Unmendable("reference-other" if refused or tried else "reference-damaged")


def _left_of(data: bytes) -> Iterator[tuple[list[Segment], int, bool, Segment | None]]:
    """(segments that are left, where coded data may begin, whether with the first MCU, its scan
    header)."""
    part = data[:MAX_HEAD]
    marks = [m.start() for m in MARK.finditer(part)][:MAX_MARKS]
    for match in list(SCAN.finditer(part))[:MAX_SCANS]:
        at = match.start()
        stop = at + 2 + int.from_bytes(part[at + 2 : at + 4], "big")
        yield _chain_to(data, marks, at), stop, True, Segment(seg.SOS, at, stop)
    first = len(part) - len(part.lstrip(part[:1])) if part[:1] in (b"\0", b"\xff") else 0
    if first:
        yield [], first, True, None
    yield [], 0, True, None
    for sector in SECTORS:
        if first <= sector < len(data):
            yield [], sector, True, None
    yield [], first, False, None


def _chain_to(data: bytes, marks: Sequence[int], stop: int) -> list[Segment]:
    """The longest run of segments that leads to `stop`."""
    for mark in marks:
        if mark >= stop:
            break
        chain, at = [], mark
        while at < stop and data[at] == 0xFF and MARK.match(data, at):
            size = int.from_bytes(data[at + 2 : at + 4], "big")
            chain.append(Segment(data[at + 1], at, at + 2 + size))
            at += 2 + size
        if at == stop:
            return chain
    return []


def _missing(kept: Sequence[Segment]) -> set[int]:
    """Kinds of segments that a head of `kept` lacks."""
    markers = {s.marker for s in kept}
    missing = {seg.DQT, seg.DHT} - markers
    if not markers & seg.FRAMES:
        missing |= {0xC0, seg.DRI}
    return missing


def _with(data: bytes, kept: list[Segment], begin: int, known: bool, scan: Segment | None,
          missing: set[int], reference: Reference | None, sampling: int | None) -> (
              Restored | None):
    """The file with what is missing from `reference`, or with the usual codes where only they
    are."""
    lent, changes = b"", []
    own = Head(data)
    parts = [copied(own, [s]) for s in kept]
    scan_bytes = b"" if scan is None else data[scan.start : scan.stop]
    if reference is None:
        if missing - {seg.DHT} or scan is None:
            return None
        if missing:
            lent = segment(seg.DHT, USUAL_CODES)
            changes.append(Change("codes-usual"))
    else:
        other = _head_of(reference)
        if other is None:
            return None
        wanted = {m if m not in seg.FRAMES else 0xC0 for m in missing}
        lend = [s for s in other.segments
                if (0xC0 if s.marker in seg.FRAMES else s.marker) in wanted]
        lent = copied(other, lend)
        if sampling is not None:
            lent = _sampled(lent, sampling)
            if not lent:
                return None
        if not scan_bytes:
            scan_bytes = copied(other, [s for s in other.segments if s.marker == seg.SOS])
        changes.append(Change("header-lent", {"reference": reference.name}))
    if not changes:
        changes.append(Change("header-left"))
    whole = SOI + b"".join(parts) + lent + scan_bytes
    try:
        head = read_head(whole + data[begin : begin + 2])
        if head.begin != len(whole):
            return None
        if head.frame.marker != seg.PROGRESSIVE:
            layout_of(head)
    except FormatError:
        return None
    if max(head.frame.width, head.frame.height) <= SMALL and len(data) - begin > 1 << 18:
        return None  # the thumbnail's
    made = whole + data[begin:]
    head.data = made
    return Restored(made, head, known, tuple(changes), reference)


def _sampled(segments: bytes, sampling: int) -> bytes:
    """The segments with another sampling of the brightness in the frame header (B.2.2); b"" where
    they have that, or where a frame has not three components."""
    at = 0
    while at + 4 <= len(segments):
        if segments[at + 1] in seg.FRAMES and segments[at + 9] == 3:
            place = at + 11
            same = segments[place] == sampling
            return b"" if same else segments[:place] + bytes((sampling,)) + segments[place + 1 :]
        at += 2 + int.from_bytes(segments[at + 2 : at + 4], "big")
    return b""


def _head_of(reference: Reference) -> Head | None:
    try:
        data = reference.source.read_at(0, min(reference.source.size, MAX_HEAD))
        head = read_head(data)
        layout_of(head)
    except (FormatError, SourceError):
        return None
    return head


def _worth(found: Restored) -> float:
    """2 and more where all decodes to its end, else the share that does; 0 where next to nothing
    does."""
    stop, closed = coded_end(found.data, found.head)
    if found.head.frame.marker == seg.PROGRESSIVE:
        return _worth_of_scans(found, stop)
    layout = layout_of(found.head)
    raw = np.frombuffer(found.data, np.uint8)[found.head.begin : stop]
    if layout.restart:
        return _worth_of_segments(raw, layout)
    clean = unstuff(raw, 1 << 16)
    if not found.known:
        return _worth_inside(clean, layout)
    chain = decode_chain(clean.clean, 0, clean.size * 8, layout.coding, 2 * layout.total, True)
    end = int(chain.mcu_bit[-1])
    if closed and chain.size and is_padding(clean.clean, end, clean.size * 8):
        return 3.0 if chain.size == layout.total else 2.0
    return chain.size / layout.total if chain.size > min(TRIAL, layout.total // 2) else 0.0


def _worth_inside(clean: CleanScan, layout: Layout) -> float:
    """The same where the first MCU is lost: whether the data decodes from places within it on."""
    good = 0
    for share in PLACES:
        start = int(clean.size * share) * 8
        found = first_survivor(clean.clean, start, min(start + PLACE_BITS, clean.size * 8 - 16),
                               clean.size * 8, layout.coding, TRIAL)
        if found is None:
            continue
        chain = decode_chain(clean.clean, found, clean.size * 8, layout.coding, 4 * TRIAL)
        good += chain.size == 4 * TRIAL or is_padding(
            clean.clean, int(chain.mcu_bit[-1]), clean.size * 8)
    return 0.4 * good + _rows_fit(clean, layout) if good > 1 else 0.0


def _rows_fit(clean: CleanScan, layout: Layout) -> float:
    """1.0 where the rows of what decodes continue each other at the width that is stated, and at
    no other near it."""
    start = int(clean.size * PLACES[1]) * 8
    found = first_survivor(clean.clean, start, start + PLACE_BITS, clean.size * 8, layout.coding,
                           TRIAL)
    if found is None:
        return 0.0
    chain = decode_chain(clean.clean, found, clean.size * 8, layout.coding, 16 * layout.per_row)
    edges = mcu_edges(chain.coefficients, layout.coding.component, layout.dx, layout.dy,
                      layout.quantisers)
    costs = []
    for width in range(max(2, layout.per_row - 3), layout.per_row + 4):
        apart = np.abs(edges.top[width:] - edges.bottom[: chain.size - width]).mean(axis=1)
        costs.append((float(np.minimum(apart, 40).mean()) if apart.size else 99.0, width))
    return 1.0 if min(costs)[1] == layout.per_row else 0.0


def _worth_of_scans(found: Restored, stop: int) -> float:
    """The same of a progressive picture: whether its first scan, of DC values, decodes. Each has
    codes of its own, which nobody can lend."""
    if not found.known:
        return 0.0
    try:
        scan = scans_of(found.head, stop)[0]
        return 3.0 if Pass(scan, picture_of(found.head), True, lambda: None).is_whole(
            ) else 0.0
    except FormatError:
        return 0.0


def _worth_of_segments(raw: np.ndarray, layout: Layout) -> float:  # type: ignore[type-arg]
    clean = unstuff(raw, 1 << 20)
    edges = [*(int(s) for s in clean.seg_clean[1:]), clean.size]
    good = 0
    for start, stop in zip(clean.seg_clean.tolist(), edges):
        chain = decode_chain(clean.clean, start * 8, stop * 8, layout.coding, layout.restart, True)
        good += chain.size == layout.restart and is_padding(
            clean.clean, int(chain.mcu_bit[-1]), stop * 8)
    count = -(-layout.total // layout.restart)
    return 3.0 if good >= count - 1 and len(edges) == count else good / count

