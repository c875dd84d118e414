"""The coded data of a JPEG: one frame's scans decoded one after another, as far as they go."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from needlewright.core.formats.jpeg_segments import (
    PROGRESSIVE,
    SEQUENTIAL,
    Frame,
    Headers,
    ScanHeader,
)
from needlewright.core.kernels.jpeg_baseline import ScanPlan, ScanResult, decode_baseline
from needlewright.core.kernels.jpeg_bits import CleanScan, HuffmanTable, unstuff
from needlewright.core.kernels.jpeg_progressive import decode_progressive

#: Pixels beyond which a frame is taken for damage or malice and not decoded here.
MAX_PIXELS = 600_000_000


@dataclass(slots=True)
class Grids:
    """What the scans of one frame leave behind, one cell a block, components one after another.

    `dc`, `edge1`, `edge2`: quantised coefficients (0,0), (1,0), (2,0), int16; the edges only for
    component 0. `stride`, `rows`, `base`: columns, rows and start of each component's grid.
    """

    stride: npt.NDArray[np.int64]
    rows: npt.NDArray[np.int64]
    base: npt.NDArray[np.int64]
    dc: npt.NDArray[np.int16]
    edge1: npt.NDArray[np.int16]
    edge2: npt.NDArray[np.int16]
    masks: npt.NDArray[np.uint64]

    def component_dc(self, index: int) -> npt.NDArray[np.int16]:
        """int16[rows, columns] of DC values of component `index`."""
        return self._shape(self.dc, index)

    def edges(self) -> tuple[npt.NDArray[np.int16], npt.NDArray[np.int16]]:
        """The two vertical coefficients of component 0, int16[rows, columns] each."""
        return self._shape(self.edge1, 0), self._shape(self.edge2, 0)

    def _shape(self, cells: npt.NDArray[np.int16], index: int) -> npt.NDArray[np.int16]:
        start, columns, rows = int(self.base[index]), int(self.stride[index]), int(self.rows[index])
        return cells[start : start + columns * rows].reshape(rows, columns)


@dataclass(frozen=True)
class DecodedScan:
    """A scan as far as it decoded; `mcu_at` int64[MCUs]: clean offset of each MCU that did."""

    header: ScanHeader
    plan: ScanPlan
    result: ScanResult
    clean: CleanScan
    mcu_at: npt.NDArray[np.int64]

    @cached_property
    def mcu_raw(self) -> npt.NDArray[np.int64]:
        """Raw offset of each MCU and of the place where decoding stopped, int64[done + 1]."""
        done = self.mcu_at[: self.result.mcus_done]
        return self.clean.raw_offsets(np.append(done, self.result.clean_offset))

    def without_data(self) -> DecodedScan:
        """The same without its bytes: of scans that are done with, only the outcome is kept."""
        nothing = np.zeros(0, np.int64)
        clean = unstuff(np.zeros(0, np.uint8), 1)
        return DecodedScan(self.header, self.plan, self.result, clean, nothing)

    @property
    def raw_break(self) -> int:
        """Raw offset where decoding stopped."""
        return int(self.clean.raw_offsets(np.array([self.result.clean_offset]))[0])

    @property
    def complete(self) -> bool:
        return self.result.reason == "complete"


def make_grids(frame: Frame) -> Grids:
    """Empty grids for `frame`; call only for frames within MAX_PIXELS."""
    stride = np.array([frame.mcus_per_row * c.horizontal for c in frame.components], np.int64)
    rows = np.array([frame.mcu_rows * c.vertical for c in frame.components], np.int64)
    cells = stride * rows
    base = np.concatenate(([0], np.cumsum(cells)[:-1])).astype(np.int64)
    total = int(cells.sum())
    masks = total if frame.marker == PROGRESSIVE else 0
    edges = 0 if frame.marker == PROGRESSIVE else int(cells[0])
    return Grids(
        stride, rows, base, np.zeros(total, np.int16), np.zeros(edges, np.int16),
        np.zeros(edges, np.int16), np.zeros(masks, np.uint64),
    )


def can_decode(headers: Headers, scan: ScanHeader) -> bool:
    """Whether the kernels know this frame and have all tables that the scan names."""
    frame = headers.frame
    if frame is None or frame.height == 0 or frame.width * frame.height > MAX_PIXELS:
        return False
    if frame.marker not in SEQUENTIAL and frame.marker != PROGRESSIVE:
        return False
    needs_dc = scan.band[0] == 0 and scan.high == 0
    needs_ac = scan.band[1] > 0
    return all(
        (not needs_dc or (0, dc) in headers.huffman)
        and (not needs_ac or (1, ac) in headers.huffman)
        for _, dc, ac in scan.members
    )


def _plan(headers: Headers, frame: Frame, scan: ScanHeader, grids: Grids,
          places: dict[tuple[int, int], int]) -> ScanPlan:
    count = len(frame.components)
    blocks: list[tuple[int, int, int]] = []
    width, height = np.ones(count, np.int64), np.ones(count, np.int64)
    if len(scan.members) == 1:
        index = scan.members[0][0]
        blocks.append((index, 0, 0))
        per_row, rows = frame.component_blocks(index)
    else:
        per_row, rows = frame.mcus_per_row, frame.mcu_rows
        for index, _, _ in scan.members:
            component = frame.components[index]
            width[index], height[index] = component.horizontal, component.vertical
            blocks += [
                (index, dx, dy)
                for dy in range(component.vertical) for dx in range(component.horizontal)
            ]
    dc_table, ac_table = np.zeros(count, np.int64), np.zeros(count, np.int64)
    for index, dc, ac in scan.members:
        dc_table[index], ac_table[index] = places.get((0, dc), 0), places.get((1, ac), 0)
    layout = np.array(blocks, np.int64)
    return ScanPlan(
        layout[:, 0].copy(), layout[:, 1].copy(), layout[:, 2].copy(), per_row, rows, width,
        height, grids.stride, grids.base, dc_table, ac_table, _dc_limits(headers, frame),
        headers.restart_interval,
    )


def _dc_limits(headers: Headers, frame: Frame) -> npt.NDArray[np.int64]:
    """Largest plausible |DC| before quantisation is undone.

    Samples span 2^precision, so DC lies within 2^(precision + 2) (T.81 A.3.3: the DC value is
    eight times the mean). Clipping in encoders and rounding overshoot that a little; foreign data
    runs off without bound, since each DC value adds to the one before.
    """
    span = 1 << (frame.precision + 2)
    limits = []
    for component in frame.components:
        quantiser = max(1, headers.quantisers.get(component.quantiser, (1, 1, 1))[0])
        limits.append(min(int(span * 1.15) // quantiser + 2, 32_000))
    return np.array(limits, np.int64)


def scan_plan(headers: Headers, scan: ScanHeader, grids: Grids) -> tuple[
        ScanPlan, list[HuffmanTable]]:
    """(how the blocks of `scan` are laid out, the tables it may use); call where `can_decode`."""
    frame = headers.frame
    assert frame is not None
    keys = sorted(headers.huffman)
    tables = [headers.huffman[key] for key in keys]
    return _plan(headers, frame, scan, grids, {key: i for i, key in enumerate(keys)}), tables


def decode_scan(headers: Headers, scan: ScanHeader, grids: Grids,
                raw: npt.NDArray[np.uint8]) -> DecodedScan:
    """Decode `scan` from its coded bytes `raw` uint8[n] (up to the next marker) into `grids`."""
    frame = headers.frame
    assert frame is not None  # can_decode has said so
    plan, tables = scan_plan(headers, scan, grids)
    interval = plan.restart_interval
    segments = plan.mcus // interval + 3 if interval else 2
    clean: CleanScan = unstuff(raw, segments)
    mcu_at = np.zeros(plan.mcus, np.int64)
    if frame.marker == PROGRESSIVE:
        result = decode_progressive(
            clean, plan, tables, scan.band, scan.high, scan.low, grids.dc, grids.masks, mcu_at)
    else:
        result = decode_baseline(clean, plan, tables, grids.dc, grids.edge1, grids.edge2, mcu_at)
    return DecodedScan(scan, plan, result, clean, mcu_at)
