"""Where a JPEG's coded data stops being its own.

Hard evidence first: codes that do not exist, DC values out of range, restart markers out of order,
too little or too much data, blank sectors. Foreign data is often noticed late, so the place is
then moved back to the sector boundary from which the rows stop continuing those above. Smoothness
alone never convicts: it becomes a suspicion, for a second witness (the thumbnail) to confirm.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from needlewright.core.formats.jpeg_scans import DecodedScan, Grids
from needlewright.core.formats.jpeg_segments import PROGRESSIVE, Frame, Headers
from needlewright.core.kernels.continuity import edge_scores, strongest_run

LOOK_BACK_BYTES = 1 << 16  # farther back than this, a break is noticed in almost no photo
CLEAR_RUN = 6.0  # log-likelihood that moves a known break back
SUSPECT_RUN = 24.0  # log-likelihood that makes a suspicion


@dataclass(frozen=True, slots=True)
class Damage:
    """Damage in coded data; offsets in bytes from the file's start.

    `offset`: the first foreign byte, as far as known; `row`: the first picture row it spoils;
    `share`: part of the picture before it; `certain`: hard evidence; `cut`: nothing behind it is
    known to belong to the file.
    """

    offset: int
    noticed_at: int
    row: int | None
    share: float
    why: str
    certain: bool
    cut: bool


def find_damage(headers: Headers, grids: Grids, scans: list[DecodedScan],
                raw: npt.NDArray[np.uint8], data_start: int, sector: int,
                closed: bool, cut_off: bool) -> Damage | None:
    """Damage in the scan decoded last, whose coded bytes `raw` begin `data_start` into the file.

    `closed`: behind `raw` stands a marker that may follow a scan, so the data looks complete;
    `cut_off`: nothing that could be read stands there.
    """
    frame, scan = headers.frame, scans[-1]
    assert frame is not None
    blank = _blank_sector(raw, data_start, sector, both_ends=scan.complete)
    if blank is not None and (scan.complete or blank <= scan.raw_break + sector):
        return _damage(frame, scans, blank, blank, data_start, "blank", cut=True)
    scores = _scores(headers, frame, grids, scan)
    if scan.complete:
        return _suspicion(frame, scans, scores, data_start)
    at_end = closed and (scan.raw_break >= raw.size - 2 or scan.result.reason == "data-left")
    # What merely runs out is the file's own to its last byte; a marker that ends the data may
    # stand anywhere in foreign data, whose sector begins before it.
    cut_off = cut_off and scan.result.reason == "data-ends"
    stopped = raw.size if at_end or cut_off else scan.raw_break
    last = stopped if cut_off else max(0, _boundary(stopped, data_start, sector))
    start = _start_of_damage(scan, scores, stopped, last, data_start, sector, at_end)
    if scan.result.reason == "data-ends" and closed and start >= raw.size - 2:
        # Nothing looks foreign: the data was simply cut off here.
        return _damage(frame, scans, raw.size, raw.size, data_start, "data-ends", cut=True)
    noticed = min(scan.raw_break, raw.size)
    return _damage(frame, scans, start, max(start, noticed), data_start, scan.result.reason,
                   cut=not (at_end and scan.result.reason == "data-left"))


def _scores(headers: Headers, frame: Frame, grids: Grids,
            scan: DecodedScan) -> npt.NDArray[np.float32]:
    """Edge scores of the MCUs of a scan that holds component 0 of a sequential frame; else none."""
    if frame.marker == PROGRESSIVE or scan.header.members[0][0] != 0:
        return np.zeros(0, np.float32)
    alone = len(scan.header.members) == 1
    component = frame.components[0]
    first, second = grids.edges()
    dc = grids.component_dc(0)
    high, wide = (1, 1) if alone else (component.vertical, component.horizontal)
    if alone:
        dc, first, second = (
            np.ascontiguousarray(g[: scan.plan.mcu_rows, : scan.plan.mcus_per_row])
            for g in (dc, first, second))
    quantisers = headers.quantisers.get(component.quantiser, (1, 1, 1))
    return edge_scores(dc, first, second, quantisers, high, wide, scan.result.mcus_done)


def _start_of_damage(scan: DecodedScan, scores: npt.NDArray[np.float32], noticed: int,
                     last: int, data_start: int, sector: int, at_end: bool) -> int:
    """Raw offset where the damage most likely begins, a sector boundary not behind `last`."""
    if scores.size == 0:
        return noticed if at_end else last
    begin = 0 if at_end else int(np.searchsorted(scan.mcu_raw, noticed - LOOK_BACK_BYTES))
    part = scores[begin:]
    if at_end:
        run, _, weight = strongest_run(part)
        if weight < CLEAR_RUN:
            return noticed
    else:
        sums = np.cumsum(part[::-1], dtype=np.float64)[::-1]
        if sums.size == 0 or sums.max() < CLEAR_RUN:
            return last
        run = int(np.argmax(sums))
    # The first spoiled MCU begins at or just behind the first foreign byte.
    place = int(scan.mcu_raw[min(begin + run + 1, len(scan.mcu_raw) - 1)])
    return max(0, min(_boundary(place, data_start, sector), noticed if at_end else last))


def _boundary(raw_offset: int, data_start: int, sector: int) -> int:
    """The last sector boundary of the file at or before `raw_offset`, as a raw offset."""
    return (raw_offset + data_start) // sector * sector - data_start


def _suspicion(frame: Frame, scans: list[DecodedScan], scores: npt.NDArray[np.float32],
               data_start: int) -> Damage | None:
    start, _, weight = strongest_run(scores)
    if weight < SUSPECT_RUN:
        return None
    place = int(scans[-1].mcu_raw[start])
    found = _damage(frame, scans, place, place, data_start, "rows-jump", cut=False)
    return Damage(found.offset, found.noticed_at, found.row, found.share, found.why, False, False)


def _blank_sector(raw: npt.NDArray[np.uint8], data_start: int, sector: int,
                  both_ends: bool) -> int | None:
    """Raw offset of the first run of constant sectors that begins exactly at a sector boundary.

    Flat pictures can code to constant bytes, but they do not begin to at a boundary; where all
    else is in order (`both_ends`) the run must end at one too.
    """
    skip = -data_start % sector
    count = (raw.size - skip) // sector
    if count <= 0:
        return None
    sectors = raw[skip : skip + count * sector].reshape(count, sector)
    ends = np.flatnonzero((sectors[:, 0] == sectors[:, -1]) & (sectors[:, 0] == sectors[:, 9]))
    flat = [int(i) for i in ends if not (sectors[i] != sectors[i, 0]).any()]
    chosen = set(flat)
    for index in flat:
        at = skip + index * sector
        value = raw[at]
        starts = index - 1 not in chosen and (at == 0 or raw[at - 1] != value)
        if not starts:
            continue
        stop = index
        while stop + 1 in chosen:
            stop += 1
        behind = skip + (stop + 1) * sector
        if not both_ends or behind >= raw.size or raw[behind] != value:
            return at
    return None


def _damage(frame: Frame, scans: list[DecodedScan], start: int, noticed: int, data_start: int,
            why: str, cut: bool) -> Damage:
    """The damage at raw offset `start` of the last scan, with its row and share."""
    scan = scans[-1]
    mcu = int(np.searchsorted(scan.mcu_raw[: scan.result.mcus_done], start, side="right")) - 1
    mcu = max(0, min(mcu, scan.plan.mcus))
    if start > int(scan.mcu_raw[-1]):
        mcu = scan.result.mcus_done
    row_height = 8 * (1 if len(scan.header.members) == 1 else frame.max_vertical)
    row = min(frame.height, mcu // scan.plan.mcus_per_row * row_height)
    share = mcu / max(1, scan.plan.mcus)
    if frame.marker == PROGRESSIVE:
        share = _progressive_share(scan, share, len(scans))
    elif len(scan.header.members) < len(frame.components):
        share = (len(scans) - 1 + share) / len(frame.components)
    return Damage(data_start + start, data_start + noticed, row, round(share, 4), why, True, cut)


def _progressive_share(scan: DecodedScan, area: float, scans: int) -> float:
    """Part of the picture: the rows that the first scan reached, less what finer scans lack.

    Until all scans are read it is not known how many there are; ten is what encoders write.
    """
    if scan.header.band[0] == 0 and scan.header.high == 0:
        return area * 0.1
    return min(0.99, (scans - 1 + area) / max(10, scans))
