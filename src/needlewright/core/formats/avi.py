"""AVI clips (RIFF AVI; OpenDML AVI File Format Extensions 1.02 for files beyond 1 GB).

Little-endian. The chunks of `movi` are followed one by one; the index (`idx1`) is checked against
them. Recorders that were cut off leave sizes of zero and no index: the chunk chain still holds.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from needlewright.core.decoders import Decoder
from needlewright.core.errors import FormatError
from needlewright.core.formats.base import Format, Signature
from needlewright.core.formats.registry import register
from needlewright.core.sources.source import Source
from needlewright.core.structures.riff import Chunk, chunks, read_chunk
from needlewright.core.structures.view import Parts, View, broken_at, end_mark, structure
from needlewright.core.walks import Break, Check, Facts, Kind, Outcome, Walk

MAX_CHUNKS = 20_000_000
STREAM_KINDS = (b"dc", b"db", b"wb", b"pc", b"tx")
IDX1_ENTRY = np.dtype([("name", "S4"), ("flags", "<u4"), ("offset", "<u4"), ("size", "<u4")])
MAX_INDEX_BYTES = 1 << 28
STARTS = {b"MJPG": b"\xff\xd8", b"mjpg": b"\xff\xd8", b"JPEG": b"\xff\xd8"}


@dataclass(slots=True)
class _State:
    view: View
    at: int
    stop: int
    width: int | None = None
    height: int | None = None
    frame_us: int = 0
    frames_stated: int = 0
    video: int | None = None  # number of the video stream
    coding: bytes = b""
    frames: int = 0
    bad_frames: int = 0
    last_chunk: int | None = None  # where the last chunk of the frames began
    first_bad: tuple[int, int] | None = None  # (offset, frame)
    movi_body: int = 0
    listed: list[tuple[bytes, int, int]] = field(default_factory=list)  # chunks of the first movi
    index: np.ndarray | None = None
    index_at: int = 0
    index_good: int | None = None  # entries before the first wrong one
    parts: Parts = field(default_factory=Parts)


def _headers(state: _State, hdrl: Chunk) -> None:
    view = state.view
    stream = -1
    for chunk in chunks(view, hdrl.body + 4, hdrl.stop):
        if chunk.name == b"avih" and chunk.stop - chunk.body >= 40:
            state.frame_us = view.little(chunk.body, 4)
            state.frames_stated = view.little(chunk.body + 16, 4)
            state.width = view.little(chunk.body + 32, 4)
            state.height = view.little(chunk.body + 36, 4)
        elif chunk.name == b"LIST" and view.peek(chunk.body, 4) == b"strl":
            stream += 1
            _stream(state, chunk, stream)
        elif chunk.name == b"LIST" and view.peek(chunk.body, 4) == b"odml":
            dmlh = read_chunk(view, chunk.body + 4)
            if dmlh.name == b"dmlh":  # all frames, where avih counts those of the first part only
                state.frames_stated = view.little(dmlh.body, 4)


def _stream(state: _State, strl: Chunk, number: int) -> None:
    view = state.view
    for chunk in chunks(view, strl.body + 4, strl.stop):
        if chunk.name == b"strh" and view.peek(chunk.body, 4) == b"vids" and state.video is None:
            state.video, state.coding = number, view.peek(chunk.body + 4, 4)
            scale, rate = view.little(chunk.body + 20, 4), view.little(chunk.body + 24, 4)
            if scale and rate:
                state.frame_us = round(scale * 1_000_000 / rate)
        elif chunk.name == b"strf" and number == state.video and not state.coding.strip(b"\0"):
            state.coding = view.peek(chunk.body + 16, 4)


def _movi(state: _State, movi: Chunk, first: bool) -> None:
    """Follow the chunks of `movi`; FormatError at the first that is none."""
    view = state.view
    if first:
        state.movi_body = movi.body
    open_ended = movi.stop - movi.body < 4  # the recorder never came back to fill it in
    stop = view.stop if open_ended else movi.stop
    at = movi.body + 4
    for _ in range(MAX_CHUNKS):
        if at >= stop - 7:
            state.at = min(stop, view.stop)
            break
        if open_ended and view.peek(at, 4) in (b"idx1", b"RIFF", b"LIST") and (
                view.peek(at + 8, 4) != b"rec "):
            state.at = at
            break
        at = _movi_chunk(state, at, stop, first)
        state.at = min(at, stop)
    else:
        raise FormatError("too-many-chunks", offset=at)


def _movi_chunk(state: _State, at: int, stop: int, first: bool) -> int:
    """Take in one chunk of `movi`; the place of the next."""
    view = state.view
    chunk = read_chunk(view, at)
    name = chunk.name
    if name == b"LIST":
        if view.take(at + 8, 4) != b"rec ":
            raise FormatError("list-misplaced", offset=at)
        return at + 12
    stream = name[:2].isdigit() and name[2:] in STREAM_KINDS
    if not stream and name not in (b"JUNK", b"idx1") and name[:2] != b"ix":
        raise FormatError("no-chunk", offset=at)
    if chunk.stop > view.stop:
        raise FormatError("data-ends", offset=view.stop)
    if chunk.stop > stop:
        raise FormatError("chunk-reaches-past-end", offset=at)
    state.last_chunk = at
    if stream and first:
        state.listed.append((name, at, chunk.stop - chunk.body))
    if stream and state.video is not None and int(name[:2]) == state.video and name[2:] != b"pc":
        _frame(state, chunk)
    return chunk.next


def _frame(state: _State, chunk: Chunk) -> None:
    wanted = STARTS.get(state.coding)
    size = chunk.stop - chunk.body
    if wanted and size > 2 and state.view.peek(chunk.body, 2) != wanted:
        state.bad_frames += 1
        state.first_bad = state.first_bad or (chunk.start, state.frames)
    state.frames += 1


def _gather(state: _State, start: int) -> None:
    """Follow the RIFF lists that belong together (`AVI `, then any number of `AVIX`)."""
    view = state.view
    outer = Chunk(b"RIFF", start, start + 8, start + 8 + view.little(start + 4, 4))
    first = True
    while True:
        open_ended = outer.stop - outer.body < 12
        inside = view.stop if open_ended else outer.stop
        state.at = outer.body + 4
        while state.at < inside - 7:
            if open_ended and view.peek(state.at, 4) not in (b"LIST", b"JUNK", b"idx1", b"INFO"):
                break
            _part(state, read_chunk(view, state.at), inside, first)
        if not open_ended:
            state.at = min(outer.stop, view.stop)
            if outer.stop > view.stop:
                raise FormatError("data-ends", offset=view.stop)
        first = False
        follows = outer.next
        if view.peek(follows, 4) != b"RIFF" or view.peek(follows + 8, 4) != b"AVIX":
            return
        outer = read_chunk(view, follows)


def _part(state: _State, chunk: Chunk, inside: int, first: bool) -> None:
    view = state.view
    kind = view.peek(chunk.body, 4) if chunk.name == b"LIST" else b""
    if kind == b"movi":
        _movi(state, chunk, first)
        state.parts.add("frames", chunk.start, state.at)
        state.at += (chunk.stop - chunk.body) % 2
        return
    if chunk.stop > inside:
        raise FormatError("chunk-reaches-past-end", offset=chunk.start)
    if chunk.stop > view.stop:
        raise FormatError("data-ends", offset=view.stop)
    if kind == b"hdrl":
        _headers(state, chunk)
    elif chunk.name == b"idx1" and chunk.stop - chunk.body <= MAX_INDEX_BYTES:
        raw = view.take(chunk.body, (chunk.stop - chunk.body) // 16 * 16)
        state.index, state.index_at = np.frombuffer(raw, IDX1_ENTRY), chunk.body
    name = (kind or chunk.name).decode("latin-1").strip()
    state.parts.add(name, chunk.start, min(chunk.next, view.stop))
    state.at = chunk.next


def _index_check(state: _State) -> Check:
    """`idx1` against the chunks that are there (offsets count from `movi` or from the file)."""
    if state.index is None:
        if state.frames_stated and state.frames < state.frames_stated:
            return Check("index", Outcome.FAIL, "index-missing")
        return Check("index", Outcome.NOT_APPLICABLE, "index-none")
    entries = state.index[state.index["name"] != b"rec "]
    values = {"samples": len(entries), "tracks": 1}
    names = np.array([n for n, _, _ in state.listed], "S4")
    places = np.array([a for _, a, _ in state.listed], np.int64)
    sizes = np.array([s for _, _, s in state.listed], np.int64)
    if len(entries) != len(names) or not len(names):
        # A second index of the same chunks is rare; fewer entries than chunks are a broken one.
        return Check("index", Outcome.DOUBT, "index-counts",
                     {"samples": len(entries), "there": len(names)})
    offsets = entries["offset"].astype(np.int64)
    base = places[0] - offsets[0]
    agree = (entries["name"] == names) & (offsets + base == places) & (entries["size"] == sizes)
    if agree.all():
        return Check("index", Outcome.PASS, "index-agrees", values)
    state.index_good = int(agree.argmin())
    return Check("index", Outcome.FAIL, "index-outside", values)


def walk(source: Source, start: int, stop: int) -> Walk:
    """Follow the clip at `start`, never past `stop`; FormatError if none begins there."""
    view = View(source, start, stop)
    state = _State(view, start + 12, start)
    problem: FormatError | None = None
    try:
        _gather(state, start)
    except FormatError as error:
        problem = error
    if state.width is None or (problem and problem.offset < start + 64):
        raise problem or FormatError("no-clip", offset=start)
    if problem is None and not state.frames:
        problem = FormatError("no-frames", offset=state.at)
    end = min(view.stop, state.at if problem is None else max(problem.offset, start + 12))
    broken: Break | None = None
    if problem is not None:
        broken = broken_at(problem)
    if state.first_bad is not None and (broken is None or state.first_bad[0] < broken.offset):
        place, frame = state.first_bad
        seconds = frame * state.frame_us / 1e6
        broken = Break(place, "sample", place, None, {
            "sample": frame, "seconds": round(seconds, 3)})
    total = max(state.frames_stated, state.frames, 1)
    good = (state.frames - state.bad_frames) / total
    samples = Check("samples", Outcome.PASS, "samples-agree", {"samples": state.frames})
    if state.bad_frames:
        assert broken is not None
        samples = Check("samples", Outcome.FAIL, "samples-broken", {
            "bad": state.bad_frames, "samples": state.frames, **broken.values}, content=True)
    index = _index_check(state)
    duration = round(total * state.frame_us / 1e6, 3) or None
    return Walk(
        start, end, problem is None, broken,
        round(min(good, 1.0 if broken is None else 0.9999), 4),
        Facts(state.width, state.height, duration_s=duration,
              extra={"codings": state.coding.decode("latin-1").strip("\0 ")}),
        state.parts.before(end),
        checks=(structure(problem, start, len(state.parts)), index, samples,
                end_mark(problem is None, counted=True)),
        verified=_verified(state, start, broken))


def _verified(state: _State, start: int, broken: Break | None) -> int | None:
    """What is surely its own: a chunk only when another follows it, for its size may be all of it
    that is left; of an index that is wrong what stands before its first wrong entry."""
    if broken is None and state.index_good is not None:
        return state.index_at + IDX1_ENTRY.itemsize * state.index_good
    if broken is None:
        return None
    before = start if state.last_chunk is None else state.last_chunk
    if broken.why == "structure" and before < broken.offset:
        return max(start, before)
    return max(start, broken.offset)


register(Format(
    name="avi", kind=Kind.VIDEO, extension="avi",
    signatures=(Signature(b"RIFF" + bytes(4) + b"AVI ", 0, b"\xff" * 4 + bytes(4) + b"\xff" * 4),),
    accept=lambda head: head[:4] == b"RIFF" and head[8:12] == b"AVI ", walk=walk,
    decoder=Decoder.CLIP, object_formats={"avi": 0x300A},
))
