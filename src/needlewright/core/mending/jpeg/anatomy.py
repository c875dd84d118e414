"""What a damaged JPEG still says of itself: its segments, its tables, where its coded data lies.

ITU-T T.81 annex B. Unlike the walk of the format, nothing here minds what the coded data is like.
"""

from __future__ import annotations

import struct
from dataclasses import dataclass, field, replace

import numpy as np
import numpy.typing as npt

from needlewright.core.errors import FormatError
from needlewright.core.formats import jpeg_segments as seg
from needlewright.core.kernels.jpeg_coefficients import Coding

MAX_PIXELS = 110_000_000
SIZE_AT = 5  # bytes from the start of a frame header: marker, length, precision


@dataclass(frozen=True, slots=True)
class Segment:
    """One marker segment; `start` is at its FF, `stop` behind it, bytes of the file."""

    marker: int
    start: int
    stop: int


@dataclass(slots=True)
class Head:
    """The segments up to the first scan, and what they say. `data`: the file they stand in;
    `begin`: where coded data begins; `tables`: quantisers float32[64] in zig-zag order."""

    data: bytes
    segments: list[Segment] = field(default_factory=list)
    headers: seg.Headers = field(default_factory=seg.Headers)
    tables: dict[int, npt.NDArray[np.float32]] = field(default_factory=dict)
    scan: seg.ScanHeader | None = None
    begin: int = 0

    @property
    def frame(self) -> seg.Frame:
        frame = self.headers.frame
        if frame is None:
            raise FormatError("no-picture", offset=0)
        return frame

    def body(self, segment: Segment) -> bytes:
        return self.data[segment.start + 4 : segment.stop]


def read_head(data: bytes, at: int = 2, until: int | None = None) -> Head:
    """The head whose first segment stands at `at`; FormatError where the segments do not lead to a
    scan, or where a scan cannot be decoded with them. `until`: where the scan's coded data must
    begin."""
    head = Head(data)
    for _ in range(seg.MAX_SEGMENTS):
        while data[at : at + 2] == b"\xff\xff":
            at += 1
        segment = _segment(data, at)
        if segment.marker == seg.SOS:
            head.scan = seg.read_scan(head.headers, head.body(segment), at + 4)
            head.segments.append(segment)
            head.begin = segment.stop
            if until is not None and head.begin != until:
                raise FormatError("marker-misplaced", offset=at)
            return head
        take(head, segment)
        at = segment.stop
    raise FormatError("too-many-segments", offset=at)


def _segment(data: bytes, at: int) -> Segment:
    """The segment at `at`; FormatError where none stands whole."""
    if at + 4 > len(data) or data[at] != 0xFF:
        raise FormatError("no-marker", offset=at)
    marker = data[at + 1]
    (length,) = struct.unpack_from(">H", data, at + 2)
    if marker < 0xC0 or 0xD0 <= marker <= 0xD9 or length < 2 or at + 2 + length > len(data):
        raise FormatError("marker-misplaced", offset=at)
    return Segment(marker, at, at + 2 + length)


def take(head: Head, segment: Segment) -> None:
    """Take one segment into `head`; FormatError where it makes no sense."""
    body = head.body(segment)
    seg.read_segment(head.headers, segment.marker, body, segment.start + 4, 0)
    if segment.marker == seg.DQT:
        place = 0
        while place < len(body):
            wide, number = body[place] >> 4, body[place] & 15
            kind, size = (">u2", 128) if wide else ("u1", 64)
            values = np.frombuffer(body[place + 1 : place + 1 + size], kind)
            head.tables[number] = values.astype(np.float32)
            place += 1 + size
    head.segments.append(segment)


def restated(head: Head, frame: seg.Frame) -> tuple[bytes, Head]:
    """(the file, its head) with the size of `frame`."""
    at = next(s.start for s in head.segments if s.marker in seg.FRAMES) + SIZE_AT
    size = struct.pack(">HH", frame.height, frame.width)
    data = head.data[:at] + size + head.data[at + len(size) :]
    return data, replace(head, data=data, headers=replace(head.headers, frame=frame))


@dataclass(frozen=True, slots=True)
class Layout:
    """How a sequential picture with one interleaved scan is laid out in MCUs. `dx`, `dy`
    int64[blocks]: place of each block in its MCU; `quantisers` float32[components, 64]."""

    coding: Coding
    dx: npt.NDArray[np.int64]
    dy: npt.NDArray[np.int64]
    quantisers: npt.NDArray[np.float32]
    per_row: int
    rows: int
    restart: int

    @property
    def total(self) -> int:
        return self.per_row * self.rows


def layout_of(head: Head) -> Layout:
    """FormatError for what is not sequential, not in one scan, or lacks tables."""
    frame, scan = head.frame, head.scan
    assert scan is not None
    if frame.marker not in seg.SEQUENTIAL or frame.precision != 8:
        raise FormatError("coded-unknown", offset=0)
    if len(scan.members) != len(frame.components):
        raise FormatError("scans-apart", offset=0)
    if not 0 < frame.width * frame.height <= MAX_PIXELS:
        raise FormatError("dimensions-implausible", offset=0)
    huffman = head.headers.huffman
    keys = sorted(huffman)
    blocks = []
    dc, ac = [0] * len(scan.members), [0] * len(scan.members)
    for index, dc_name, ac_name in scan.members:
        if (0, dc_name) not in huffman or (1, ac_name) not in huffman:
            raise FormatError("huffman-table-missing", offset=0)
        dc[index], ac[index] = keys.index((0, dc_name)), keys.index((1, ac_name))
        component = frame.components[index]
        blocks += [(index, x, y) for y in range(component.vertical)
                   for x in range(component.horizontal)]
    quantisers = []
    for component in frame.components:
        if component.quantiser not in head.tables:
            raise FormatError("quantiser-table-missing", offset=0)
        quantisers.append(head.tables[component.quantiser])
    table = np.array(blocks, np.int64)
    steps = np.stack(quantisers)
    limit = np.minimum(1024 * 1.15 // np.maximum(steps[:, 0], 1) + 2, 32_000).astype(np.int64)
    coding = Coding(table[:, 0].copy(), np.array(dc, np.int64), np.array(ac, np.int64), limit,
                    tuple(huffman[k] for k in keys))
    return Layout(coding, table[:, 1].copy(), table[:, 2].copy(), steps, frame.mcus_per_row,
                  frame.mcu_rows, head.headers.restart_interval)
