"""Progressive JPEG frames (ITU-T T.81, G) for the solver: scan after scan, each to its own end.

The first scan's DC values are compared with the rows above, as in sequential frames. Later scans
show no picture by themselves, but have much to say where earlier ones did (`activity`). Frames
with restart markers are left alone.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import numpy.typing as npt

from needlewright.core.errors import FormatError
from needlewright.core.formats import jpeg_segments as seg
from needlewright.core.formats.jpeg_scans import Grids, can_decode, scan_plan
from needlewright.core.kernels.jpeg_baseline import DecodeState, ScanPlan
from needlewright.core.kernels.jpeg_bits import PAD, CleanScan, HuffmanTable, scan_end, unstuff
from needlewright.core.kernels.jpeg_progressive import decode_progressive
from needlewright.core.kernels.likeness import CLIP, FLOOR, PLAIN, SPREAD
from needlewright.core.stitching.base import REFUSED, Line, Step
from needlewright.core.stitching.pictures.activity import (
    AS_BEFORE,
    TRAINED,
    TRAINED_LEAST,
    Activity,
    Expected,
    activity,
)

MAX_CELLS = 1_000_000  # blocks of a frame: some 40 megapixels
MAX_BETWEEN = 1 << 17  # bytes of segments between two scans
END_BYTES = 6  # before the end of the data, where an error may be no more than the end
ENDED, SCAN_ENDED = 12.0, 8.0  # nats that an end at the right place is worth
KEPT_PLANS = 64
Bytes = npt.NDArray[np.uint8]
Refused = Step(REFUSED, 0, None)


@dataclass(frozen=True, slots=True)
class State:
    """`scan`: the one that is being decoded, None between two; `resume`: where it stands, None at
    its beginning. `tail`: its data without stuffing that is not decoded yet, or the bytes between
    scans so far; `pending`: the last byte was an FF whose meaning the next one tells. `dc`,
    `masks`: as in `Grids`; `scans`: how many are done; `known`: of the component of a scan of AC
    coefficients, before it."""

    headers: seg.Headers
    scan: seg.ScanHeader | None
    resume: DecodeState | None
    tail: bytes
    pending: bool
    dc: npt.NDArray[np.int16]
    masks: npt.NDArray[np.uint64]
    scans: int = 0
    known: Activity | None = None

    @property
    def mcu(self) -> int:
        return 0 if self.resume is None else self.resume.mcu


class ProgressiveLine(Line):
    """One progressive frame."""

    slow, ahead, kept = 8, 4, 24
    work = 24, 120
    doubt, fair, expected = 0.1, 0.25, 0.3

    def __init__(self, headers: seg.Headers, scan: seg.ScanHeader, grids: Grids) -> None:
        self._grids, self._first = grids, scan
        self._headers = headers
        self._shapes = [(int(b), int(s), int(r)) for b, s, r in zip(
            grids.base, grids.stride, grids.rows)]
        self._plans: list[tuple[seg.ScanHeader, tuple[ScanPlan, list[HuffmanTable]]]] = []
        self._latest: tuple[DecodeState | None, Activity, Expected | None] | None = None
        self._at_seam: tuple[State, dict[int, Activity]] | None = None

    def begin(self) -> State:
        return State(_copied(self._headers), self._first, None, b"", False, self._grids.dc,
                     self._grids.masks)

    def progress(self, state: State) -> float:
        plan = None if state.scan is None else self._plan(state)[0]
        part = 0.0 if plan is None else state.mcu / max(1, plan.mcus)
        return min(0.99, (state.scans + part) / 12)

    def judged(self, state: State) -> bool:
        if state.scan is None:
            return False
        if state.scan.band[0]:
            return _steady(state.scan) or state.mcu >= TRAINED_LEAST
        return state.mcu >= self._plan(state)[0].mcus_per_row

    def rank(self, state: State, rows: Bytes, anyhow: bool = False) -> tuple[
            npt.NDArray[np.float64], npt.NDArray[np.int64]]:
        scores, scored = np.full(len(rows), REFUSED), np.zeros(len(rows), np.int64)
        dc, masks = state.dc.copy(), state.masks.copy()
        first = state.scan is None or state.scan.band[0] == 0
        for index, row in enumerate(rows):
            np.copyto(dc, state.dc)
            if not first or state.scan is None:
                np.copyto(masks, state.masks)
            step = self._run(state, row[1:], dc, masks, state, deep=False)
            scores[index], scored[index] = step.score, step.scored
        return scores, scored

    def take(self, state: State, raw: Bytes, since: State | None = None) -> Step:
        return self._run(state, raw, state.dc.copy(), state.masks.copy(), since, deep=True)

    def _plan(self, state: State) -> tuple[ScanPlan, list[HuffmanTable]]:
        assert state.scan is not None
        for scan, plan in self._plans:
            if scan is state.scan:
                return plan
        made = scan_plan(state.headers, state.scan, self._grids)
        self._plans = [*self._plans[-KEPT_PLANS:], (state.scan, made)]
        return made

    def _run(self, state: State, raw: Bytes, dc: npt.NDArray[np.int16],
             masks: npt.NDArray[np.uint64], since: State | None, deep: bool) -> Step:
        """Follow `raw` from `state`; not `deep`: no farther than the end of the scan."""
        headers, scan, resume = state.headers, state.scan, state.resume
        tail, scans, score, scored, known = state.tail, state.scans, 0.0, 0, state.known
        rest = raw if not state.pending or scan is None else np.concatenate((_FF, raw))
        between = b"" if scan is not None else tail + raw.tobytes()
        while True:
            if scan is None:
                at = 0
                headers = _copied(headers)
                found = _segments(headers, between, at)
                if found is None or len(between) > MAX_BETWEEN + raw.size:
                    return Refused
                kind, at, scan = found
                if kind == "more":
                    return Step(score, scored, replace(
                        state, headers=headers, scan=None, resume=None, tail=between[at:],
                        pending=False, dc=dc, masks=masks, scans=scans))
                if kind == "end":
                    used = at - (len(between) - raw.size)
                    return Step(score + ENDED, scored, replace(
                        state, headers=headers, scan=None, tail=b"", dc=dc, masks=masks,
                        scans=scans), max(1, used))
                if scan is None or headers.restart_interval or not can_decode(headers, scan):
                    return Refused
                rest, tail, resume = np.frombuffer(between[at:], np.uint8), b"", None
            if resume is None and scan.band[0]:
                known = self._known(dc, masks, scan.members[0][0])
            here = State(headers, scan, resume, tail, False, dc, masks, scans, known)
            plan, tables = self._plan(here)
            stop = scan_end(rest)
            ended = stop < rest.size
            fresh = unstuff(np.ascontiguousarray(rest[:stop]), 2)
            if fresh.seg_clean.size > 1:
                return Refused  # a restart marker where there are none
            clean = np.concatenate((np.frombuffer(tail, np.uint8), fresh.clean[: fresh.size],
                                    np.zeros(PAD, np.uint8)))
            size = clean.size - PAD
            whole = CleanScan(clean, size, np.zeros(1, np.int64), np.zeros(1, np.int64),
                              np.full(1, -1, np.int64), rest, np.zeros(1, np.int64))
            done = decode_progressive(whole, plan, tables, scan.band, scan.high, scan.low, dc,
                                      masks, np.zeros(plan.mcus, np.int64), resume)
            more, count = self._likeness(here, plan, 0 if resume is None else resume.mcu,
                                         done.mcus_done, since)
            score, scored = score + more, scored + count
            if done.reason != "complete":
                at_end = done.reason == "data-ends" or done.clean_offset >= size - END_BYTES
                if ended or not at_end:
                    return Refused
                bit = max(0, done.state.bit)
                left = clean[bit >> 3 : size].tobytes()
                return Step(score, scored, replace(
                    here, resume=replace(done.state, bit=bit & 7, segment=0), tail=left,
                    pending=_pends(rest, stop)))
            scan, resume, scans = None, None, scans + 1
            score += SCAN_ENDED
            between = rest[stop:].tobytes() if ended else (b"\xff" if _pends(rest, stop) else b"")
            if not ended or not deep:
                return Step(score, scored, State(headers, None, None, between, False, dc, masks,
                                                 scans))

    def _likeness(self, state: State, plan: ScanPlan, first: int, last: int,
                  since: State | None) -> tuple[float, int]:
        """(how much the MCUs from `first` to `last` continue those above, in nats; how many)."""
        assert state.scan is not None
        if state.scan.band[0]:
            return self._following(state, plan, first, last, since)
        if since is not None and since.scan is state.scan:
            last = min(last, since.mcu + plan.mcus_per_row)
        elif since is not None:
            return 0.0, 0
        first = max(first, plan.mcus_per_row)
        if last <= first or state.scan.high:
            return 0.0, 0
        index = state.scan.members[0][0]
        start, stride, rows = self._shapes[index]
        per_row, wide, high = plan.mcus_per_row, int(plan.mcu_width[index]), int(
            plan.mcu_height[index])
        score, count = 0.0, 0
        for row in range(first // per_row, -(-last // per_row)):
            low = max(first, row * per_row) - row * per_row
            stop = min(last, (row + 1) * per_row) - row * per_row
            if stop <= low:
                continue
            grid = state.dc[start : start + stride * rows].reshape(rows, stride)
            quantiser = state.headers.quantisers.get(
                self._quantiser(state, index), (1, 1, 1))[0]
            score += _edges(grid, row * high, low * wide, stop * wide, quantiser / 8)
            count += stop - low
        return score, count

    def _following(self, state: State, plan: ScanPlan, first: int, last: int,
                   since: State | None) -> tuple[float, int]:
        """The same of a scan of AC coefficients."""
        scan, known = state.scan, state.known
        assert scan is not None
        index = scan.members[0][0]
        if since is not None and since.scan is not scan:
            if since.scans == 0:
                return 0.0, 0
            known = self._known_at(since, index)  # no more than what is not on trial
        if known is None:
            return 0.0, 0
        expected = self._learnt(plan, index, state, known)
        if expected is None:
            if not _steady(scan):
                return 0.0, 0
            expected = AS_BEFORE
        return known.likeness(self._part(state.masks, index), self._cells(plan, index, first, last),
                              expected)

    def _learnt(self, plan: ScanPlan, index: int, state: State, known: Activity) -> Expected | None:
        """What to expect behind `state`: of what is on trial too, since what it says is compared
        with what is not."""
        resume = state.resume
        if self._latest is None or self._latest[0] is not resume or self._latest[1] is not known:
            cells = self._cells(plan, index, max(0, state.mcu - TRAINED), state.mcu)
            self._latest = resume, known, known.learnt(self._part(state.masks, index), cells)
        return self._latest[2]

    def _known_at(self, since: State, index: int) -> Activity:
        if self._at_seam is None or self._at_seam[0] is not since:
            self._at_seam = since, {}
        if index not in self._at_seam[1]:
            self._at_seam[1][index] = self._known(since.dc, since.masks, index)
        return self._at_seam[1][index]

    def _known(self, dc: npt.NDArray[np.int16], masks: npt.NDArray[np.uint64],
               index: int) -> Activity:
        shape = self._shapes[index][2], self._shapes[index][1]
        first = self._shapes[0][2], self._shapes[0][1]
        return activity(self._part(dc, index).reshape(shape),
                        self._part(masks, index).reshape(shape),
                        self._part(masks, 0).reshape(first) if index else None)

    def _part(self, cells: npt.NDArray[Any], index: int) -> npt.NDArray[Any]:
        start, stride, rows = self._shapes[index]
        return cells[start : start + stride * rows]

    def _cells(self, plan: ScanPlan, index: int, first: int, last: int) -> npt.NDArray[np.int64]:
        """Cells of the blocks `first` to `last` of a scan of one component."""
        blocks = np.arange(first, last)
        return blocks // plan.mcus_per_row * self._shapes[index][1] + blocks % plan.mcus_per_row

    @staticmethod
    def _quantiser(state: State, index: int) -> int:
        frame = state.headers.frame
        return 0 if frame is None else frame.components[index].quantiser


_FF = np.full(1, 0xFF, np.uint8)


def _steady(scan: seg.ScanHeader) -> bool:
    """Whether what this scan says follows earlier ones, without anything learnt: the refinement
    of luma may say most where they said least."""
    return scan.high == 0 or scan.members[0][0] > 0


def _pends(rest: Bytes, stop: int) -> bool:
    return stop == rest.size and rest.size > 0 and int(rest[-1]) == 0xFF


def _copied(headers: seg.Headers) -> seg.Headers:
    return replace(headers, huffman=dict(headers.huffman), quantisers=dict(headers.quantisers))


def _segments(headers: seg.Headers, data: bytes, at: int) -> tuple[
        str, int, seg.ScanHeader | None] | None:
    """("scan", where its data begin, its header), ("end", behind the end mark, None), ("more", from
    where more bytes are needed, None); None where no segment can stand."""
    while True:
        if len(data) - at < 2:
            return ("more", at, None) if data[at:] in (b"", b"\xff") else None
        if data[at] != 0xFF:
            return None
        marker = data[at + 1]
        if marker == 0xFF:
            at += 1
            continue
        if marker == seg.EOI:
            return "end", at + 2, None
        if marker not in (seg.DHT, seg.DQT, seg.DRI, seg.COM, seg.SOS):
            return None
        if len(data) - at < 4:
            return "more", at, None
        length = int.from_bytes(data[at + 2 : at + 4], "big")
        if length < 2 or length > 1 << 12:
            return None
        if len(data) - at < 2 + length:
            return "more", at, None
        body = data[at + 4 : at + 2 + length]
        try:
            if marker == seg.SOS:
                return "scan", at + 2 + length, seg.read_scan(headers, body, at)
            seg.read_segment(headers, marker, body, at, 0)
        except FormatError:
            return None
        at += 2 + length


def _edges(grid: npt.NDArray[np.int16], row: int, low: int, stop: int, scale: float) -> float:
    """How the DC values of a row of blocks continue the row above, in nats."""
    if row < 2:
        return 0.0
    above = grid[row - 1, low:stop].astype(np.float32) * scale
    jump = np.abs(grid[row, low:stop].astype(np.float32) * scale - above)
    rough = np.abs(above - grid[row - 2, low:stop].astype(np.float32) * scale)
    window = np.ones(7, np.float32) / 7
    local = np.convolve(np.pad(rough, 3, mode="edge"), window, "valid")[: jump.size] + FLOOR
    own = 2.0 / (local * (1 + jump / local) ** 3)
    foreign = (np.exp(-jump / SPREAD[0]) / SPREAD[0] + np.exp(-jump / PLAIN[0]) / PLAIN[0]) / 2
    return float(np.clip(np.log(own / (foreign + 1e-9)), -CLIP[0], CLIP[0]).sum())
