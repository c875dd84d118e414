"""JPEG photos: the Huffman decoder resumed on each candidate, judged by how the rows continue.

Sequential frames in one scan (ITU-T T.81, baseline and extended), colour and grey, with and without
restart markers; progressive frames without.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from needlewright.core.errors import FormatError, SourceError
from needlewright.core.formats import jpeg_segments as seg
from needlewright.core.formats.jpeg_scans import can_decode, make_grids, scan_plan
from needlewright.core.formats.registry import formats
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
from needlewright.core.stitching.line_hand import LineHand
from needlewright.core.stitching.pictures.progressive_line import MAX_CELLS, ProgressiveLine
from needlewright.core.stitching.pictures.witness import AT_FIRST, Witness, witness_of
from needlewright.core.stitching.solver import Solver, textures

EVERY_MCU = 1 << 60
FLOOR, NO_FLOOR = -20.0, -1e9  # nats below which a candidate is left
ENDED = 12.0  # nats that the end mark exactly behind the last MCU is worth
FEW_MCUS = 8  # that tell nothing beside a thumbnail
MAX_CUTS = 64
HEADER_NEAR, EVERYWHERE = 4096, 1 << 40
HEADER_MARKERS = (seg.DQT, seg.DHT, seg.SOS, seg.DRI, seg.COM, *seg.SEQUENTIAL, seg.PROGRESSIVE,
                  *range(seg.APP0, seg.APP15 + 1))
LIKE_HEADERS = textures(*Texture)
LIKE = textures(Texture.JPEG, Texture.COMPRESSED, Texture.RANDOM, Texture.STRUCTURED)


@dataclass(frozen=True, slots=True)
class _State:
    """`closing`: the picture is complete, only its end mark is missing; `apart`: how far the
    thumbnail usually is from its rows, in grey levels."""

    scan: trials.Resumed
    closing: bool = False
    apart: float = AT_FIRST


class _Scan(Line):
    """The one scan of a sequential frame."""

    def __init__(self, tables: trials.Tables, witness: Witness | None = None) -> None:
        self._tables, self._witness = tables, witness
        self._per_row = tables.plan.mcus_per_row

    def begin(self) -> _State:
        return _State(self._tables.begin())

    def progress(self, state: _State) -> float:
        return state.scan.mcu / self._tables.plan.mcus

    def judged(self, state: _State) -> bool:
        return state.scan.mcu >= self._per_row

    def rank(self, state: _State, rows: npt.NDArray[np.uint8], anyhow: bool = False) -> tuple[
            npt.NDArray[np.float64], npt.NDArray[np.int64]]:
        if state.closing:
            fits = rows[:, 1] == 0xD9 if state.scan.pending else (
                (rows[:, 1] == 0xFF) & (rows[:, 2] == 0xD9))
            return np.where(fits, ENDED, REFUSED), np.zeros(len(rows), np.int64)
        until = state.scan.mcu + self._per_row
        codes, scores, mcus = trials.try_candidates(self._tables, state.scan, rows, until,
                                                      NO_FLOOR if anyhow else FLOOR)
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
                more, apart = self._witnessed(state, done.state)
                return Step(done.score + ENDED + more, done.scored, _State(
                    done.state, apart=apart), done.marker + 2)
            return Step(REFUSED, 0, state)
        if done.code not in (trials.CLOSING, trials.OPEN):
            return Step(REFUSED, 0, state)
        more, apart = self._witnessed(state, done.state)
        return Step(done.score + more, done.scored, _State(
            done.state, done.code == trials.CLOSING, apart))

    def _witnessed(self, before: _State, now: trials.Resumed) -> tuple[float, float]:
        """(what the thumbnail says of the last row that was decoded, in nats; how far it usually is
        from it)."""
        plan, last = self._tables.plan, now.mcu - 1
        row, right = divmod(last, self._per_row)
        left = max(0, before.scan.mcu - row * self._per_row)
        if self._witness is None or row == 0 or right + 1 - left < FEW_MCUS:
            return 0.0, before.apart
        wide = int(plan.mcu_width[0])
        begin = int(self._tables.first[0])
        edges = now.above[begin + left * wide : begin + (right + 1) * wide]
        return self._witness.judge(
            (row + 1) * self._per_row / plan.mcus, left / self._per_row, edges,
            (right + 1) / self._per_row, before.apart)


@dataclass(frozen=True, slots=True)
class _Begun:
    """A file whose headers are read: the line, and how it stands at the end of the clusters that
    hold them."""

    line: Line
    head: list[int]
    state: Any
    end: int | None
    by_rows: bool


def _join(broken: Broken, bench: Bench) -> Joined | None:
    begun = _begun(broken, bench)
    if begun is None:
        return None
    return Solver(begun.line, bench, LIKE).solve(begun.head, begun.state, begun.end)


def _by_hand(broken: Broken, bench: Bench) -> LineHand | None:
    begun = _begun(broken, bench)
    if begun is None:
        return None
    return LineHand(begun.line, bench, LIKE, tuple(begun.head), begun.state, begun.end,
                    begun.by_rows)


def _begun(broken: Broken, bench: Bench) -> _Begun | None:
    pool = bench.pool
    first = pool.number(broken.start)
    if pool.start(first) != broken.start:
        return None  # it does not begin where pieces do
    count = max(1, min(seg.MAX_HEADER // pool.unit, pool.count - first))
    straight = PiecedSource(pool.source, ((broken.start, count * pool.unit),))
    head = list(range(first, first + count))
    try:
        headers, scan, begin = seg.read_headers(straight)
    except (FormatError, SourceError):
        found = header_in_pieces(bench, first)
        if found is None:
            return None
        head, headers, scan, begin = found
        straight = PiecedSource(pool.source, pool.span(head))
    frame = headers.frame
    if frame is None or not can_decode(headers, scan):
        return None
    grids = make_grids(frame)
    line: Line
    start: Any
    if frame.marker == seg.PROGRESSIVE:
        if headers.restart_interval or grids.dc.size > MAX_CELLS:
            return None
        progressive = ProgressiveLine(headers, scan, grids)
        line, start = progressive, progressive.begin()
    elif len(scan.members) == len(frame.components):
        plan, tables = scan_plan(headers, scan, grids)
        quantisers = [headers.quantisers.get(c.quantiser, (1, 1, 1)) for c in frame.components]
        sequential = _Scan(trials.prepare(plan, tables, quantisers),
                           witness_of(headers, straight))
        line, start = sequential, sequential.begin()
    else:
        return None
    head = head[: begin // pool.unit + 1]
    rest = np.frombuffer(straight.read_at(begin, len(head) * pool.unit - begin), np.uint8)
    step = line.take(start, rest)
    if step.refused:
        return None
    end = None if step.end is None else begin % pool.unit + step.end
    return _Begun(line, head, step.state, end, isinstance(line, _Scan))


def header_in_pieces(bench: Bench, first: int) -> tuple[
        list[int], seg.Headers, seg.ScanHeader, int] | None:
    """(clusters, headers, first scan, byte where its coded data begins) of a file whose headers
    lie in two pieces, the first of which begins with cluster `first`; None where none fits.

    A segment says where the next one begins: a piece must have a marker there.
    """
    pool = bench.pool
    most = max(1, seg.MAX_HEADER // pool.unit)
    straight = PiecedSource(pool.source, pool.span(range(first, min(pool.count, first + most))))
    cuts = _segments_across(straight, pool.unit)
    near = pool.nearest(first, HEADER_NEAR if bench.effort == 0 else EVERYWHERE, LIKE_HEADERS)
    for cut, marker_at in cuts:
        bench.rest()
        offset = marker_at - cut * pool.unit
        for number in near[_marker_there(bench, near, offset)].tolist():
            if number == first + cut:
                continue
            head = [*range(first, first + cut), *range(number, min(
                pool.count, number + most - cut))]
            file = PiecedSource(pool.source, pool.span(head))
            try:
                headers, scan, begin = seg.read_headers(file)
            except (FormatError, SourceError):
                continue
            if headers.frame is not None and _thumbnail_sound(headers, file):
                return head, headers, scan, begin
    return None


def _segments_across(file: Source, unit: int) -> list[tuple[int, int]]:
    """(clusters before the cut, byte of the first marker behind it) for each cut that the segment
    from which reading went wrong, or one before it, lies across; the last ones first."""
    at, cuts = 2, list[tuple[int, int]]()
    for _ in range(seg.MAX_SEGMENTS):
        head = file.read_at(at, 4)
        if len(head) < 4 or head[0] != 0xFF or head[1] in (0, seg.SOS) or at > seg.MAX_HEADER:
            break
        following = at + 2 + int.from_bytes(head[2:], "big")
        cuts += [(cut, following) for cut in range(at // unit + 1, following // unit + 1)]
        at = following
    return cuts[::-1][:MAX_CUTS]


def _marker_there(bench: Bench, numbers: npt.NDArray[np.int64],
                  offset: int) -> npt.NDArray[np.bool_]:
    """Whether a marker segment that a header may have begins `offset` bytes behind each cluster."""
    rows = bench.pool.peek(numbers, offset, 4)
    return np.asarray((rows[:, 0] == 0xFF) & np.isin(rows[:, 1], HEADER_MARKERS) & (
        rows[:, 2] < 0x80) & ((rows[:, 2] > 0) | (rows[:, 3] >= 2)))


def _thumbnail_sound(headers: seg.Headers, file: Source) -> bool:
    """Whether the embedded thumbnail, if there is one, runs to its own end."""
    if headers.exif is None or headers.exif.thumbnail is None:
        return True
    start = headers.exif_at + headers.exif.thumbnail[0]
    try:
        walk = formats()["jpeg"].walk(file, start, start + headers.exif.thumbnail[1])
    except (FormatError, SourceError):
        return False
    return walk.ended and walk.broken is None


register(Joiner("jpeg", frozenset(("jpeg",)), _join, by_hand=_by_hand))
