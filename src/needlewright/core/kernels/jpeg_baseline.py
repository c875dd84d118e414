"""Baseline and extended sequential Huffman decoding of JPEG scans (ITU-T T.81, F.2).

Decodes what locates damage and nothing more: each block's DC coefficient, the first two vertical
AC coefficients of the first component, and where in the data each MCU begins.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from numba import njit

from needlewright.core.kernels.jpeg_bits import CleanScan, HuffmanTable, decode_symbol, peek64

# Reasons why a scan stops, in the order of the kernel's return codes.
COMPLETE, BAD_CODE, BLOCK_OVERFULL, DC_RANGE, DATA_ENDS, RESTART_ORDER, DATA_LEFT = range(7)
REASONS = (
    "complete", "bad-code", "block-overfull", "dc-range", "data-ends", "restart-order", "data-left"
)

#: Bytes that may stay behind the last MCU: some encoders leave a few; foreign data leaves more.
SLACK_BYTES = 8


@dataclass(frozen=True, slots=True)
class ScanPlan:
    """How the blocks of one scan are laid out.

    `block_component`, `block_dx`, `block_dy` int64[b]: for each block of an MCU, the index of its
    component in the frame and its place in the MCU. `stride`, `base` int64[c]: blocks in a row of
    each component's grid and where the grid starts in the shared arrays. `dc_table`, `ac_table`
    int64[c] index `tables`. `dc_limit` int64[c] bounds a quantised DC value.
    """

    block_component: npt.NDArray[np.int64]
    block_dx: npt.NDArray[np.int64]
    block_dy: npt.NDArray[np.int64]
    mcus_per_row: int
    mcu_rows: int
    mcu_width: npt.NDArray[np.int64]
    mcu_height: npt.NDArray[np.int64]
    stride: npt.NDArray[np.int64]
    base: npt.NDArray[np.int64]
    dc_table: npt.NDArray[np.int64]
    ac_table: npt.NDArray[np.int64]
    dc_limit: npt.NDArray[np.int64]
    restart_interval: int

    @property
    def mcus(self) -> int:
        return self.mcus_per_row * self.mcu_rows


@dataclass(frozen=True, slots=True)
class ScanResult:
    """How far a scan decoded: MCUs done, why it stopped, the clean byte offset of that place."""

    mcus_done: int
    reason: str
    clean_offset: int
    segment: int


def stack_tables(tables: list[HuffmanTable]) -> tuple[npt.NDArray[np.generic], ...]:
    """The tables as (lookup, maxcode, delta, symbols), each with the table as first axis."""
    return (
        np.stack([t.lookup for t in tables]), np.stack([t.maxcode for t in tables]),
        np.stack([t.delta for t in tables]), np.stack([t.symbols for t in tables]),
    )


@njit(cache=True, nogil=True)
def _decode(clean, clean_size, seg_clean, seg_number, lookup, maxcode, delta, symbols,
            block_component, block_dx, block_dy, per_row, total, mcu_width, mcu_height, stride,
            base, dc_table, ac_table, dc_limit, restart, dc, edge1, edge2, mcu_at):
    segments = seg_clean.size
    prediction = np.zeros(dc_limit.size, np.int64)
    edges = edge1.size
    mcu = 0
    segment = 0
    bit = np.uint64(0)
    while mcu < total:
        stop_byte = seg_clean[segment + 1] if segment + 1 < segments else clean_size
        stop_bit = np.uint64(stop_byte) * np.uint64(8)
        bit = np.uint64(seg_clean[segment]) * np.uint64(8)
        prediction[:] = 0
        last = min(total, mcu + restart) if restart > 0 else total
        while mcu < last:
            mcu_at[mcu] = np.int64(bit >> np.uint64(3))
            row = mcu // per_row
            column = mcu - row * per_row
            for b in range(block_component.size):
                c = block_component[b]
                word = peek64(clean, bit)
                entry = decode_symbol(word, dc_table[c], lookup, maxcode, delta, symbols)
                if entry < 0:
                    return mcu, BAD_CODE, np.int64(bit), segment
                length = np.uint64(entry & 0xFF)
                size = np.uint64(entry >> 8)
                if size > np.uint64(15):
                    return mcu, BAD_CODE, np.int64(bit), segment
                if size > np.uint64(0):
                    value = np.int64((word << length) >> (np.uint64(64) - size))
                    if value < (np.int64(1) << (np.int64(size) - 1)):
                        value -= (np.int64(1) << np.int64(size)) - 1
                    prediction[c] += value
                    if prediction[c] > dc_limit[c] or prediction[c] < -dc_limit[c]:
                        return mcu, DC_RANGE, np.int64(bit), segment
                bit += length + size
                place = base[c] + (row * mcu_height[c] + block_dy[b]) * stride[c] \
                    + column * mcu_width[c] + block_dx[b]
                dc[place] = prediction[c]
                k = 1
                table = ac_table[c]
                while k < 64:
                    word = peek64(clean, bit)
                    entry = np.int64(lookup[table, word >> np.uint64(54)])
                    if entry == 0:
                        entry = decode_symbol(word, table, lookup, maxcode, delta, symbols)
                        if entry < 0:
                            return mcu, BAD_CODE, np.int64(bit), segment
                    length = np.uint64(entry & 0xFF)
                    size = np.uint64((entry >> 8) & 15)
                    run = entry >> 12
                    bit += length + size
                    if size == np.uint64(0):
                        if run == 0:
                            break
                        if run < 15:  # EOBn belongs to progressive scans only
                            return mcu, BAD_CODE, np.int64(bit), segment
                        k += 16
                        continue
                    k += run
                    if k > 63:
                        return mcu, BLOCK_OVERFULL, np.int64(bit), segment
                    if k <= 3 and k >= 2 and place < edges:
                        value = np.int64((word << length) >> (np.uint64(64) - size))
                        if value < (np.int64(1) << (np.int64(size) - 1)):
                            value -= (np.int64(1) << np.int64(size)) - 1
                        if k == 2:
                            edge1[place] = value
                        else:
                            edge2[place] = value
                    k += 1
                if k > 64:
                    return mcu, BLOCK_OVERFULL, np.int64(bit), segment
                if bit > stop_bit:
                    return mcu, DATA_ENDS, np.int64(bit), segment
            mcu += 1
        if mcu >= total:
            break
        spare = np.int64(stop_bit - bit)
        if spare >= 8 * (SLACK_BYTES + 1):
            return mcu, DATA_LEFT, np.int64(bit), segment
        segment += 1
        if segment >= segments:
            return mcu, DATA_ENDS, np.int64(bit), segment - 1
        if seg_number[segment] != (segment - 1) % 8:
            return mcu, RESTART_ORDER, np.int64(bit), segment
    if segment + 1 < segments:
        return mcu, RESTART_ORDER, np.int64(bit), segment + 1
    if np.int64(clean_size) * 8 - np.int64(bit) >= 8 * (SLACK_BYTES + 1):
        return mcu, DATA_LEFT, np.int64(bit), segment
    return mcu, COMPLETE, np.int64(bit), segment


def decode_baseline(
    scan: CleanScan, plan: ScanPlan, tables: list[HuffmanTable],
    dc: npt.NDArray[np.int16], edge1: npt.NDArray[np.int16], edge2: npt.NDArray[np.int16],
    mcu_at: npt.NDArray[np.int64],
) -> ScanResult:
    """Decode `scan` into the shared grids; returns how far it came and why it ended.

    `dc` int16[all blocks]: quantised DC values; `edge1`, `edge2` int16[blocks of component 0]:
    quantised coefficients (1,0) and (2,0); `mcu_at` int64[MCUs]: clean offset of each MCU.
    """
    if mcu_at.size < plan.mcus:
        raise ValueError("mcu_at is too short")
    lookup, maxcode, delta, symbols = stack_tables(tables)
    done, reason, bit, segment = _decode(
        scan.clean, scan.size, scan.seg_clean, scan.seg_number, lookup, maxcode, delta, symbols,
        plan.block_component, plan.block_dx, plan.block_dy, plan.mcus_per_row, plan.mcus,
        plan.mcu_width, plan.mcu_height, plan.stride, plan.base, plan.dc_table, plan.ac_table,
        plan.dc_limit, plan.restart_interval, dc, edge1, edge2, mcu_at,
    )
    return ScanResult(int(done), REASONS[reason], min(int(bit) // 8, scan.size), int(segment))
