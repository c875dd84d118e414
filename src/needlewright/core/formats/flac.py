"""FLAC sound (RFC 9639). Every frame is followed, and both of its checksums are verified."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from needlewright.core.decoders import Decoder
from needlewright.core.errors import FormatError
from needlewright.core.formats.base import Format, Signature
from needlewright.core.formats.registry import register
from needlewright.core.kernels.flac import BROKEN, MORE, follow_frames
from needlewright.core.sources.source import Source
from needlewright.core.structures.stream_end import cut_check
from needlewright.core.structures.tags import closing_tags_end, torn_tag
from needlewright.core.structures.view import Parts, View, end_mark, finish, structure
from needlewright.core.walks import Check, Facts, Kind, Outcome, Walk

INFORMATION_BYTES = 42  # the mark and the first block (9.1, 9.2 of RFC 9639: 4 + 4 + 34)
BLOCK_BYTES = 4 << 20
MAX_FRAME_BYTES = 1 << 24  # RFC 9639 8.2: frame sizes are 24-bit numbers
MAX_METADATA = 1000
BLOCKS = {0: "stream information", 1: "room", 2: "application", 3: "seek table", 4: "comments",
          5: "cue sheet", 6: "picture"}


@dataclass(slots=True)
class _State:
    at: int
    rate: int = 0
    depth: int = 0
    channels: int = 0
    total: int = 0
    frames: int = 0
    samples: int = 0
    parts: Parts = field(default_factory=Parts)


def _metadata(view: View, state: _State) -> None:
    for index in range(MAX_METADATA):
        head = view.take(state.at, 4)
        kind, size = head[0] & 0x7F, int.from_bytes(head[1:], "big")
        if kind not in BLOCKS or (index == 0) != (kind == 0):
            raise FormatError("no-metadata-block", offset=state.at)
        if state.at + 4 + size > view.stop:
            raise FormatError("data-ends", offset=view.stop)
        if kind == 0:
            bits = view.big(state.at + 14, 8)
            state.rate, state.channels = bits >> 44, (bits >> 41 & 7) + 1
            state.depth, state.total = (bits >> 36 & 31) + 1, bits & (1 << 36) - 1
            if size != 34 or not state.rate or state.depth < 4:
                raise FormatError("stream-information-makes-no-sense", offset=state.at)
        state.parts.add(BLOCKS[kind], state.at, state.at + 4 + size)
        state.at += 4 + size
        if head[0] & 0x80:
            return
    raise FormatError("too-many-metadata-blocks", offset=state.at)


def _sound(view: View, state: _State) -> None:
    """Follow the frames to the stated number of samples, or as far as they go."""
    length = BLOCK_BYTES
    while not state.total or state.samples < state.total:
        room = min(length, view.stop - state.at)
        data = np.frombuffer(view.source.read_at(state.at, room), np.uint8)
        at, frames, samples, outcome = follow_frames(
            data, 0, state.depth, state.total - state.samples if state.total else 0)
        state.at, state.frames = state.at + at, state.frames + frames
        state.samples += samples
        at_end = state.at - at + room >= view.stop
        if outcome == BROKEN or (outcome == MORE and at_end):
            if not state.total and state.frames and outcome == BROKEN:
                return  # nothing says how much there should be
            raise FormatError("data-ends" if outcome == MORE else
                              "no-sound-frame", offset=state.at)
        if outcome == MORE and at == 0:
            length *= 4
            if length > 4 * MAX_FRAME_BYTES:
                raise FormatError("frame-too-long", offset=state.at)


def walk(source: Source, start: int, stop: int) -> Walk:
    """Follow the sound at `start`, never past `stop`; FormatError if none begins there."""
    view, state = View(source, start, stop), _State(start + 4)
    problem: FormatError | None = None
    sound_at = start
    try:
        _metadata(view, state)
        sound_at = state.at
        _sound(view, state)
    except FormatError as error:
        problem = error
    if not state.rate:
        raise problem or FormatError("no-sound", offset=start)
    if state.at > sound_at:
        state.parts.add("sound", sound_at, state.at)
    end = closing_tags_end(view, state.at) if problem is None else state.at
    total = state.total or state.samples
    coded = Check(
        "coded data", Outcome.FAIL if problem else Outcome.PASS,
        "samples-until" if problem else "frames-agree",
        {"samples": state.frames, "frames": state.frames}, content=True)
    share = state.samples / total if total else 0.0
    return finish(
        start, end, problem,
        Facts(duration_s=round(total / state.rate, 3) or None,
              extra={"sound": f"{state.channels} ch, {state.rate:,} Hz, {state.depth} bit"}),
        state.parts,
        (structure(problem, start, len(state.parts)), coded,
         cut_check() if problem is None and torn_tag(view, end)
         else end_mark(problem is None, counted=True)),
        # Before the first frame only the stream information is surely its own.
        share=share, verified=None if problem is None else (
            state.at if state.frames else start + INFORMATION_BYTES))


register(Format(
    name="flac", kind=Kind.AUDIO, extension="flac", signatures=(Signature(b"fLaC\0\0\0\x22"),
                                                                Signature(b"fLaC\x80\0\0\x22")),
    accept=lambda head: head[:4] == b"fLaC" and head[4] & 0x7F == 0, walk=walk,
    decoder=Decoder.SOUND,
    joined="structured", checked=True,
))
