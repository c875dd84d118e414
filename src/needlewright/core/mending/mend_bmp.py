"""BMP: a header from what the rows are, sizes and places corrected, rows that are missing neutral
(Windows bitmap: BITMAPFILEHEADER, BITMAPINFOHEADER).
"""

from __future__ import annotations

import struct
from collections.abc import Iterator

import numpy as np
import numpy.typing as npt

from needlewright.core.mending import plain_rows
from needlewright.core.mending.base import Change, Mended, Mender, Patient, Unmendable
from needlewright.core.mending.registry import register
from needlewright.core.mending.streams.pieces import Piece, writing

FILE_HEAD, HEAD = 14, 40
DEPTHS = (1, 4, 8, 16, 24, 32)
PLAIN = (0, 3)  # BI_RGB, BI_BITFIELDS
SIDE, MOST_BYTES = 32_767, 1 << 31
SEEN_BYTES = 1 << 22
LEAST_ROWS = 8
MOST_MISSING = 1 << 28  # bytes that are made neutral
MOST_EXTRA = 1 << 22  # bytes that may stand in it and are not its own
FITS = 0.6  # of what neighbours in a row differ by, if rows continue each other
GREY = 0x80
MASKS = 16  # bytes


def mend(patient: Patient) -> Iterator[Mended]:
    size = patient.source.size
    if not FILE_HEAD + HEAD < size <= MOST_BYTES:
        raise Unmendable("too-large" if size > MOST_BYTES else "nothing-decodes")
    stated = _stated(patient.source.read_at(0, FILE_HEAD + HEAD))
    yield _as_stated(patient, *stated) if stated is not None else _as_found(patient)


def _stated(head: bytes) -> tuple[int, int, int, int] | None:
    """(width, height, bits a pixel, bytes of the header) as the header says; None where it makes
    no sense."""
    length, width, height, planes, depth, coding = struct.unpack_from("<IiiHHI", head, 14)
    known = HEAD <= length <= 124 and planes == 1 and depth in DEPTHS and coding in PLAIN
    if not known or not 0 < width <= SIDE or not 0 < abs(height) <= SIDE:
        return None
    return width, height, depth, length


def _as_stated(patient: Patient, width: int, height: int, depth: int, length: int) -> Mended:
    """The picture that its header describes, with all of its rows."""
    source = patient.source
    head = source.read_at(0, FILE_HEAD)
    row, rows = -(-width * depth // 32) * 4, abs(height)
    colours = source.read_at(FILE_HEAD, length)
    used = int.from_bytes(colours[32:36], "little") or (1 << depth if depth <= 8 else 0)
    masks = 12 if length == HEAD and colours[16] == 3 else 0
    least = FILE_HEAD + length + masks + 4 * min(used, 256)
    at = int.from_bytes(head[10:14], "little")
    changes = []
    whole = at + row * rows
    if not least <= at <= least + 4096:
        at, whole = least, least + row * rows
    made = b"BM" + struct.pack("<IHHI", whole, 0, 0, at)
    if made[:2] + made[10:] != head[:2] + head[10:] or (
            int.from_bytes(head[2:6], "little") not in (0, whole)):
        changes.append(Change("sizes-corrected", {"count": 1}))
    pieces, lost = _rows(patient, (at, min(source.size, whole + MOST_EXTRA)), row, rows, depth)
    if lost is not None:
        # Rows are stored from the bottom, unless the height is below 0.
        first, stop = lost if height < 0 else (rows - lost[1], rows - lost[0])
        changes.append(Change("rows-missing", {
            "rows": stop - first, "total": rows, "areas": [[first, 0, stop, width]]}))
    if not changes:
        raise Unmendable("nothing-found")
    share = 1.0 if lost is None else 1 - (lost[1] - lost[0]) / rows
    before = None
    if lost is not None and lost[0] > 0 and lost[1] < rows:  # all rows behind them are displaced
        before = lost[0] / rows
    # Nothing checks samples: whole rows may be missing anywhere.
    return Mended(writing(source, [made, (FILE_HEAD, at), *pieces]), "bmp", tuple(changes),
                  round(share, 4), () if lost is None else ("unproven",), share_before=before)


def _rows(patient: Patient, span: tuple[int, int], row: int, rows: int, depth: int) -> tuple[
        list[Piece], tuple[int, int] | None]:
    """(the pieces of all rows, (first, stop) of those that are missing in part, in the order in
    which they are stored; None where none is). `span`: bytes of the file in which they stand."""
    source, (at, stop), need = patient.source, span, row * rows
    by = stop - at - need
    if stop - at < row:
        raise Unmendable("nothing-decodes")
    if -by > MOST_MISSING:
        raise Unmendable("too-large")
    grey = bytes([GREY if depth >= 24 else 0])
    place = None
    if by and depth >= 8 and stop - at <= plain_rows.MOST_BYTES:
        data = np.frombuffer(source.read_at(at, stop - at), np.uint8)
        place = plain_rows.displaced_from(data, row, depth // 8, by)
    if place is None:
        there = min(rows, (stop - at) // row)
        if there == rows:
            return [(at, at + need)], None
        return [(at, at + there * row), grey * row * (rows - there)], (there, rows)
    first, last = place // row, min(rows, (place + max(0, -by)) // row + 1)
    if by < 0:
        pieces: list[Piece] = [(at, at + place), grey * -by, (at + place, stop)]
    else:
        pieces = [(at, at + place), (at + place + by, stop)]
    return pieces, (first, last)


def _as_found(patient: Patient) -> Mended:
    """A picture of 24 or 32 bits a pixel whose header is lost: as wide as its rows continue each
    other. A sound file of the same size says it as well."""
    source = patient.source
    at = FILE_HEAD + HEAD
    length = source.size - at
    for reference in patient.references:
        head = reference.source.read_at(0, FILE_HEAD + HEAD)
        if reference.source.size != source.size or head[:2] != b"BM" or _stated(head) is None:
            continue
        begin = int.from_bytes(head[10:14], "little")
        pieces: list[Piece] = [reference.source.read_at(0, begin), (begin, source.size)]
        # A palette is each picture's own.
        doubts = ("unproven",) if begin > FILE_HEAD + HEAD + MASKS else ()
        return Mended(writing(source, pieces), "bmp",
                      (Change("header-lent", {"reference": reference.name}),), doubts=doubts,
                      reference=reference)
    width, depth = _width(np.frombuffer(source.read_at(at, SEEN_BYTES), np.uint8), length)
    row = -(-width * depth // 32) * 4
    rows = length // row
    made = b"BM" + struct.pack("<IHHI", at + row * rows, 0, 0, at) + struct.pack(
        "<IiiHHIIiiII", HEAD, width, rows, 1, depth, 0, row * rows, 2835, 2835, 0, 0)
    exact = length % row == 0
    changes = (Change("header-made"), Change("size-found", {"width": width, "height": rows}))
    return Mended(writing(source, [made, (at, at + row * rows)]), "bmp", changes, 1.0,
                  () if exact else ("unproven",))


def _width(data: npt.NDArray[np.uint8], length: int) -> tuple[int, int]:
    """(pixels of a row, bits a pixel) at which rows continue each other; Unmendable."""
    samples = data.astype(np.int16)
    found: list[tuple[float, float, int, int]] = []
    for depth in (24, 32):
        step = depth // 8
        beside = float(np.abs(samples[step:] - samples[:-step]).mean())
        for row in range(4 * LEAST_ROWS, min(len(data) // LEAST_ROWS, SIDE * step) + 1, 4):
            if length % row:
                continue  # a file has nothing but rows behind its header
            most = min(len(data) - row, 1 << 18)
            off = float(np.abs(samples[row : row + most] - samples[:most]).mean())
            found.append((off + beside, off / (beside + 0.5), row * 8 // depth, depth))
    best = min(found, default=None)
    if best is None or best[1] > 1 / FITS:
        raise Unmendable("size-unknown")
    return best[2], best[3]


register(Mender("bmp", frozenset(("bmp",)), mend))
