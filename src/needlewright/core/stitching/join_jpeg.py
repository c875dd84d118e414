"""JPEG photos: the Huffman decoder resumed on each candidate, judged by how the rows continue.

Sequential frames in one scan (ITU-T T.81, baseline and extended), colour and grey, with and without
restart markers.
"""

from __future__ import annotations

import struct
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from needlewright.core.errors import FormatError, SourceError
from needlewright.core.formats import jpeg_segments as seg
from needlewright.core.formats.jpeg_scans import can_decode, make_grids, scan_plan
from needlewright.core.kernels import jpeg_trials as trials
from needlewright.core.kernels.texture import Texture
from needlewright.core.sources.pieces import PiecedSource
from needlewright.core.sources.source import Source
from needlewright.core.stitching.base import (
    REFUSED,
    Bench,
    Broken,
    Joined,
    Joiner,
    Line,
    Step,
    register,
)
from needlewright.core.stitching.solver import Solver, textures

EVERY_MCU = 1 << 60
ENDED = 12.0  # nats that the end mark exactly behind the last MCU is worth
MAX_HEADER = 1 << 22
LIKE = textures(Texture.JPEG, Texture.COMPRESSED, Texture.RANDOM, Texture.STRUCTURED)


@dataclass(frozen=True, slots=True)
class _State:
    """`closing`: the picture is complete, only its end mark is missing."""

    scan: trials.Resumed
    closing: bool = False


class _Scan(Line):
    """The one scan of a sequential frame."""

    def __init__(self, tables: trials.Tables) -> None:
        self._tables = tables
        self._per_row = tables.plan.mcus_per_row

    def begin(self) -> _State:
        return _State(self._tables.begin())

    def progress(self, state: _State) -> float:
        return state.scan.mcu / self._tables.plan.mcus

    def judged(self, state: _State) -> bool:
        return state.scan.mcu >= self._per_row

    def rank(self, state: _State, rows: npt.NDArray[np.uint8]) -> tuple[
            npt.NDArray[np.float64], npt.NDArray[np.int64]]:
        if state.closing:
            fits = rows[:, 1] == 0xD9 if state.scan.pending else (
                (rows[:, 1] == 0xFF) & (rows[:, 2] == 0xD9))
            return np.where(fits, ENDED, REFUSED), np.zeros(len(rows), np.int64)
        until = state.scan.mcu + self._per_row
        codes, scores, mcus = trials.try_candidates(self._tables, state.scan, rows, until)
        scores = scores + np.where(codes == trials.COMPLETE, ENDED, 0.0)
        known = min(self._per_row, max(0, state.scan.mcu - self._per_row))
        return np.where(codes >= trials.BAD_CODE, REFUSED, scores), np.minimum(mcus, known)

    def take(self, state: _State, raw: npt.NDArray[np.uint8], since: _State | None = None) -> Step:
        if state.closing:
            mark = raw[:1].tobytes() if state.scan.pending else raw[:2].tobytes()
            if mark.endswith(b"\xd9"):
                return Step(ENDED, 0, state, len(mark))
            return Step(REFUSED, 0, state)
        until = EVERY_MCU if since is None else since.scan.mcu + self._per_row
        done = trials.advance(self._tables, state.scan, raw, until)
        if done.code == trials.COMPLETE:
            mark = raw[done.marker : done.marker + 2].tobytes()
            if mark == b"\xff\xd9" or (done.marker < 0 and raw[0] == 0xD9):
                return Step(done.score + ENDED, done.scored, _State(done.state), done.marker + 2)
            return Step(REFUSED, 0, state)
        if done.code == trials.CLOSING:
            return Step(done.score, done.scored, _State(done.state, True))
        if done.code != trials.OPEN:
            return Step(REFUSED, 0, state)
        return Step(done.score, done.scored, _State(done.state))


def read_headers(source: Source) -> tuple[seg.Headers, seg.ScanHeader, int]:
    """(headers, first scan, byte where its coded data begins) of the JPEG at byte 0 of `source`.
    FormatError where they do not come to a scan."""
    headers, at = seg.Headers(), 2
    for _ in range(seg.MAX_SEGMENTS):
        head = source.read_at(at, 4)
        if len(head) < 4 or head[0] != 0xFF or at > MAX_HEADER:
            raise FormatError("no-marker", offset=at)
        marker = head[1]
        if marker == 0xFF:
            at += 1
            continue
        if marker in (0, seg.SOI, seg.EOI) or 0xD0 <= marker <= 0xD7:
            raise FormatError("marker-misplaced", offset=at)
        (length,) = struct.unpack(">H", head[2:])
        body = source.read_at(at + 4, length - 2) if length >= 2 else b""
        if length < 2 or len(body) < length - 2:
            raise FormatError("segment-too-short", offset=at)
        if marker == seg.SOS:
            return headers, seg.read_scan(headers, body, at + 4), at + 2 + length
        seg.read_segment(headers, marker, body, at + 4, 0)
        at += 2 + length
    raise FormatError("too-many-segments", offset=at)


def _join(broken: Broken, bench: Bench) -> Joined | None:
    pool = bench.pool
    first = pool.number(broken.start)
    if pool.start(first) != broken.start:
        return None  # it does not begin where pieces do
    count = max(1, min(MAX_HEADER // pool.unit, pool.count - first))
    straight = PiecedSource(pool.source, ((broken.start, count * pool.unit),))
    try:
        headers, scan, begin = read_headers(straight)
    except (FormatError, SourceError):
        return None
    frame = headers.frame
    if frame is None or frame.marker not in seg.SEQUENTIAL or not can_decode(headers, scan) or len(
            scan.members) != len(frame.components):
        return None
    grids = make_grids(frame)
    plan, tables = scan_plan(headers, scan, grids)
    quantisers = [headers.quantisers.get(c.quantiser, (1, 1, 1)) for c in frame.components]
    line = _Scan(trials.prepare(plan, tables, quantisers))
    head = list(range(first, first + begin // pool.unit + 1))
    rest = np.frombuffer(straight.read_at(begin, len(head) * pool.unit - begin), np.uint8)
    step = line.take(line.begin(), rest)
    if step.refused:
        return None
    end = None if step.end is None else begin % pool.unit + step.end
    return Solver(line, bench, LIKE).solve(head, step.state, end)




register(Joiner("jpeg", frozenset(("jpeg",)), _join))
