"""Baseline and extended sequential Huffman decoding of JPEG scans (ITU-T T.81, F.2).

Decodes what locates damage and nothing more: each block's DC coefficient, the first two vertical
AC coefficients of the first component, and where in the data each MCU begins.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from numba import njit

from needlewright.core.kernels.jpeg_bits import (
    ADVANCE_AT,
    BEFORE_AT,
    CODE_AT,
    ENDS,
    LOOKUP_BITS,
    LOOKUP_SHIFT,
    NOT_A_SYMBOL,
    SIZE_AT,
    CleanScan,
    HuffmanTable,
    decode_symbol,
    extended,
    is_padding,
)
from needlewright.core.kernels.loads import load_big, pick

# Reasons why a scan stops, in the order of the kernel's return codes.
COMPLETE, BAD_CODE, BLOCK_OVERFULL, DC_RANGE, DATA_ENDS, RESTART_ORDER, DATA_LEFT = range(7)
REASONS = (
    "complete", "bad-code", "block-overfull", "dc-range", "data-ends", "restart-order", "data-left"
)


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
class DecodeState:
    """Where the decoding of a scan stands, at the start of an MCU: enough to go on from there.

    `bit`: offset in the clean data (-1: at the start of a restart segment). `eobrun`: empty blocks
    still to come (progressive scans). `prediction` int64[c]: the DC value of each component. What
    scans leave in the shared grids is the rest of the state; whoever tries several continuations
    keeps a copy of what they may write.
    """

    mcu: int
    bit: int
    segment: int
    eobrun: int
    prediction: tuple[int, ...]

    def pack(self) -> npt.NDArray[np.int64]:
        return np.array([self.mcu, self.bit, self.segment, self.eobrun, *self.prediction], np.int64)


def unpack_state(numbers: npt.NDArray[np.int64]) -> DecodeState:
    mcu, bit, segment, eobrun, *prediction = numbers.tolist()
    return DecodeState(mcu, bit, segment, eobrun, tuple(prediction))


def first_state(components: int) -> npt.NDArray[np.int64]:
    """The packed state at the start of a scan."""
    return np.array([0, -1, 0, 0, *[0] * components], np.int64)


@dataclass(frozen=True, slots=True)
class ScanResult:
    """How far a scan decoded: MCUs done, why it stopped, the clean byte offset of that place.

    `state`: at the start of the MCU that did not come out, or of the last one.
    """

    mcus_done: int
    reason: str
    clean_offset: int
    segment: int
    state: DecodeState


def stack_tables(tables: list[HuffmanTable]) -> tuple[npt.NDArray[np.generic], ...]:
    """The tables as (lookup, maxcode, delta, symbols), each with the table as first axis."""
    return (
        np.stack([t.lookup for t in tables]), np.stack([t.maxcode for t in tables]),
        np.stack([t.delta for t in tables]), np.stack([t.symbols for t in tables]),
    )


@njit(cache=True, nogil=True, inline="always")
def _advance(k, entry):
    """The next coefficient after the AC symbol `entry` at `k`; beyond 64 it says how it ends."""
    run = entry >> 12
    if (entry >> 8) & 15 > 0:
        return k + run + 1
    if run == 0:
        return k + ENDS
    return k + 16 if run == 15 else k + NOT_A_SYMBOL


@njit(cache=True, nogil=True)
def _edges_one_by_one(clean, bit, table, lookup, maxcode, delta, symbols):
    """The second and third coefficient of the block whose AC codes begin at `bit`."""
    first = np.int64(0)
    second = np.int64(0)
    k = np.int64(1)
    while k < 4:
        word = load_big(clean, bit >> 3) << np.uint64(bit & 7)
        entry = decode_symbol(word, table, lookup, maxcode, delta, symbols)
        if entry < 0:
            break  # whoever decodes the block says so
        length = entry & 0xFF
        size = (entry >> 8) & 15
        bit += length + size
        k = _advance(k, entry)
        if size > 0 and k == 3:
            first = extended(word << np.uint64(length), size)
        elif size > 0 and k == 4:
            second = extended(word << np.uint64(length), size)
    return first, second


@njit(cache=True, nogil=True)
def _decode(clean, clean_size, seg_clean, seg_number, lookup, steps, singles, maxcode, delta,
            symbols, block_component, block_dx, block_dy, per_row, total, mcu_width, mcu_height,
            stride, base, dc_table, ac_table, dc_limit, restart, dc, edge1, edge2, mcu_at, state):
    segments = seg_clean.size
    # `acc` holds the next `left` bits, uppermost first; `w` is the next byte to load, so that
    # w * 8 - left is where we are. Eight bytes are laid behind what is left, and as many of them
    # counted as fit whole: no branch, and 56 bits or more afterwards.
    prediction = np.zeros(dc_limit.size, np.int64)
    edges = edge1.size
    mcu = state[0]
    resumed = state[1]
    segment = state[2]
    acc = np.uint64(0)
    left = np.int64(0)
    w = np.int64(0)
    while mcu < total:
        stop_byte = seg_clean[segment + 1] if segment + 1 < segments else clean_size
        stop_bit = np.int64(stop_byte) * 8
        start_bit = np.int64(seg_clean[segment]) * 8 if resumed < 0 else resumed
        w = (start_bit >> 3) + 7
        acc = load_big(clean, start_bit >> 3) << np.uint64(start_bit & 7)
        left = 56 - (start_bit & 7)
        prediction[:] = 0
        if resumed >= 0:
            prediction[:] = state[4:]
            resumed = np.int64(-1)
        last = min(total, (mcu // restart + 1) * restart) if restart > 0 else total
        while mcu < last:
            mcu_at[mcu] = (w * 8 - left) >> 3
            state[0] = mcu
            state[1] = w * 8 - left
            state[2] = segment
            for c in range(prediction.size):
                state[4 + c] = prediction[c]
            row = mcu // per_row
            column = mcu - row * per_row
            for b in range(block_component.size):
                c = np.uint64(block_component[b])  # an index from the end is not meant
                acc |= load_big(clean, w) >> np.uint64(left)
                w += (63 - left) >> 3
                left |= 56
                entry = decode_symbol(acc, dc_table[c], lookup, maxcode, delta, symbols)
                if entry < 0 or entry >> 8 > 15:
                    return mcu, BAD_CODE, w * 8 - left, segment
                length = entry & 0xFF
                size = entry >> 8
                value = prediction[c] + extended(acc << np.uint64(length), size)
                prediction[c] = value
                if value > dc_limit[c] or value < -dc_limit[c]:
                    return mcu, DC_RANGE, w * 8 - left, segment
                acc <<= np.uint64(length + size)
                left -= length + size
                acc |= load_big(clean, w) >> np.uint64(left)
                w += (63 - left) >> 3
                left |= 56
                place = base[c] + (row * mcu_height[c] + block_dy[b]) * stride[c] \
                    + column * mcu_width[c] + block_dx[b]
                dc[np.uint64(place)] = value
                table = ac_table[c]
                here = table << LOOKUP_BITS
                if place < edges:
                    # The first coefficients of the first component, without branches: three
                    # symbols are looked up, whatever they are, and their values are chosen from
                    # by where they stand. Nothing waits for this: the block is decoded from `acc`
                    # once more below, in bigger steps, and a processor does both at once.
                    one = np.int64(pick(singles, here + np.int64(acc >> LOOKUP_SHIFT)))
                    k1 = 1 + ((one >> ADVANCE_AT) & 1023)
                    word2 = acc << np.uint64(one & 31)
                    two = np.int64(pick(singles, here + np.int64(word2 >> LOOKUP_SHIFT)))
                    k2 = k1 + ((two >> ADVANCE_AT) & 1023)
                    at = w * 8 - left + (one & 31) + (two & 31)
                    word3 = load_big(clean, at >> 3) << np.uint64(at & 7)
                    three = np.int64(pick(singles, here + np.int64(word3 >> LOOKUP_SHIFT)))
                    k3 = k2 + ((three >> ADVANCE_AT) & 1023)
                    value1 = extended(acc << np.uint64((one >> CODE_AT) & 31), one >> SIZE_AT)
                    value2 = extended(word2 << np.uint64((two >> CODE_AT) & 31), two >> SIZE_AT)
                    value3 = extended(
                        word3 << np.uint64((three >> CODE_AT) & 31), three >> SIZE_AT)
                    if (one == 0) | ((two == 0) & (k1 < 4)) | ((three == 0) & (k2 < 4)):
                        first, second = _edges_one_by_one(  # one of the codes is longer
                            clean, w * 8 - left, table, lookup, maxcode, delta, symbols)
                        edge1[place] = first
                        edge2[place] = second
                    else:
                        first = value3 if k3 == 3 else np.int64(0)
                        first = value2 if k2 == 3 else first
                        first = value1 if k1 == 3 else first
                        second = value3 if k3 == 4 else np.int64(0)
                        second = value2 if k2 == 4 else second
                        second = value1 if k1 == 4 else second
                        edge1[place] = first
                        edge2[place] = second
                k = np.int64(1)
                while k < 64:
                    step = np.int64(pick(steps, here + np.int64(acc >> LOOKUP_SHIFT)))
                    if k + (step >> BEFORE_AT) < 64:
                        acc <<= np.uint64(step & 0xFF)
                        left -= step & 0xFF
                        k += (step >> ADVANCE_AT) & 1023
                        if k >= 64:
                            break
                        # A step is 26 bits at most: a second one needs no more bits.
                        step = np.int64(pick(steps, here + np.int64(acc >> LOOKUP_SHIFT)))
                        if k + (step >> BEFORE_AT) < 64:
                            acc <<= np.uint64(step & 0xFF)
                            left -= step & 0xFF
                            k += (step >> ADVANCE_AT) & 1023
                    else:
                        entry = decode_symbol(acc, table, lookup, maxcode, delta, symbols)
                        if entry < 0:
                            return mcu, BAD_CODE, w * 8 - left, segment
                        length = (entry & 0xFF) + ((entry >> 8) & 15)
                        acc <<= np.uint64(length)
                        left -= length
                        k = _advance(k, entry)
                    acc |= load_big(clean, w) >> np.uint64(left)
                    w += (63 - left) >> 3
                    left |= 56
                if k >= NOT_A_SYMBOL:  # EOBn belongs to progressive scans only
                    return mcu, BAD_CODE, w * 8 - left, segment
                if 64 < k < ENDS:
                    return mcu, BLOCK_OVERFULL, w * 8 - left, segment
                if w * 8 - left > stop_bit:
                    return mcu, DATA_ENDS, w * 8 - left, segment
            mcu += 1
        if mcu >= total:
            break
        if not is_padding(clean, w * 8 - left, stop_bit):
            return mcu, DATA_LEFT, w * 8 - left, segment
        segment += 1
        if segment >= segments:
            return mcu, DATA_ENDS, w * 8 - left, segment - 1
        if seg_number[segment] != (segment - 1) % 8:
            return mcu, RESTART_ORDER, w * 8 - left, segment
    if segment + 1 < segments:
        return mcu, RESTART_ORDER, w * 8 - left, segment + 1
    if not is_padding(clean, w * 8 - left, np.int64(clean_size) * 8):
        return mcu, DATA_LEFT, w * 8 - left, segment
    return mcu, COMPLETE, w * 8 - left, segment


def decode_baseline(
    scan: CleanScan, plan: ScanPlan, tables: list[HuffmanTable],
    dc: npt.NDArray[np.int16], edge1: npt.NDArray[np.int16], edge2: npt.NDArray[np.int16],
    mcu_at: npt.NDArray[np.int64], resume: DecodeState | None = None,
) -> ScanResult:
    """Decode `scan` into the shared grids; returns how far it came and why it ended.

    `resume`: go on from there instead of from the start; `scan` may hold other data behind it.

    `dc` int16[all blocks]: quantised DC values; `edge1`, `edge2` int16[blocks of component 0]:
    quantised coefficients (1,0) and (2,0); `mcu_at` int64[MCUs]: clean offset of each MCU.
    """
    if mcu_at.size < plan.mcus:
        raise ValueError("mcu_at is too short")
    lookup, maxcode, delta, symbols = stack_tables(tables)
    state = first_state(plan.dc_limit.size) if resume is None else resume.pack()
    done, reason, bit, segment = _decode(
        scan.clean, scan.size, scan.seg_clean, scan.seg_number, lookup,
        np.concatenate([t.steps for t in tables]), np.concatenate([t.single for t in tables]),
        maxcode, delta, symbols,
        plan.block_component, plan.block_dx, plan.block_dy, plan.mcus_per_row, plan.mcus,
        plan.mcu_width, plan.mcu_height, plan.stride, plan.base, plan.dc_table, plan.ac_table,
        plan.dc_limit, plan.restart_interval, dc, edge1, edge2, mcu_at, state,
    )
    return ScanResult(int(done), REASONS[reason], min(int(bit) // 8, scan.size), int(segment),
                      unpack_state(state))
