"""ASF clips and sound, WMV and WMA (Advanced Systems Format Specification 1.20.06).

Little-endian GUID objects: header, data of equal packets, indexes.
"""

from __future__ import annotations

import uuid

from needlewright.core.decoders import Decoder
from needlewright.core.errors import FormatError
from needlewright.core.formats.base import Format, Signature
from needlewright.core.formats.registry import register
from needlewright.core.sources.source import Source
from needlewright.core.structures.view import Parts, View, end_mark, structure
from needlewright.core.walks import Break, Check, Facts, Kind, Outcome, Variant, Walk


def _guid(text: str) -> bytes:
    return uuid.UUID(text).bytes_le


HEADER = _guid("75B22630-668E-11CF-A6D9-00AA0062CE6C")
DATA = _guid("75B22636-668E-11CF-A6D9-00AA0062CE6C")
FILE_PROPERTIES = _guid("8CABDCA1-A947-11CF-8EE4-00C00C205365")
STREAM_PROPERTIES = _guid("B7DC0791-A9B7-11CF-8EE6-00C00C205365")
VIDEO_MEDIA = _guid("BC19EFC0-5B4D-11CF-A8FD-00805F5C442B")
SIMPLE_INDEX = _guid("33000890-E5B1-11CF-89F4-00A0C90349CB")
INDEX = _guid("D6E229D3-35DA-11D1-9034-00A0C90349BE")
MEDIA_INDEX = _guid("FEB103F8-12AD-4C64-840F-2A1D2F7AD48C")
TIMECODE_INDEX = _guid("3CB73FD0-0C4A-4803-953D-EDF7B6228F0C")
INDEXES = (SIMPLE_INDEX, INDEX, MEDIA_INDEX, TIMECODE_INDEX)
MAX_HEADER = 1 << 24
MAX_SLACK = 1 << 16  # behind the packets in their object
WMV = Variant("wmv", "wmv", Kind.VIDEO, Decoder.CLIP)
WMA = Variant("wma", "wma", Kind.AUDIO, Decoder.SOUND)


class _Asf:
    """One walk: what the header states, and how far the packets are in order."""

    def __init__(self, view: View) -> None:
        self.view, self.parts = view, Parts()
        self.packet_bytes = self.packets = self.good_packets = 0
        self.duration_s: float | None = None
        self.size: tuple[int, int] | None = None
        self.broadcast = False
        self.video = self.has_stream = False
        self.at = view.start

    def header(self) -> None:
        view, start = self.view, self.view.start
        size, count = view.little(start + 16, 8), view.little(start + 24, 4)
        if not 30 < size <= MAX_HEADER or not 1 <= count <= 1000:
            raise FormatError("header-makes-no-sense", offset=start + 16)
        at, stop = start + 30, start + size
        while at + 24 <= stop:
            guid, length = view.take(at, 16), view.little(at + 16, 8)
            if length < 24 or at + length > stop:
                raise FormatError("header-object-misfit", offset=at)
            if guid == FILE_PROPERTIES:
                self.duration_s = view.little(at + 64, 8) / 1e7 - view.little(at + 80, 8) / 1e3
                self.broadcast = bool(view.little(at + 88, 4) & 1)
                self.packet_bytes = view.little(at + 92, 4)
            elif guid == STREAM_PROPERTIES:
                self.has_stream = True
                if view.take(at + 24, 16) == VIDEO_MEDIA:
                    self.video = True
                    self.size = view.little(at + 78, 4), view.little(at + 82, 4)
            at += length
        self.parts.add("header", start, stop)
        self.at = stop

    def data(self) -> None:
        view, at = self.view, self.at
        if view.take(at, 16) != DATA:
            raise FormatError("no-data-object", offset=at)
        size, self.packets = view.little(at + 16, 8), view.little(at + 40, 8)
        first = at + 50
        if not 16 <= self.packet_bytes <= 1 << 20:
            raise FormatError("packets-without-size", offset=at)
        if size < 50 or self.broadcast:
            self.packets = (view.stop - first) // self.packet_bytes
        place = first
        while self.good_packets < self.packets:
            if place + self.packet_bytes > view.stop:
                raise FormatError("data-ends", offset=view.stop)
            flags = view.take(place, 3)
            # Error correction data of two zero bytes precede each packet (5.2.1).
            if flags != b"\x82\0\0":
                if self.broadcast:
                    break
                raise FormatError("no-packet", offset=place)
            place += self.packet_bytes
            self.good_packets += 1
            self.at = place
        self.parts.add("packets", at, place)
        if not self.broadcast and size >= 50:
            if not place <= at + size <= min(view.stop, place + MAX_SLACK):
                raise FormatError("packets-too-few-for-object", offset=place)
            place = at + size
        self.at = place

    def indexes(self) -> None:
        view = self.view
        while view.peek(self.at, 16) in INDEXES:
            size = view.little(self.at + 16, 8)
            if size < 24 or self.at + size > view.stop:
                raise FormatError("data-ends", offset=view.stop)
            self.parts.add("index", self.at, self.at + size)
            self.at += size


def walk(source: Source, start: int, stop: int) -> Walk:
    """Follow the clip at `start`, never past `stop`; FormatError if none begins there."""
    asf = _Asf(View(source, start, stop))
    problem: FormatError | None = None
    try:
        asf.header()
        asf.data()
        asf.indexes()
    except FormatError as error:
        problem = error
    if not asf.packet_bytes or not asf.has_stream:
        raise problem or FormatError("no-clip", offset=start)
    end = asf.at if problem is None else max(asf.at, problem.offset)
    share = 1.0 if problem is None else min(0.9999, asf.good_packets / max(1, asf.packets))
    seconds = round(asf.duration_s, 3) if asf.duration_s and asf.duration_s > 0 else None
    broken = None
    if problem is not None:
        broken = Break(problem.offset, "structure", problem.offset, None, {
            **problem.told, "sample": asf.good_packets,
            "seconds": round((seconds or 0) * share, 3)})
    width, height = asf.size or (None, None)
    samples = Check("samples", Outcome.FAIL if problem else Outcome.PASS,
                    "samples-until" if problem else "samples-agree",
                    {"samples": asf.good_packets})
    return Walk(
        start, end, problem is None, broken, round(share, 4),
        Facts(width, height, duration_s=seconds), asf.parts.before(end),
        checks=(structure(problem, start, len(asf.parts)), samples,
                end_mark(problem is None, counted=True)),
        variant=WMV if asf.video else WMA,
        verified=max(start, asf.at - asf.packet_bytes) if problem else None)


register(Format(
    name="asf", kind=Kind.VIDEO, extension="asf", signatures=(Signature(HEADER),),
    accept=lambda head: head[:16] == HEADER, walk=walk, decoder=Decoder.CLIP, variants=(WMV, WMA),
    joined="around",
))
