"""MPEG program streams with foreign or missing bytes: runs of packs joined again, without pictures
that are torn or need lost ones (ISO/IEC 13818-1, 2.5; 13818-2, 6.2).

What is left out of pictures becomes zeros, which may stand in front of every start code, and of
sound a packet of padding; so everything keeps its place, and its time.
"""

from __future__ import annotations

import itertools
import struct
from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np

from needlewright.core.formats import mpegps
from needlewright.core.kernels.packets import (
    DATA_ENDS,
    NOT_A_PACK,
    PACKS_END,
    program_packets,
)
from needlewright.core.kernels.sound_frames import MPEG, follow, resume
from needlewright.core.mending.base import Change, Mended, Mender, Patient, Unmendable
from needlewright.core.mending.program import packs
from needlewright.core.mending.registry import register
from needlewright.core.mending.streams.pieces import Piece, left_out, writing
from needlewright.core.sources.source import Source

BLOCK, EDGE = 4 << 20, 2 << 20
SURE = 3  # frames of sound in a row
LEAST_PACKS = 3  # in a row for a new beginning to be believed
CLOCK = 90_000.0
MOST_RUNS = 2000


@dataclass(slots=True)
class _Run:
    """Packs in a row, bytes `start` to `stop`; `over`: what stands there instead, and where."""

    start: int
    stop: int
    over: list[tuple[int, bytes]] = field(default_factory=list)


def mend(patient: Patient) -> Iterator[Mended]:
    source = patient.source
    runs = _runs(patient)
    if not runs:
        raise Unmendable("samples-none")
    edge = source.read_at(runs[0].start, EDGE)
    if not any(p.kind in packs.PICTURES or p.kind in packs.SOUNDS for p in packs.packets(edge)):
        raise Unmendable("samples-none")
    begins = _begins(source, runs[0].start)
    gaps = len(runs) - 1 + (runs[0].start > 0) + (runs[-1].stop < source.size)
    if not gaps and begins:
        raise Unmendable("nothing-found")
    spans = []
    start = _clock(source, runs[0].start)
    for before, behind in itertools.pairwise(runs):
        patient.breathe(0.8)
        _blank_before(source, before)
        wait = _blank_behind(source, behind)
        spans.append((max(0.0, _last_clock(source, before) - start),
                      max(0.0, _clock(source, behind.start) - start) + wait))
    if runs[0].start or not begins:
        _blank_behind(source, runs[0])
    if runs[-1].stop < source.size:
        _blank_before(source, runs[-1])
    seconds = _last_clock(source, runs[-1]) - start
    changes = [Change("packets-in-step", {"count": _count(source, runs), "times": gaps}),
               *left_out(0, [s for s in spans if s[1] > s[0]])]
    pieces: list[Piece] = []
    for run in runs:
        pieces += _pieces(run)
    if not begins:
        changes.insert(0, Change("header-made"))
        head = _head_bytes(source, runs[0].start)
        first = pieces[0]
        assert isinstance(first, tuple)
        pieces[:1] = [(first[0], first[0] + head), _system(source, runs[0].start, head),
                      (first[0] + head, first[1])]
    lost = sum(max(0.0, b - a) for a, b in spans)
    share = max(0.0, 1 - lost / seconds) if seconds > 0 else 1.0
    yield Mended(writing(source, pieces), "mpg", tuple(changes), round(share, 4))


def _runs(patient: Patient) -> list[_Run]:
    """All packs that stand in a row; the last one in front of what is foreign is not believed."""
    source = patient.source
    runs: list[_Run] = []
    at = _next(patient, 0)
    while at < source.size and len(runs) < MOST_RUNS:
        stop, ended = _follow(patient, at)
        if not ended:
            stop = _last_pack(source, at, stop)
        if stop > at:
            runs.append(_Run(at, stop))
        at = _next(patient, max(stop, at) + 1) if not ended else source.size
    return runs


def _follow(patient: Patient, at: int) -> tuple[int, bool]:
    """(place behind the packs from `at` on, whether the stream or the file ends there)."""
    source, counts = patient.source, np.zeros(3, np.int64)
    while True:
        patient.breathe(at / source.size * 0.7)
        data = np.frombuffer(source.read_at(at, min(BLOCK, source.size - at)), np.uint8)
        used, why = program_packets(data, 0, counts)
        at += used
        if at >= source.size:
            return source.size, True
        if why == DATA_ENDS and used and source.size - at > 0 and len(data) == BLOCK:
            continue
        if why == DATA_ENDS:
            return at, source.size - at < 1 << 16
        ended = why == PACKS_END and source.read_at(at - 4, 4) == b"\0\0\1\xb9"
        return at, ended and source.size - at < 1 << 12


def _next(patient: Patient, at: int) -> int:
    """Where the next packs in a row begin; the end where none do."""
    source = patient.source
    while at < source.size:
        patient.breathe(at / source.size * 0.7)
        block = source.read_at(at, BLOCK + 4)
        data = np.frombuffer(block, np.uint8)
        place = block.find(mpegps.PACK)
        while 0 <= place < BLOCK:
            counts = np.zeros(3, np.int64)
            used, why = program_packets(data, place, counts)
            to_end = counts[0] and why != NOT_A_PACK and at + used > source.size - BLOCK // 64
            if counts[0] >= LEAST_PACKS or to_end:
                return at + place
            place = block.find(mpegps.PACK, place + 1)
        at += BLOCK
    return source.size


def _last_pack(source: Source, start: int, stop: int) -> int:
    """Where the last pack in a row begins; packets that claim too much may reach over others."""
    first = max(start, stop - EDGE)
    data = source.read_at(first, min(source.size, stop + (1 << 17)) - first)
    begin = 0 if first == start else max(0, data.find(mpegps.PACK))
    last = [p.at for p in packs.packets(data, begin)
            if p.kind == packs.PACK and first + p.at < stop]
    return first + last[-1] if last else start


def _edge(source: Source, run: _Run) -> tuple[int, bytes]:
    """(place of the first pack, bytes) of the end of a run."""
    start = max(run.start, run.stop - EDGE)
    data = source.read_at(start, run.stop - start)
    first = max(0, data.find(mpegps.PACK))
    return start + first, data[first:]


def _blank_before(source: Source, run: _Run) -> None:
    """Take out what is torn at the end of a run."""
    base, data = _edge(source, run)
    payload = packs.Payload(data)
    first = packs.torn_before(payload)
    run.over += [(base + a, bytes(b - a)) for a, b in payload.places(first, len(payload.bytes))]
    for kind in _sounds(data):
        sound = packs.Payload(data, (kind,))
        frames = np.frombuffer(sound.bytes, np.uint8)
        begin = resume(frames, 0, 0, MPEG, SURE) if frames.size else -1
        if begin >= 0:
            stop = follow(frames, begin, 0, MPEG, False)[0]
            run.over += [(base + at, made) for at, made in sound.cut(data, 0, stop)]


def _sounds(data: bytes) -> list[int]:
    """The streams of MPEG audio in it."""
    return sorted({p.kind for p in packs.packets(data) if 0xC0 <= p.kind < 0xE0})


def _blank_behind(source: Source, run: _Run) -> float:
    """Take out what cannot be decoded at the beginning of a run; the seconds that it takes."""
    data = source.read_at(run.start, min(EDGE, run.stop - run.start))
    for kind in _sounds(data):
        sound = packs.Payload(data, (kind,))
        frames = np.frombuffer(sound.bytes, np.uint8)
        begin = resume(frames, 0, 0, MPEG, SURE) if frames.size else -1
        if begin > 0:
            run.over += [(run.start + at, made)
                         for at, made in sound.cut(data, begin, len(sound.bytes))]
    payload = packs.Payload(data)
    if not payload.bytes:
        return 0.0
    stop = packs.torn_behind(payload)
    places = payload.places(0, stop) + payload.places(*packs.between_behind(payload, stop))
    run.over += [(run.start + a, bytes(b - a)) for a, b in places]
    if not places:
        return 0.0
    last = data.rfind(mpegps.PACK, 0, places[-1][1])
    return max(0.0, _clock(source, run.start + max(0, last)) - _clock(source, run.start))


def _pieces(run: _Run) -> list[Piece]:
    pieces: list[Piece] = []
    at = run.start
    for place, made in sorted(run.over):
        if place >= at and place + len(made) <= run.stop:
            pieces += [(at, place), made]
            at = place + len(made)
    return [*pieces, (at, run.stop)]


def _head_bytes(source: Source, at: int) -> int:
    head = source.read_at(at, 14)
    return 14 + (head[13] & 7) if len(head) == 14 and head[4] & 0x40 else 12


def _begins(source: Source, at: int) -> bool:
    """Whether the pack at `at` has the system header with which a stream begins."""
    return source.read_at(at + _head_bytes(source, at), 4) == mpegps.SYSTEM


def _system(source: Source, at: int, head: int) -> bytes:
    """A system header for the streams that are there (2.5.3.5)."""
    kinds = sorted({p.kind for p in packs.packets(source.read_at(at, EDGE))
                    if p.kind in packs.PICTURES or p.kind in packs.SOUNDS})
    raw = source.read_at(at, 14)
    if head >= 14:
        rate = int.from_bytes(raw[10:13], "big") >> 2
    else:
        rate = int.from_bytes(raw[9:12], "big") >> 1 & 0x3F_FFFF
    sounds = sum(1 for k in kinds if k in packs.SOUNDS)
    body = ((1 << 23) | rate << 1 | 1).to_bytes(3, "big") + bytes((
        sounds << 2, 0xE0 | (len(kinds) - sounds), 0x7F))
    for kind in kinds:
        pictures = kind in packs.PICTURES
        body += bytes((kind,)) + struct.pack(">H", 0xE000 | 230 if pictures else 0xC000 | 32)
    return mpegps.SYSTEM + struct.pack(">H", len(body)) + body


def _clock(source: Source, at: int) -> float:
    """The clock of the pack at `at`, seconds."""
    return (mpegps.clock(source.read_at(at, 10)) or 0) / CLOCK


def _last_clock(source: Source, run: _Run) -> float:
    base, data = _edge(source, run)
    return _clock(source, base + max(0, data.rfind(mpegps.PACK)))


def _count(source: Source, runs: list[_Run]) -> int:
    return sum(max(1, (run.stop - run.start) // 2048) for run in runs)


register(Mender("mpegps", frozenset(("mpg", "mpg-scrap")), mend))
