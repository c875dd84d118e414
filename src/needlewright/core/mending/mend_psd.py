"""PSD and PSB: the header from the merged picture at the end, whose table of rows says how many
there are and how long; rows that do not unpack become neutral (Adobe Photoshop File Formats
Specification, 2019: file header, image data).
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from needlewright.core.kernels.foreign import runs_make
from needlewright.core.mending import plain_rows
from needlewright.core.mending.base import Change, Mended, Mender, Patient, Unmendable
from needlewright.core.mending.registry import register
from needlewright.core.mending.streams.pieces import writing

HEADER = 26
MAX_BYTES = 1 << 28
RAW, RUNS = 0, 1
MOST_ROWS = 4 * 30_000
MOST_SIDE = 30_000
LEAST_ROWS = 16
MOST_PLACES, LONGER = 1 << 18, 64  # times that one of the first rows may be longer than another
MOST_BEHIND = 3  # bytes that may follow the last row
SAMPLE_ROWS = 24  # of each channel by which their number is told
ALIKE = 0.5  # correlation of two channels of one picture
GREY, RGB = 1, 3  # colour modes
NEUTRAL = 0x80
MOST_TOLD = 40


@dataclass(frozen=True, slots=True)
class _Shape:
    """What the header says; `mode`: of colours."""

    version: int
    channels: int
    height: int
    width: int
    depth: int
    mode: int

    @property
    def row_bytes(self) -> int:
        return -(-self.width * self.depth // 8)

    @property
    def count_bytes(self) -> int:
        return 2 * self.version

    @property
    def packed(self) -> bytes:
        return b"8BPS" + struct.pack(">H6xHIIHH", self.version, self.channels, self.height,
                                     self.width, self.depth, self.mode)


def mend(patient: Patient) -> Iterator[Mended]:
    size = patient.source.size
    if not HEADER + 16 <= size <= MAX_BYTES:
        raise Unmendable("too-large" if size > MAX_BYTES else "nothing-decodes")
    data = patient.source.read_at(0, size)
    patient.breathe(0.1)
    shape = _stated(data)
    changes: list[Change] = []
    doubts: tuple[str, ...] = ()
    at = _sections_end(data, shape.version if shape is not None else 1)
    if shape is None:
        found = _found(data, at)
        if found is None:
            raise Unmendable("size-unknown")
        shape, start = found
        changes.append(Change("header-made"))
        if shape.channels != 3:
            doubts = ("unproven",)  # what the channels are, nothing says
    else:
        known = at if at is not None else _table_of(data, shape)
        if known is None:
            raise Unmendable("nothing-decodes")
        start = known
    if at != start:
        changes.append(Change("layers-left-out"))
    patient.breathe(0.4)
    made, bad = _picture(data, start, shape)
    if len(bad) == shape.channels * shape.height:
        raise Unmendable("nothing-decodes")
    if bad:
        rows = sorted({row % shape.height for row in bad})
        changes.append(Change("rows-missing", {
            "rows": len(rows), "total": shape.height, "areas": [
                [top, 0, bottom, shape.width] for top, bottom in plain_rows.merged(
                    [(row, row + 1) for row in rows])[:MOST_TOLD]]}))
    if not changes:
        raise Unmendable("nothing-found")
    middle = (HEADER, start) if at == start else bytes(12 if shape.version == 1 else 16)
    share = 1 - len(bad) / (shape.channels * shape.height)
    yield Mended(writing(patient.source, [shape.packed, middle, made]), "psd", tuple(changes),
                 round(share, 4), doubts)


def _stated(data: bytes) -> _Shape | None:
    """What the header says; None where it makes no sense."""
    version, channels, height, width, depth, mode = struct.unpack_from(">H6xHIIHH", data, 4)
    fine = (data[:4] == b"8BPS" and version in (1, 2) and 1 <= channels <= 56
            and 1 <= height <= 10 * MOST_SIDE and 1 <= width <= 10 * MOST_SIDE
            and depth in (1, 8, 16, 32))
    return _Shape(version, channels, height, width, depth, mode) if fine else None


def _sections_end(data: bytes, version: int) -> int | None:
    """Where the sections between the header and the merged picture end, by their lengths; None
    where these do not lead on."""
    at = HEADER
    for wide in (4, 4, 4 * version):
        length = int.from_bytes(data[at : at + wide], "big")
        if at + wide + length + 2 > len(data):
            return None
        if at > HEADER and wide == 4 and length and data[at + 4 : at + 8] != b"8BIM":
            return None
        at += wide + length
    return at if int.from_bytes(data[at : at + 2], "big") in (RAW, RUNS) else None


def _rows_at(data: bytes, at: int, wide: int) -> int | None:
    """How many rows the table at `at` is of, that ends with the data; None where there is none."""
    room = data[at : at + MOST_ROWS * wide]
    counts = np.frombuffer(room[: len(room) // wide * wide], f">u{wide}").astype(np.int64)
    reach = at + np.arange(1, counts.size + 1) * wide + np.cumsum(counts)
    hits = np.flatnonzero((reach <= len(data)) & (reach >= len(data) - MOST_BEHIND)
                          & (counts > 1))
    return int(hits[0]) + 1 if hits.size and hits[0] + 1 >= LEAST_ROWS else None


def _found(data: bytes, at: int | None) -> tuple[_Shape, int] | None:
    """(what the header must have said, where the merged picture begins), by its table of rows."""
    for place in (*([] if at is None else [at]), *_tables(data, 2)):
        rows = _rows_at(data, place + 2, 2)
        shape = None if rows is None else _shape_of(data, place, rows)
        if shape is not None:
            return shape, place
    return None


def _shape_of(data: bytes, place: int, rows: int) -> _Shape | None:
    """The shape of a picture whose table of `rows` begins behind byte `place`."""
    starts = _starts(data, place, rows, 2)
    first = _unpacked(data[starts[0] : starts[1]])
    row = len(first)
    if not 1 <= row <= 2 * MOST_SIDE:
        return None
    sample = range(0, rows, max(1, rows // SAMPLE_ROWS))
    if any(len(_unpacked(data[starts[n] : starts[n + 1]])) != row for n in sample):
        return None
    line = np.frombuffer(first, np.uint8).astype(np.int16)
    fine = np.abs(np.diff(line)).mean() if row > 8 else 0
    deep = row % 2 == 0 and row > 8 and np.abs(line[2:] - line[:-2]).mean() < 0.6 * fine
    best, channels = ALIKE, 1
    for count in (3, 4):
        alike = _alike(data, starts, rows // count, 2 if deep else 1) if rows % count == 0 else 0.0
        if alike > best:
            best, channels = alike, count
    height = rows // channels
    width = row // (2 if deep else 1)
    if height > MOST_SIDE or width > MOST_SIDE:
        return None
    return _Shape(1, channels, height, width, 16 if deep else 8, GREY if channels == 1 else RGB)


def _alike(data: bytes, starts: npt.NDArray[np.int64], height: int, step: int) -> float:
    """How the first and the second channel go together, were they of `height` rows."""
    pairs = []
    for row in range(0, height, max(1, height // SAMPLE_ROWS)):
        one, two = (np.frombuffer(_unpacked(data[starts[n] : starts[n + 1]]), np.uint8)[::step]
                    for n in (row, height + row))
        if one.size == two.size:
            pairs.append((one, two))
    if not pairs:
        return 0.0
    one, two = (np.concatenate(part).astype(float) for part in zip(*pairs))
    return float(np.corrcoef(one, two)[0, 1]) if one.std() and two.std() else 0.0


def _table_of(data: bytes, shape: _Shape) -> int | None:
    """Where the merged picture begins that the header tells of, by its table of rows."""
    rows, wide = shape.channels * shape.height, shape.count_bytes
    return next((p for p in _tables(data, wide) if _rows_at(data, p + 2, wide) == rows), None)


def _tables(data: bytes, wide: int) -> Iterator[int]:
    """Where tables of rows may begin: their first entries are lengths that are much alike."""
    place = data.find(b"\0\1", HEADER)
    for _ in range(MOST_PLACES):
        if place < 0 or place + 2 + LEAST_ROWS * wide > len(data):
            return
        counts = [int.from_bytes(data[at : at + wide], "big") for at in range(
            place + 2, place + 2 + LEAST_ROWS * wide, wide)]
        if min(counts) > 1 and max(counts) <= LONGER * min(counts):
            yield place
        place = data.find(b"\0\1", place + 1)


def _starts(data: bytes, place: int, rows: int, wide: int) -> npt.NDArray[np.int64]:
    """int64[rows + 1]: where each row begins, and where the last ends."""
    table = data[place + 2 : place + 2 + rows * wide]
    counts = np.frombuffer(table.ljust(rows * wide, b"\0"), f">u{wide}").astype(np.int64)
    starts: npt.NDArray[np.int64] = place + 2 + rows * wide + np.concatenate(
        ([0], np.cumsum(counts)))
    return starts


def _picture(data: bytes, place: int, shape: _Shape) -> tuple[bytes, list[int]]:
    """(the merged picture, rows of it, channel by channel, that are neutral now)."""
    rows, row = shape.channels * shape.height, shape.row_bytes
    if rows * (row // 64 + 4) > MAX_BYTES:
        raise Unmendable("too-large")
    if int.from_bytes(data[place : place + 2], "big") == RAW:
        if rows * row > MAX_BYTES:
            raise Unmendable("too-large")
        there = (len(data) - place - 2) // row
        bad = list(range(min(rows, there), rows))
        return data[place : place + 2 + min(rows, there) * row] + bytes(
            [NEUTRAL]) * (row * len(bad)), bad
    wide = shape.count_bytes
    if place + 2 + rows * wide > len(data):
        raise Unmendable("nothing-decodes")
    starts = _starts(data, place, rows, wide).tolist()
    grey = b"".join(bytes((257 - min(128, row - at), NEUTRAL)) if row - at > 1 else bytes(
        (0, NEUTRAL)) for at in range(0, row, 128))
    parts: list[bytes] = []
    bad = []
    for number in range(rows):
        part = data[starts[number] : starts[number + 1]]
        if starts[number + 1] > len(data) or not runs_make(np.frombuffer(part, np.uint8), row):
            part = grey
            bad.append(number)
        parts.append(part)
    counts = np.array([len(p) for p in parts], f">u{wide}").tobytes()
    return data[place : place + 2] + counts + b"".join(parts), bad


def _unpacked(data: bytes) -> bytes:
    """Runs of bytes (TIFF 6.0, section 9); as far as they go."""
    out, at = bytearray(), 0
    while at < len(data) and len(out) <= 2 * MOST_SIDE:
        count = data[at]
        if count < 128:
            out += data[at + 1 : at + 2 + count]
            at += 2 + count
        else:
            out += data[at + 1 : at + 2] * (257 - count if count > 128 else 0)
            at += 2 if count > 128 else 1
    return bytes(out)


register(Mender("psd", frozenset(("psd", "psb")), mend))
