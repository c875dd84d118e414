"""Matroska and WebM clips (RFC 9559 on EBML, RFC 8794).

Big-endian. Every block of every cluster is followed; checksums are verified where a file has them.
Segments and clusters of unknown size, as live recorders write them, end where their structure does.
"""

from __future__ import annotations

import struct
import zlib
from dataclasses import dataclass, field

from needlewright.core.decoders import Decoder
from needlewright.core.errors import FormatError
from needlewright.core.formats.base import Format, Signature
from needlewright.core.formats.registry import register
from needlewright.core.sources.source import Source
from needlewright.core.structures.ebml import Element, children, read_element
from needlewright.core.structures.view import Parts, View, end_mark, structure
from needlewright.core.walks import Break, Check, Facts, Kind, Outcome, Variant, Walk

EBML, SEGMENT, CLUSTER = 0x1A45DFA3, 0x18538067, 0x1F43B675
SEEK, INFO, TRACKS, CUES, TAGS = 0x114D9B74, 0x1549A966, 0x1654AE6B, 0x1C53BB6B, 0x1254C367
CHAPTERS, ATTACHMENTS, VOID, CRC = 0x1043A770, 0x1941A469, 0xEC, 0xBF
TOP = {SEEK: "seek list", INFO: "information", TRACKS: "tracks", CUES: "index", TAGS: "tags",
       CHAPTERS: "chapters", ATTACHMENTS: "attachments", VOID: "room", CRC: "checksum",
       CLUSTER: "frames"}
SIMPLE_BLOCK, BLOCK_GROUP, TIMESTAMP = 0xA3, 0xA0, 0xE7
IN_CLUSTER = frozenset((SIMPLE_BLOCK, BLOCK_GROUP, TIMESTAMP, 0xA7, 0xAB, 0x5854, 0xAF, VOID, CRC))
DOC_TYPE, SCALE, DURATION, TRACK = 0x4282, 0x2AD7B1, 0x4489, 0xAE
TRACK_TYPE, CODEC, VIDEO, PIXEL_WIDTH, PIXEL_HEIGHT = 0x83, 0x86, 0xE0, 0xB0, 0xBA
TRACK_NUMBER = 0xD7
MAX_ELEMENTS = 20_000_000
MAX_SECONDS = 1e7  # a third of a year
MAX_HEADER_BYTES = 1 << 20
READ_BYTES = 1 << 20
MKV = Variant("mkv", "mkv", Kind.VIDEO, Decoder.CLIP)
WEBM = Variant("webm", "webm", Kind.VIDEO, Decoder.CLIP)
MKA = Variant("mka", "mka", Kind.AUDIO, Decoder.SOUND)


@dataclass(slots=True)
class _State:
    view: View
    at: int
    doc_type: str = ""
    scale: int = 1_000_000
    duration: float = 0.0
    width: int | None = None
    height: int | None = None
    tracks: dict[int, int] = field(default_factory=dict)  # number -> type
    codings: list[str] = field(default_factory=list)
    blocks: int = 0
    last_block: int | None = None  # where the last block or element began
    reach: int = 0  # behind the blocks of a cluster whose checksum does not agree
    clusters: int = 0
    checksums: int = 0
    last_time: int = 0  # in units of the scale
    parts: Parts = field(default_factory=Parts)


def _unsigned(view: View, element: Element) -> int:
    return view.big(element.body, min(element.stop - element.body, 8))


def _float(view: View, element: Element) -> float:
    raw = view.take(element.body, element.stop - element.body)
    return float(struct.unpack({4: ">f", 8: ">d"}[len(raw)], raw)[0]) if len(raw) in (4, 8) else 0.0


def _text(view: View, element: Element) -> str:
    raw = view.take(element.body, min(element.stop - element.body, 128))
    return raw.decode("ascii", "replace").rstrip("\0")


def _head(state: _State, element: Element) -> None:
    """What the information and the tracks say."""
    view = state.view
    if element.number == INFO:
        for entry in children(view, element):
            if entry.number == SCALE:
                state.scale = _unsigned(view, entry) or 1_000_000
            elif entry.number == DURATION:
                state.duration = _float(view, entry)
    elif element.number == TRACKS:
        for entry in children(view, element):
            if entry.number == TRACK:
                _track(state, entry)


def _track(state: _State, entry: Element) -> None:
    view, number, kind = state.view, 0, 0
    for item in children(view, entry):
        if item.number == TRACK_NUMBER:
            number = _unsigned(view, item)
        elif item.number == TRACK_TYPE:
            kind = _unsigned(view, item)
        elif item.number == CODEC:
            state.codings.append(_text(view, item))
        elif item.number == VIDEO:
            for size in children(view, item):
                if size.number == PIXEL_WIDTH:
                    state.width = _unsigned(view, size)
                elif size.number == PIXEL_HEIGHT:
                    state.height = _unsigned(view, size)
    state.tracks[number] = kind


def _cluster(state: _State, cluster: Element, segment_stop: int) -> None:
    """Follow the blocks of a cluster; FormatError at the first thing that is none."""
    view = state.view
    stop = segment_stop if cluster.open_ended else cluster.stop
    at, time = cluster.body, 0
    bad: FormatError | None = None
    while at < stop:
        if state.blocks > MAX_ELEMENTS:
            raise FormatError("too-many-blocks", offset=at)
        state.at = at
        element = read_element(view, at)
        if element.number not in IN_CLUSTER:
            if cluster.open_ended and (element.number in TOP or element.number == EBML):
                return
            raise FormatError("no-block", offset=at)
        if element.stop > stop or element.open_ended:
            raise FormatError("block-reaches-past-cluster", offset=at)
        if element.stop > view.stop:
            raise FormatError("data-ends", offset=view.stop)
        if element.number == TIMESTAMP:
            time = _unsigned(view, element)
            state.last_time = max(state.last_time, time)
        elif element.number == SIMPLE_BLOCK:
            _block(state, element, time)
        elif element.number == BLOCK_GROUP:
            for inner in children(view, element):
                if inner.number == 0xA1:
                    _block(state, inner, time)
        elif element.number == CRC and at == cluster.body and not cluster.open_ended:
            bad = _verify(state, element, cluster.stop)
            if bad is not None and state.last_block is None:
                state.last_block = cluster.start
        if bad is None:
            state.last_block = at
        at = element.stop
    state.at = at
    if bad is not None:  # its blocks were followed all the same: most of them may be there
        state.reach = at
        raise bad


def _block(state: _State, element: Element, time: int) -> None:
    head = state.view.take(element.body, min(11, element.stop - element.body))
    width = 9 - head[0].bit_length() if head and head[0] else 9
    if len(head) < width + 3:
        raise FormatError("block-without-header", offset=element.start)
    number = int.from_bytes(head[:width], "big") & ((1 << 7 * width) - 1)
    if state.tracks and number not in state.tracks:
        raise FormatError("block-unknown-track", offset=element.start)
    state.blocks += 1
    shift = int.from_bytes(head[width : width + 2], "big", signed=True)
    state.last_time = max(state.last_time, time + shift)


def _verify(state: _State, element: Element, stop: int) -> FormatError | None:
    """The checksum over all that follows in the same parent: what is wrong with it, or None."""
    if element.stop - element.body != 4 or stop > state.view.stop:
        return None
    value, at = 0, element.stop
    while at < stop:
        block = state.view.source.read_at(at, min(READ_BYTES, stop - at))
        if not block:
            raise FormatError("data-ends", offset=at)
        value, at = zlib.crc32(block, value), at + len(block)
    if value != state.view.little(element.body, 4):
        return FormatError("checksum-wrong", offset=element.start)
    state.checksums += 1
    return None


def _follow(state: _State, start: int) -> None:
    view = state.view
    head = read_element(view, start)
    if head.number != EBML or head.stop - head.body > MAX_HEADER_BYTES:
        raise FormatError("no-ebml-header", offset=start)
    for entry in children(view, head):
        if entry.number == DOC_TYPE:
            state.doc_type = _text(view, entry)
    if state.doc_type not in ("matroska", "webm"):
        raise FormatError("not-a-clip", offset=start)
    state.parts.add("header", start, head.stop)
    segment = read_element(view, head.stop)
    while segment.number == VOID:
        segment = read_element(view, segment.stop)
    if segment.number != SEGMENT:
        raise FormatError("no-segment", offset=segment.start)
    at = state.at = segment.body
    stop = segment.stop
    while at < stop:
        if segment.open_ended and view.peek(at, 4) == b"\x1a\x45\xdf\xa3":
            break
        try:
            element = read_element(view, at)
        except FormatError:
            if segment.open_ended and state.clusters:
                break
            raise
        if element.number not in TOP:
            if segment.open_ended and state.clusters:
                break
            raise FormatError("no-element", offset=at)
        if not element.open_ended and element.stop > stop:
            raise FormatError("element-past-segment", offset=at)
        if element.number == CLUSTER:
            _cluster(state, element, stop)
            state.clusters += 1
            state.parts.add("frames", element.start, state.at)
            at = state.at
            continue
        if element.open_ended or element.stop > view.stop:
            raise FormatError("data-ends", offset=view.stop)
        _head(state, element)
        state.parts.add(TOP[element.number], element.start, element.stop)
        at = state.at = element.stop
    if not state.clusters:
        raise FormatError("no-frames", offset=state.at)


SILENT = frozenset(("VP8", "VP9", "AV1", "HEVC", "V_VP8", "V_VP9", "V_AV1", "V_MPEGH/ISO/HEVC"))


def walk(source: Source, start: int, stop: int) -> Walk:
    """Follow the clip at `start`, never past `stop`; FormatError if none begins there."""
    view = View(source, start, stop)
    state = _State(view, start)
    problem: FormatError | None = None
    try:
        _follow(state, start)
    except FormatError as error:
        problem = error
    if not state.tracks and not state.clusters:
        raise problem or FormatError("no-clip", offset=start)
    end = state.at if problem is None else max(start + 4, problem.offset, state.reach)
    stated = state.duration * state.scale / 1e9
    seconds = stated if 0 < stated < MAX_SECONDS else None  # false for a value that is no number
    reached = min(state.last_time * state.scale / 1e9, MAX_SECONDS)
    broken = None
    share = 1.0
    if problem is not None:
        broken = Break(problem.offset, "structure", problem.offset, None, {
            **problem.told, "sample": state.blocks, "seconds": round(reached, 3)})
        share = min(0.9999, max(0.0, reached / seconds)) if seconds else 0.5
    # Without checksums nothing shows foreign data in these codings.
    silent = not state.checksums and bool(SILENT & set(state.codings))
    variant = WEBM if state.doc_type == "webm" else MKV
    if state.tracks and 1 not in state.tracks.values():
        variant = MKA
    coded = [Check("coded data", Outcome.PASS, "crc-agree", {"chunks": state.checksums},
                   content=True)] if state.checksums and problem is None else []
    samples = Check("samples", Outcome.FAIL if problem else Outcome.PASS,
                    "samples-until" if problem else "samples-agree", {"samples": state.blocks})
    return Walk(
        start, end, problem is None, broken, round(share, 4),
        Facts(state.width, state.height, duration_s=round(seconds or reached, 3) or None,
              extra={"codings": ", ".join(sorted(set(state.codings)))}),
        state.parts.before(end),
        checks=(structure(problem, start, len(state.parts)), samples, *coded,
                end_mark(problem is None, counted=True)),
        variant=variant, verified=None if problem is None else min(
            state.last_block if state.last_block is not None else state.at, end),
        unproven="coding-silent" if silent else "",
        guessed=problem is not None and seconds is None)


register(Format(
    name="matroska", kind=Kind.VIDEO, extension="mkv",
    signatures=(Signature(b"\x1a\x45\xdf\xa3"),),
    accept=lambda head: head[:4] == b"\x1a\x45\xdf\xa3", walk=walk, decoder=Decoder.CLIP,
    variants=(MKV, WEBM, MKA),
    joined="structured",
))
