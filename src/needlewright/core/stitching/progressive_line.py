"""Progressive JPEG frames (ITU-T T.81, G) for the solver: scan after scan, each to its own end.

The first scan's DC values are compared with the rows above, as in sequential frames. Later scans
show no picture by themselves: there, where one row of blocks is busy, the next one is too. Scans
with restart markers are left alone.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

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

MAX_CELLS = 1_000_000  # blocks of a frame: some 40 megapixels
MAX_BETWEEN = 1 << 17  # bytes of segments between two scans
END_BYTES = 6  # before the end of the data, where an error may be no more than the end
ENDED, SCAN_ENDED = 12.0, 8.0  # nats that an end at the right place is worth
KEPT_PLANS = 64
FEW = 24  # blocks that tell nothing yet
BUSY = 4.0  # how much likeness in activity counts
Bytes = npt.NDArray[np.uint8]
Refused = Step(REFUSED, 0, None)


@dataclass(frozen=True, slots=True)
class State:
    """`scan`: the one that is being decoded, None between two; `resume`: where it stands, None at
    its beginning. `tail`: its data without stuffing that is not decoded yet, or the bytes between
    scans so far; `pending`: the last byte was an FF whose meaning the next one tells. `dc`,
    `masks`: as in `Grids`; `scans`: how many are done."""

    headers: seg.Headers
    scan: seg.ScanHeader | None
    resume: DecodeState | None
    tail: bytes
    pending: bool
    dc: npt.NDArray[np.int16]
    masks: npt.NDArray[np.uint64]
    scans: int = 0

    @property
    def mcu(self) -> int:
        return 0 if self.resume is None else self.resume.mcu


class ProgressiveLine(Line):
    """One progressive frame."""

    slow = 8
    doubt = 0.1

    def __init__(self, headers: seg.Headers, scan: seg.ScanHeader, grids: Grids) -> None:
        self._grids, self._first = grids, scan
        self._headers = headers
        self._shapes = [(int(b), int(s), int(r)) for b, s, r in zip(
            grids.base, grids.stride, grids.rows)]
        self._plans: list[tuple[seg.ScanHeader, tuple[ScanPlan, list[HuffmanTable]]]] = []

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
        rows = 1 if state.scan.band[0] == 0 else 2
        return state.mcu >= rows * self._plan(state)[0].mcus_per_row

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
        tail, scans, score, scored = state.tail, state.scans, 0.0, 0
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
            here = State(headers, scan, resume, tail, False, dc, masks, scans)
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
        if since is not None and since.scan is state.scan:
            last = min(last, since.mcu + plan.mcus_per_row)
        elif since is not None:
            return 0.0, 0
        first = max(first, plan.mcus_per_row)
        if last <= first:
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
            if state.scan.band[0] == 0:
                if state.scan.high == 0:
                    grid = state.dc[start : start + stride * rows].reshape(rows, stride)
                    quantiser = state.headers.quantisers.get(
                        self._quantiser(state, index), (1, 1, 1))[0]
                    score += _edges(grid, row * high, low * wide, stop * wide, quantiser / 8)
                    count += stop - low
            else:
                busy = state.masks[start : start + stride * rows].reshape(rows, stride)
                score += _activity(busy[row, low:stop], busy[row - 1, low:stop])
                count += stop - low
        return score, count

    @staticmethod
    def _quantiser(state: State, index: int) -> int:
        frame = state.headers.frame
        return 0 if frame is None else frame.components[index].quantiser


_FF = np.full(1, 0xFF, np.uint8)


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


def _activity(row: npt.NDArray[np.uint64], above: npt.NDArray[np.uint64]) -> float:
    """How alike two rows of blocks are in where something is coded, in nats."""
    if row.size < FEW:
        return 0.0
    one, two = np.log1p(_ones(row)), np.log1p(_ones(above))
    if one.std() < 0.05 or two.std() < 0.05:
        return 0.0
    same = float(np.corrcoef(one, two)[0, 1])
    gain = -0.5 * np.log(max(1e-3, 1 - same * same))
    return float(BUSY * row.size * (gain if same > 0 else -gain))


def _ones(words: npt.NDArray[np.uint64]) -> npt.NDArray[np.float64]:
    bits = np.unpackbits(np.ascontiguousarray(words).view(np.uint8).reshape(-1, 8), axis=1)
    return np.asarray(bits.sum(axis=1), np.float64)
