"""WAVE sound (RIFF WAVE; EBU Tech 3306 for RF64 and BW64 above 4 GiB).

Little-endian. Linear samples carry nothing to check but how they continue each other.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from needlewright.core.decoders import Decoder
from needlewright.core.errors import FormatError
from needlewright.core.formats.base import Format, Signature
from needlewright.core.formats.registry import register
from needlewright.core.sources.source import Source
from needlewright.core.structures.blank_runs import Samples
from needlewright.core.structures.riff import PRINTABLE, Chunk, read_chunk
from needlewright.core.structures.sector_checks import blank_check, samples_check
from needlewright.core.structures.view import Parts, View, end_mark, finish, structure
from needlewright.core.walks import Check, Facts, Kind, Outcome, Walk

UNKNOWN = 0xFFFF_FFFF  # a size that stands in ds64, or was never filled in
MAX_CHUNKS = 1000
LINEAR, FLOATING, EXTENSIBLE = 1, 3, 0xFFFE


@dataclass(slots=True)
class _State:
    at: int
    channels: int = 0
    byte_rate: int = 0
    block: int = 0
    bits: int = 0
    tag: int = 0
    long_riff: int = 0
    long_data: int = 0
    data: tuple[int, int] | None = None  # as stated
    unfinished: bool = False  # the recorder never filled the sizes in
    parts: Parts = field(default_factory=Parts)


def _format(view: View, chunk: Chunk, state: _State) -> None:
    state.tag, state.channels = view.little(chunk.body, 2), view.little(chunk.body + 2, 2)
    state.byte_rate, state.block = view.little(chunk.body + 8, 4), view.little(chunk.body + 12, 2)
    state.bits = view.little(chunk.body + 14, 2)
    if not 1 <= state.channels <= 256 or not state.byte_rate or not state.block:
        state.channels = 0  # nothing that was read here can be used
        raise FormatError("sound-format-makes-no-sense", offset=chunk.body)
    if state.tag == EXTENSIBLE and chunk.stop - chunk.body >= 26:
        state.tag = view.little(chunk.body + 24, 2)


def _chunk(view: View, state: _State, stated: int) -> None:
    chunk = read_chunk(view, state.at)
    size = chunk.stop - chunk.body
    if chunk.name == b"ds64":
        state.long_riff = view.little(chunk.body, 8)
        state.long_data = view.little(chunk.body + 8, 8)
    elif chunk.name == b"fmt ":
        _format(view, chunk, state)
    elif chunk.name == b"data":
        if not state.channels:
            raise FormatError("sound-before-format", offset=chunk.start)
        if size == UNKNOWN and state.long_data:
            chunk = Chunk(chunk.name, chunk.start, chunk.body, chunk.body + state.long_data)
        elif size in (0, UNKNOWN):
            state.unfinished = True
        state.data = (chunk.body, chunk.stop)
        if state.unfinished:
            return
    if chunk.stop > max(stated, state.data[1] if state.data else 0):
        raise FormatError("chunk-reaches-past-end", offset=chunk.start)
    if chunk.stop > view.stop:
        raise FormatError("data-ends", offset=view.stop)
    state.parts.add(chunk.name.decode("ascii").strip(), chunk.start, chunk.next)
    # Some writers forget the pad byte behind odd data; the next name then stands one earlier.
    pad_missing = size % 2 and not PRINTABLE.issuperset(view.peek(chunk.next, 4)) and (
        PRINTABLE.issuperset(view.peek(chunk.stop, 4)))
    state.at = chunk.stop if pad_missing else min(chunk.next, max(stated, chunk.stop))


def walk(source: Source, start: int, stop: int) -> Walk:
    """Follow the sound at `start`, never past `stop`; FormatError if none begins there."""
    view, state = View(source, start, stop), _State(start + 12)
    riff_size = view.little(start + 4, 4)
    problem: FormatError | None = None
    stated = start + 8 + riff_size
    try:
        for _ in range(MAX_CHUNKS):
            if riff_size in (0, UNKNOWN):
                stated = start + 8 + state.long_riff if state.long_riff else view.stop
            if state.unfinished or state.at >= stated - 7:
                break
            _chunk(view, state, stated)
        if state.data is None:
            raise FormatError("no-sound-data", offset=state.at)
        if state.unfinished:
            raise FormatError("recorder-left-length-open", offset=state.data[0])
    except FormatError as error:
        problem = error
    if not state.channels:
        raise problem or FormatError("no-sound", offset=start)
    end = stated if problem is None else problem.offset
    data_start, data_stop = state.data or (state.at, state.at)
    checks = [structure(problem, start, len(state.parts)), end_mark(problem is None, counted=True)]
    there = max(0, min(data_stop, end) - data_start)
    if state.tag == LINEAR and state.bits in (8, 16, 24, 32) and there:
        checks.append(samples_check(
            view, data_start, data_start + there, 0, state.block, state.bits // 8))
    elif state.tag == FLOATING and state.bits in (32, 64) and there and (
            state.block == state.channels * state.bits // 8):
        gaps = blank_check(view, Samples(data_start, data_start + there, 0, state.block,
                                         state.bits // 8, floating=True))
        checks += [gaps] if gaps.outcome is Outcome.DOUBT else []
    if problem is None and state.data and there % state.block:
        checks.append(Check("samples", Outcome.DOUBT, "samples-uneven"))
    share = there / max(1, data_stop - data_start) if problem else 1.0
    extra = {"sound": f"{state.channels} ch, {state.byte_rate // 125:,} kbit/s"}
    return finish(
        start, end, problem, Facts(duration_s=round(there / state.byte_rate, 3), extra=extra),
        state.parts, checks, share=share, verified=data_start if problem else None,
        opaque=[(data_start, data_start + there)], unproven="coding-silent")


register(Format(
    name="wav", kind=Kind.AUDIO, extension="wav",
    signatures=tuple(
        Signature(name + bytes(4) + b"WAVE", 0, b"\xff" * 4 + bytes(4) + b"\xff" * 4)
        for name in (b"RIFF", b"RF64", b"BW64")),
    accept=lambda head: head[:4] in (b"RIFF", b"RF64", b"BW64") and head[8:12] == b"WAVE",
    walk=walk, decoder=Decoder.SOUND,
    joined="around", object_formats={"wav": 0x3008},
))
