"""JPEG marker segments: frame, tables, scans (ITU-T T.81 annex B), JFIF, EXIF, MPF (CIPA DC-007).

Big-endian; a segment's length counts its own two bytes. Arithmetic coding, lossless and
hierarchical frames are recognised, and their coded data is left unchecked.
"""

from __future__ import annotations

import re
import struct
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from needlewright.core.errors import FormatError
from needlewright.core.formats.exif import Exif, read_exif
from needlewright.core.kernels.jpeg_bits import HuffmanTable, build_huffman
from needlewright.core.sources.source import Source

MAX_SEGMENTS = 20_000  # real files hold a few dozen; hostile ones must end
MAX_COMPONENTS = 4
MAX_HEADER = 1 << 22  # bytes before the first scan

FIRST_MARKER = 0xC0  # those below are reserved (T.81, table B.1)
SOI, EOI, SOS, DQT, DHT, DRI, DNL, APP0, APP1, APP2, APP15, COM = (
    0xD8, 0xD9, 0xDA, 0xDB, 0xC4, 0xDD, 0xDC, 0xE0, 0xE1, 0xE2, 0xEF, 0xFE)
FRAMES = frozenset(range(0xC0, 0xD0)) - {0xC4, 0xC8, 0xCC}
AFTER_SCAN = frozenset({EOI, SOS, DHT, DQT, DRI, DNL, COM})
SEQUENTIAL = frozenset({0xC0, 0xC1})
PROGRESSIVE = 0xC2

# XMP properties that announce an appended clip; 0 says that there is none.
HAS_CLIP = re.compile(rb"(?:MotionPhoto|MicroVideo)[=>]\s*[\"']?1")
# What an editor writes down of its work (XMP media management, ISO 16684-1, 8.4 and 8.6; raw
# settings). Cameras have nothing to tell there.
EDITED = re.compile(rb"stEvt:action\s*[=>]|<stEvt:action\b|xmpMM:DerivedFrom|"
                    rb"crs:(?:HasSettings|AlreadyApplied)\s*[=>]\s*[\"']?[Tt]rue")
CHANGED = re.compile(rb"xmp:(Create|Modify)Date\s*[=>]\s*[\"']?([0-9T:.+-]{10,35})")
# A sector; how many different bytes one of coded data has at least; how a file begins.
SECTOR, CODED, SOI_NEXT = 512, 200, b"\xff\xd8\xff"
XMP = b"http://ns.adobe.com/xap/1.0/\0"
ICC_FIRST = b"ICC_PROFILE\0\x01"  # the first of its chunks (ICC.1:2010, B.4)

# zig-zag positions of coefficients (0,0), (1,0) and (2,0): rows of vertical frequency
DC_AT, VERTICAL_1_AT, VERTICAL_2_AT = 0, 2, 3


@dataclass(frozen=True, slots=True)
class Component:
    identifier: int
    horizontal: int
    vertical: int
    quantiser: int


@dataclass(frozen=True, slots=True)
class Frame:
    """A frame header; sizes in pixels."""

    marker: int
    precision: int
    width: int
    height: int
    components: tuple[Component, ...]

    @property
    def max_horizontal(self) -> int:
        return max(c.horizontal for c in self.components)

    @property
    def max_vertical(self) -> int:
        return max(c.vertical for c in self.components)

    @property
    def mcus_per_row(self) -> int:
        return -(-self.width // (8 * self.max_horizontal))

    @property
    def mcu_rows(self) -> int:
        return -(-self.height // (8 * self.max_vertical))

    def component_blocks(self, index: int) -> tuple[int, int]:
        """(columns, rows) of blocks in a scan of this component alone (T.81 A.2.2)."""
        c = self.components[index]
        wide = -(-self.width * c.horizontal // self.max_horizontal)
        high = -(-self.height * c.vertical // self.max_vertical)
        return -(-wide // 8), -(-high // 8)


@dataclass(frozen=True, slots=True)
class ScanHeader:
    """A scan header: (component index, DC table, AC table) each, spectral band, bit positions."""

    members: tuple[tuple[int, int, int], ...]
    band: tuple[int, int]
    high: int
    low: int


@dataclass(slots=True)
class Headers:
    """What the segments before and between the scans have said so far."""

    frame: Frame | None = None
    huffman: dict[tuple[int, int], HuffmanTable] = field(default_factory=dict)
    quantisers: dict[int, tuple[int, int, int]] = field(default_factory=dict)
    restart_interval: int = 0
    exif: Exif | None = None
    exif_at: int = 0  # absolute offset of the TIFF block
    appended: list[tuple[int, int]] = field(default_factory=list)  # MPF: absolute offset, size
    doubts: list[str] = field(default_factory=list)  # segments whose content is not theirs
    has_clip: bool = False  # XMP announces one behind the picture
    edited: bool = False  # XMP tells of an editor: thumbnail and clip may be those of before
    has_own_marker: bool = False  # an APPn segment: a file, not a bare thumbnail


def read_headers(source: Source) -> tuple[Headers, ScanHeader, int]:
    """(headers, first scan, byte where its coded data begins) of the JPEG at byte 0 of `source`.
    FormatError where they do not come to a scan."""
    headers, at = Headers(), 2
    for _ in range(MAX_SEGMENTS):
        head = source.read_at(at, 4)
        if len(head) < 4 or head[0] != 0xFF or at > MAX_HEADER:
            raise FormatError("no-marker", offset=at)
        marker = head[1]
        if marker == 0xFF:
            at += 1
            continue
        if marker in (0, SOI, EOI) or 0xD0 <= marker <= 0xD7:
            raise FormatError("marker-misplaced", offset=at)
        (length,) = struct.unpack(">H", head[2:])
        body = source.read_at(at + 4, length - 2) if length >= 2 else b""
        if length < 2 or len(body) < length - 2:
            raise FormatError("segment-too-short", offset=at)
        if marker == SOS:
            return headers, read_scan(headers, body, at + 4), at + 2 + length
        read_segment(headers, marker, body, at + 4, 0)
        at += 2 + length
    raise FormatError("too-many-segments", offset=at)


def read_segment(headers: Headers, marker: int, body: bytes, at: int, file_start: int) -> None:
    """Take in one segment; `body` without the length field, `at` its absolute offset."""
    if marker in FRAMES:
        if headers.frame is not None:
            raise FormatError("second-frame-header", offset=at)
        headers.frame = _read_frame(marker, body, at)
    elif marker == DHT:
        _read_huffman(headers, body, at)
    elif marker == DQT:
        _read_quantisers(headers, body, at)
    elif marker == DRI:
        if len(body) != 2:
            raise FormatError("restart-interval-length", offset=at)
        headers.restart_interval = struct.unpack(">H", body)[0]
    elif APP0 <= marker <= APP15:
        headers.has_own_marker = True
        if _is_taken_over(body, at):
            headers.doubts.append("reserved room")
        _read_application(headers, marker, body, at, file_start)


def _read_application(headers: Headers, marker: int, body: bytes, at: int,
                      file_start: int) -> None:
    if marker == APP1:
        if body[:6] == b"Exif\0\0" and headers.exif is None:
            headers.exif, headers.exif_at = read_exif(body[6:]), at + 6
        elif body.startswith(XMP):
            if not _is_text(body[len(XMP):]):
                headers.doubts.append("XMP")
            headers.has_clip = headers.has_clip or HAS_CLIP.search(body) is not None
            headers.edited = headers.edited or _tells_of_editing(body)
    elif marker == APP2 and body[:13] == ICC_FIRST and body[14 + 36 : 14 + 40] != b"acsp":
        headers.doubts.append("ICC profile")  # ICC.1:2010, 7.2: the profile file signature
    elif marker == APP2 and body[:4] == b"MPF\0":
        headers.appended = _read_mpf(body[4:], at + 4)


def _is_taken_over(body: bytes, at: int) -> bool:
    """Whether room that a camera reserved, and left blank, goes over into coded data just where a
    sector of the medium begins: another file does. `at`: of `body`, on the medium."""
    first = -at % SECTOR
    sectors = np.frombuffer(body, np.uint8)[first:]
    sectors = sectors[: sectors.size // SECTOR * SECTOR].reshape(-1, SECTOR)
    blank: npt.NDArray[np.bool_] = sectors.max(axis=1, initial=0) == 0
    for row in (np.flatnonzero(blank[:-1] & ~blank[1:]) + 1).tolist():
        begun = bytes(sectors[row, :4])
        coded = int(np.unique(sectors[row]).size) >= CODED
        if begun[0] and (coded or begun[:3] == SOI_NEXT):
            return True
    return False


def _tells_of_editing(xmp: bytes) -> bool:
    """Whether an editor left its marks, or the time of change is another than that of making."""
    dates = dict(CHANGED.findall(xmp))
    return EDITED.search(xmp) is not None or (
        len(dates) == 2 and dates[b"Create"][:19] != dates[b"Modify"][:19])


def _is_text(body: bytes) -> bool:
    """Whether XMP (ISO 16684-1: UTF-8) is text all through, as foreign data hardly ever is."""
    try:
        text = body.decode("utf-8")
    except UnicodeDecodeError:
        return False
    return not any(c < " " and c not in "\t\n\r" for c in text.rstrip("\0"))


def _read_frame(marker: int, body: bytes, at: int) -> Frame:
    if len(body) < 6:
        raise FormatError("frame-header-too-short", offset=at)
    precision, height, width, count = struct.unpack_from(">BHHB", body)
    if len(body) != 6 + 3 * count or not 1 <= count <= MAX_COMPONENTS or width == 0:
        raise FormatError("frame-header-makes-no-sense", offset=at)
    if precision not in (8, 12, 16):
        raise FormatError("bits-a-sample", offset=at, bits=precision)
    components = []
    for index in range(count):
        identifier, sampling, quantiser = body[6 + 3 * index : 9 + 3 * index]
        horizontal, vertical = sampling >> 4, sampling & 15
        if not 1 <= horizontal <= 4 or not 1 <= vertical <= 4 or quantiser > 3:
            raise FormatError("sampling-makes-no-sense", offset=at)
        components.append(Component(identifier, horizontal, vertical, quantiser))
    if count == 1:  # a single component is never interleaved: its factors mean nothing
        components = [Component(components[0].identifier, 1, 1, components[0].quantiser)]
    return Frame(marker, precision, width, height, tuple(components))


def _read_huffman(headers: Headers, body: bytes, at: int) -> None:
    place = 0
    while place < len(body):
        counts = body[place + 1 : place + 17]
        total = sum(counts)
        symbols = body[place + 17 : place + 17 + total]
        if len(counts) != 16 or len(symbols) != total or total > 256:
            raise FormatError("huffman-table-short", offset=at + place)
        group, number = body[place] >> 4, body[place] & 15
        if group > 1 or number > 3:
            raise FormatError("huffman-table-place", offset=at + place)
        try:
            headers.huffman[group, number] = build_huffman(counts, symbols)
        except ValueError as error:
            raise FormatError("huffman-table-overfull", offset=at + place) from error
        place += 17 + total


def _read_quantisers(headers: Headers, body: bytes, at: int) -> None:
    place = 0
    while place < len(body):
        wide, number = body[place] >> 4, body[place] & 15
        size = 128 if wide else 64
        table = body[place + 1 : place + 1 + size]
        if wide > 1 or number > 3 or len(table) != size:
            raise FormatError("quantiser-table-makes-no-sense", offset=at + place)
        values = struct.unpack(">64H", table) if wide else tuple(table)
        headers.quantisers[number] = (
            values[DC_AT], values[VERTICAL_1_AT], values[VERTICAL_2_AT])
        place += 1 + size


def read_scan(headers: Headers, body: bytes, at: int) -> ScanHeader:
    """The scan header in `body`; FormatError where it does not fit its frame."""
    frame = headers.frame
    if frame is None:
        raise FormatError("scan-before-frame", offset=at)
    count = body[0] if body else 0
    if not 1 <= count <= len(frame.components) or len(body) != 4 + 2 * count:
        raise FormatError("scan-header-makes-no-sense", offset=at)
    places = {c.identifier: i for i, c in enumerate(frame.components)}
    members = []
    for index in range(count):
        identifier, tables = body[1 + 2 * index], body[2 + 2 * index]
        if identifier not in places or tables >> 4 > 3 or tables & 15 > 3:
            raise FormatError("scan-names-unknown-component", offset=at)
        members.append((places[identifier], tables >> 4, tables & 15))
    if len({m[0] for m in members}) != count:
        raise FormatError("scan-names-component-twice", offset=at)
    start, stop, bits = body[-3], body[-2], body[-1]
    if frame.marker == PROGRESSIVE and (
        start > stop or stop > 63 or (start == 0 and stop != 0) or (start > 0 and count != 1)
        or bits & 15 > 13
    ):
        raise FormatError("scan-band-makes-no-sense", offset=at)
    return ScanHeader(tuple(members), (start, stop), bits >> 4, bits & 15)


def _read_mpf(block: bytes, at: int) -> list[tuple[int, int]]:
    """(absolute offset, size) of the images that an MP index appends (CIPA DC-007, 5.2.3)."""
    order = {b"II*\0": "<", b"MM\0*": ">"}.get(block[:4])
    if order is None or len(block) < 8:
        return []
    ifd = struct.unpack_from(order + "I", block, 4)[0]
    if ifd + 2 > len(block):
        return []
    found: list[tuple[int, int]] = []
    for index in range(struct.unpack_from(order + "H", block, ifd)[0]):
        place = ifd + 2 + 12 * index
        if place + 12 > len(block):
            break
        tag, _, count, where = struct.unpack_from(order + "HHII", block, place)
        if tag != 0xB002 or where + count > len(block):
            continue
        for entry in range(min(count // 16, 64)):
            _, size, offset = struct.unpack_from(order + "III", block, where + 16 * entry)
            if offset:  # the first image has offset 0: it is this file
                found.append((at + offset, size))
    return found
