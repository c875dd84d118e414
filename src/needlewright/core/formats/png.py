"""PNG files (W3C PNG, third edition: 5 chunks, 9 filtering, 10 compression, 11 chunk types).

Big-endian; each chunk carries a CRC-32 over its type and data, which settles what is intact.
Where a CRC fails, the image data is inflated to find the first row that cannot be its own.
"""

from __future__ import annotations

import struct
import zlib
from dataclasses import dataclass, field

from needlewright.core.errors import FormatError
from needlewright.core.formats.base import Format, Signature
from needlewright.core.formats.exif import read_exif
from needlewright.core.formats.registry import register
from needlewright.core.sources.source import Source
from needlewright.core.sources.windows import BlockReader
from needlewright.core.structures.inflating import Inflater
from needlewright.core.structures.view import dimensions, end_mark, structure
from needlewright.core.walks import Break, Check, Facts, Kind, Outcome, Part, Walk

MAGIC = b"\x89PNG\r\n\x1a\n"
MAX_CHUNKS = 100_000
READ_BYTES = 1 << 20
SAMPLES = {0: 1, 2: 3, 3: 1, 4: 2, 6: 4}  # colour type -> samples a pixel
DEPTHS = {0: (1, 2, 4, 8, 16), 2: (8, 16), 3: (1, 2, 4, 8), 4: (8, 16), 6: (8, 16)}
INFLATE_STEP = 1 << 16
FIRST_LOOK = 1 << 14


@dataclass(slots=True)
class _State:
    """A walk in progress; `data` are the spans of the image data in file order."""

    start: int
    at: int
    width: int = 0
    height: int = 0
    row_bytes: int = 0
    interlaced: bool = False
    taken: str | None = None
    camera: str | None = None
    orientation: int = 1
    parts: list[Part] = field(default_factory=list)
    data: list[tuple[int, int]] = field(default_factory=list)
    chunks: int = 0
    ended: bool = False

    @property
    def expected(self) -> int:
        """Inflated size of a picture that is not interlaced, bytes."""
        return (self.row_bytes + 1) * self.height


def _crc(source: Source, start: int, stop: int) -> int:
    value = 0
    while start < stop:
        block = source.read_at(start, min(READ_BYTES, stop - start))
        if not block:
            raise FormatError("data-ends", offset=start)
        value = zlib.crc32(block, value)
        start += len(block)
    return value


def _read_header(state: _State, body: bytes) -> None:
    width, height, depth, colour, method, filters, interlace = struct.unpack(">IIBBBBB", body)
    if not 0 < width < 1 << 31 or not 0 < height < 1 << 31:
        raise FormatError("picture-without-size", offset=state.at)
    if depth not in DEPTHS.get(colour, ()) or method or filters or interlace > 1:
        raise FormatError("header-makes-no-sense", offset=state.at)
    state.width, state.height, state.interlaced = width, height, interlace == 1
    state.row_bytes = -(-width * SAMPLES[colour] * depth // 8)


def _chunk(source: Source, reader: BlockReader, state: _State, stop: int) -> None:
    """Take one chunk at `state.at`; FormatError names what is wrong with it."""
    at = state.at
    head = reader.read(at, 8)
    if len(head) < 8 or at + 12 > stop:
        raise FormatError("data-ends", offset=at)
    length, kind = struct.unpack(">I4s", head)
    if not kind.isalpha():
        raise FormatError("no-chunk", offset=at)
    body, end = at + 8, at + 8 + length
    if end + 4 > stop:
        if kind == b"IDAT" and state.chunks:
            state.data.append((body, stop))  # cut off: what is left of it is the picture's
        raise FormatError("chunk-reaches-past-end", offset=at)
    if state.chunks == 0 and (kind != b"IHDR" or length != 13):
        raise FormatError("first-chunk-no-header", offset=at)
    if kind == b"IDAT":
        state.data.append((body, end))
    if kind == b"IDAT" and len(state.data) == 1 and length > FIRST_LOOK:
        _begins_to_inflate(source, state, body)  # before its CRC is worth reading all of it
    stored = source.read_at(end, 4)
    if len(stored) != 4 or _crc(source, at + 4, end) != struct.unpack(">I", stored)[0]:
        raise FormatError("chunk-crc-wrong", offset=at)
    if kind == b"IHDR":
        _read_header(state, reader.read(body, length))
    elif kind == b"eXIf" and length <= 1 << 20:
        exif = read_exif(source.read_at(body, length))
        state.taken, state.camera, state.orientation = exif.taken, exif.camera, exif.orientation
    elif kind == b"IEND":
        state.ended = True
    name = kind.decode("ascii")
    if state.parts and state.parts[-1].name == name == "IDAT":
        state.parts[-1] = Part(name, state.parts[-1].start, end + 4)
    else:
        state.parts.append(Part(name, at, end + 4))
    state.chunks += 1
    state.at = end + 4


def _begins_to_inflate(source: Source, state: _State, body: int) -> None:
    inflater = Inflater(state.expected + state.row_bytes + 1)
    try:
        for _ in inflater.feed(source.read_at(body, FIRST_LOOK)):
            pass
    except FormatError as error:
        raise FormatError("picture-does-not-inflate", offset=body) from error


def _damage(source: Source, state: _State, problem: FormatError) -> tuple[Break, float]:
    """Where the picture's rows stop being its own, by inflating what image data there is."""
    row, offset = 0, problem.offset
    produced = 0
    inflater = Inflater(state.expected + state.row_bytes + 1, piece=INFLATE_STEP)
    step = source.sector_size
    for start, stop in state.data:
        at = start
        while at < stop:
            block = source.read_at(at, min(stop - at, step - (at - state.start) % step))
            cleared = len(block) == step and start >= problem.offset and not block.strip(b"\0")
            if not block or cleared:  # in a chunk with a wrong checksum nothing coded is blank
                return _at_row(state, at, row)
            try:
                good = _inflate(inflater, block, state, produced)
            except FormatError:
                return _at_row(state, at, produced // (state.row_bytes + 1))
            produced += good[0]
            row = produced // (state.row_bytes + 1)
            if not good[1]:
                return _at_row(state, at, row)
            offset = at = at + len(block)
    return _at_row(state, max(problem.offset, offset) if state.data else problem.offset, row)


def _inflate(inflater: Inflater, block: bytes, state: _State,
             produced: int) -> tuple[int, bool]:
    """(bytes inflated from `block`, whether all row filters in them are valid)."""
    made = 0
    line = state.row_bytes + 1
    for out in inflater.feed(block):
        if not state.interlaced:
            first = -(produced + made) % line
            for at in range(first, len(out), line):
                if out[at] > 4:
                    return made + at, False
        made += len(out)
    return made, not inflater.too_much


def _at_row(state: _State, offset: int, row: int) -> tuple[Break, float]:
    sector = (offset - state.start) // 512 * 512 + state.start
    row = min(row, state.height)
    share = row / state.height if state.height else 0.0
    found = Break(max(sector, state.start + 8), "crc", offset, row)
    return found, round(min(share, 0.9999), 4)


def walk(source: Source, start: int, stop: int) -> Walk:
    """Follow the PNG at `start`, never past `stop`; FormatError if no picture begins there."""
    state = _State(start, start + 8)
    reader = BlockReader(source)
    problem: FormatError | None = None
    try:
        for _ in range(MAX_CHUNKS):
            _chunk(source, reader, state, stop)
            if state.ended:
                break
        else:
            raise FormatError("too-many-chunks", offset=state.at)
        if not state.data:
            raise FormatError("no-image-data", offset=state.at)
    except FormatError as error:
        problem = error
    if state.chunks == 0:
        raise problem or FormatError("no-header", offset=start)
    broken, share, end = None, 1.0, state.at
    if problem is not None:
        broken, share = _damage(source, state, problem)
        end = max(broken.offset, start + 8)
    return Walk(
        start, end, state.ended, broken, share,
        Facts(state.width, state.height, state.taken, state.camera, state.orientation),
        tuple(state.parts), checks=_checks(state, problem, broken, start),
        # Chunks in front have proven checksums; behind them, foreign data inflates for a while.
        verified=None if broken is None else min(state.at, end),
    )


def _checks(state: _State, problem: FormatError | None, broken: Break | None,
            start: int) -> tuple[Check, ...]:
    if problem is None:
        coded = Check("coded data", Outcome.PASS, "crc-agree", {"chunks": state.chunks},
                      content=True)
    else:
        coded = Check("coded data", Outcome.FAIL, "coded-broken", {
            "why": "crc", "row": broken.row if broken else None, "rows": state.height,
            "scan": 1, "scans": None}, content=True)
    return (structure(problem, start, len(state.parts)), coded, end_mark(state.ended),
            dimensions(state.width, state.height))


register(Format(
    name="png", kind=Kind.PHOTO, extension="png", signatures=(Signature(MAGIC),),
    accept=lambda head: head[:8] == MAGIC, walk=walk, decoder="PNG",
    aliases={"apng": "png"}, checked=True, object_formats={"png": 0x380B},
))
