"""Progressive Huffman scans of JPEG (ITU-T T.81, annex G), followed without storing coefficients.

Refinement scans need to know only which coefficients are already non-zero: one bit each, a uint64
a block, which keeps a 24-megapixel picture at a few megabytes.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from numba import njit

from needlewright.core.kernels.jpeg_baseline import (
    BAD_CODE,
    BLOCK_OVERFULL,
    COMPLETE,
    DATA_ENDS,
    DATA_LEFT,
    DC_RANGE,
    REASONS,
    RESTART_ORDER,
    DecodeState,
    ScanPlan,
    ScanResult,
    first_state,
    stack_tables,
    unpack_state,
)
from needlewright.core.kernels.jpeg_bits import (
    CleanScan,
    HuffmanTable,
    decode_symbol,
    extended,
    is_padding,
    peek64,
)


@njit(cache=True, nogil=True, inline="always")
def _dc_block(clean, bit, low, place, c, prediction, limit, table, lookup, maxcode, delta,
              symbols, dc):
    """One DC value of a first scan; (new bit position, reason)."""
    word = peek64(clean, bit)
    entry = decode_symbol(word, table, lookup, maxcode, delta, symbols)
    if entry < 0:
        return bit, BAD_CODE
    length = np.uint64(entry & 0xFF)
    size = np.uint64(entry >> 8)
    if size > np.uint64(15):
        return bit, BAD_CODE
    value = prediction[c] + extended(word << length, np.int64(size))
    prediction[c] = value
    value <<= low
    if value > limit or value < -limit:
        return bit, DC_RANGE
    dc[place] = np.int16(value)
    return bit + length + size, COMPLETE


@njit(cache=True, nogil=True, inline="always")
def _ones(bits):
    """How many bits of a uint64 are set."""
    bits = bits - ((bits >> np.uint64(1)) & np.uint64(0x5555555555555555))
    bits = (bits & np.uint64(0x3333333333333333)) \
        + ((bits >> np.uint64(2)) & np.uint64(0x3333333333333333))
    bits = (bits + (bits >> np.uint64(4))) & np.uint64(0x0F0F0F0F0F0F0F0F)
    return (bits * np.uint64(0x0101010101010101)) >> np.uint64(56)


@njit(cache=True, nogil=True, inline="always")
def _corrections(mask, k, stop):
    """Number of non-zero coefficients in `k`..`stop`: each has one correction bit."""
    return _ones((mask >> np.uint64(k)) & ((np.uint64(2) << np.uint64(stop - k)) - np.uint64(1)))


@njit(cache=True, nogil=True, inline="always")
def _skip_zeros(mask, k, zeros):
    """The zero coefficient behind `zeros` others from `k` on, past the non-zero ones between."""
    open_ones = ~mask >> np.uint64(k)
    for _ in range(zeros):
        open_ones &= open_ones - np.uint64(1)
    if open_ones == np.uint64(0):
        return np.int64(64)
    lowest = open_ones & (~open_ones + np.uint64(1))
    return k + np.int64(_ones(lowest - np.uint64(1)))


@njit(cache=True, nogil=True, inline="always")
def _ac_block(clean, bit, first, start, stop, mask, table, lookup, maxcode, delta,
              symbols):
    """One block's band; (bit, run of empty blocks after it, mask of non-zero ones, reason)."""
    eobrun = np.int64(0)
    k = start
    while k <= stop:
        word = peek64(clean, bit)
        entry = decode_symbol(word, table, lookup, maxcode, delta, symbols)
        if entry < 0:
            return bit, eobrun, mask, BAD_CODE
        length = np.uint64(entry & 0xFF)
        size = (entry >> 8) & 15
        run = entry >> 12
        bit += length
        if size == 0 and run < 15:
            more = np.int64(0)
            if run > 0:
                more = np.int64((word << length) >> np.uint64(64 - run))
                bit += np.uint64(run)
            eobrun = (np.int64(1) << run) + more - 1
            if not first:
                bit += _corrections(mask, k, stop)
            return bit, eobrun, mask, COMPLETE
        if first:
            bit += np.uint64(size)
            k += run
            if k > stop:
                return bit, eobrun, mask, BLOCK_OVERFULL
            if size > 0:
                mask |= np.uint64(1) << np.uint64(k)
            k += 1
            continue
        if size > 1:
            return bit, eobrun, mask, BAD_CODE
        bit += np.uint64(size)
        before = k
        k = _skip_zeros(mask, k, run)
        if k > stop:
            bit += _corrections(mask, before, stop)
            return bit, eobrun, mask, BLOCK_OVERFULL
        bit += np.uint64(k - before - run)  # all that was passed but the zeros
        if size == 1:
            mask |= np.uint64(1) << np.uint64(k)
        k += 1
    return bit, eobrun, mask, COMPLETE


@njit(cache=True, nogil=True)
def _decode(clean, clean_size, seg_clean, seg_number, lookup, maxcode, delta, symbols,
            block_component, block_dx, block_dy, per_row, total, mcu_width, mcu_height, stride,
            base, dc_table, ac_table, dc_limit, restart, first, start, stop, low, dc, masks,
            mcu_at, state):
    segments = seg_clean.size
    prediction = np.zeros(dc_limit.size, np.int64)
    blocks = block_component.size
    places = np.zeros(blocks, np.int64)  # of the blocks of the MCU that comes next
    mark = np.int16(1 << low)
    mcu = state[0]
    resumed = state[1]
    segment = state[2]
    bit = np.uint64(0)
    while mcu < total:
        stop_byte = seg_clean[segment + 1] if segment + 1 < segments else clean_size
        stop_bit = np.uint64(stop_byte) * np.uint64(8)
        bit = np.uint64(seg_clean[segment]) * np.uint64(8)
        prediction[:] = 0
        eobrun = np.int64(0)
        if resumed >= 0:
            bit = np.uint64(resumed)
            prediction[:] = state[4:]
            eobrun = state[3]
            resumed = np.int64(-1)
        last = min(total, (mcu // restart + 1) * restart) if restart > 0 else total
        row = mcu // per_row
        column = mcu - row * per_row
        at = np.int64(-1)  # the MCU whose places those are
        while mcu < last:
            mcu_at[mcu] = np.int64(bit >> np.uint64(3))
            state[0] = mcu
            state[1] = np.int64(bit)
            state[2] = segment
            state[3] = eobrun
            for c in range(prediction.size):
                state[4 + c] = prediction[c]
            if eobrun > 0:  # AC scans hold one component: this MCU is one block of a run
                if first:  # nothing is coded in all of the run
                    length = min(eobrun, last - mcu)
                    mcu_at[mcu : mcu + length] = np.int64(bit >> np.uint64(3))
                    mcu += length
                    eobrun -= length
                    state[0] = mcu - 1
                    state[3] = eobrun + 1
                    row = mcu // per_row
                    column = mcu - row * per_row
                    continue
                c = block_component[0]
                place = base[c] + row * stride[c]
                while eobrun > 0 and mcu < last:
                    state[0] = mcu
                    state[1] = np.int64(bit)
                    state[3] = eobrun
                    mcu_at[mcu] = np.int64(bit >> np.uint64(3))
                    mask = masks[place + column]
                    if mask != np.uint64(0):
                        bit += _corrections(mask, start, stop)
                        if bit > stop_bit:
                            return mcu, DATA_ENDS, np.int64(bit), segment
                    eobrun -= 1
                    mcu += 1
                    column += 1
                    if column == per_row:
                        column = 0
                        row += 1
                        place = base[c] + row * stride[c]
                continue
            if at != mcu or column == 0:
                for b in range(blocks):
                    c = block_component[b]
                    places[b] = base[c] + (row * mcu_height[c] + block_dy[b]) * stride[c] \
                        + column * mcu_width[c] + block_dx[b]
            at = mcu + 1
            for b in range(blocks):
                c = block_component[b]
                place = places[b]
                places[b] += mcu_width[c]
                if start == 0 and not first:  # one bit a block
                    if (np.uint64(clean[bit >> np.uint64(3)]) >> (np.uint64(7) - (
                            bit & np.uint64(7)))) & np.uint64(1) != np.uint64(0):
                        dc[place] |= mark
                    bit += np.uint64(1)
                    reason = COMPLETE
                elif start == 0:
                    bit, reason = _dc_block(
                        clean, bit, low, place, c, prediction, dc_limit[c], dc_table[c],
                        lookup, maxcode, delta, symbols, dc)
                else:
                    before = masks[place]
                    bit, eobrun, masks[place], reason = _ac_block(
                        clean, bit, first, start, stop, masks[place], ac_table[c],
                        lookup, maxcode, delta, symbols)
                    if reason != COMPLETE or bit > stop_bit:
                        masks[place] = before  # whoever goes on from here finds it as it was
                if reason != COMPLETE:
                    return mcu, reason, np.int64(bit), segment
                if bit > stop_bit:
                    return mcu, DATA_ENDS, np.int64(bit), segment
            mcu += 1
            column += 1
            if column == per_row:
                column = 0
                row += 1
        if eobrun > 0:  # a run of empty blocks beyond the end of its interval
            return mcu, BLOCK_OVERFULL, np.int64(bit), segment
        if mcu >= total:
            break
        if not is_padding(clean, np.int64(bit), np.int64(stop_bit)):
            return mcu, DATA_LEFT, np.int64(bit), segment
        segment += 1
        if segment >= segments:
            return mcu, DATA_ENDS, np.int64(bit), segment - 1
        if seg_number[segment] != (segment - 1) % 8:
            return mcu, RESTART_ORDER, np.int64(bit), segment
    if segment + 1 < segments:
        return mcu, RESTART_ORDER, np.int64(bit), segment + 1
    if not is_padding(clean, np.int64(bit), np.int64(clean_size) * 8):
        return mcu, DATA_LEFT, np.int64(bit), segment
    return mcu, COMPLETE, np.int64(bit), segment


def decode_progressive(
    scan: CleanScan, plan: ScanPlan, tables: list[HuffmanTable], band: tuple[int, int],
    high: int, low: int, dc: npt.NDArray[np.int16], masks: npt.NDArray[np.uint64],
    mcu_at: npt.NDArray[np.int64], resume: DecodeState | None = None,
) -> ScanResult:
    """Follow one progressive scan of spectral `band` and bit positions `high`, `low`.

    `dc` int16[all blocks] and `masks` uint64[all blocks] (bit k: coefficient k is non-zero) carry
    over from scan to scan. Returns as `decode_baseline`.
    """
    if mcu_at.size < plan.mcus:
        raise ValueError("mcu_at is too short")
    lookup, maxcode, delta, symbols = stack_tables(tables)
    state = first_state(plan.dc_limit.size) if resume is None else resume.pack()
    done, reason, bit, segment = _decode(
        scan.clean, scan.size, scan.seg_clean, scan.seg_number, lookup, maxcode, delta, symbols,
        plan.block_component, plan.block_dx, plan.block_dy, plan.mcus_per_row, plan.mcus,
        plan.mcu_width, plan.mcu_height, plan.stride, plan.base, plan.dc_table, plan.ac_table,
        plan.dc_limit, plan.restart_interval, high == 0, band[0], band[1], low, dc, masks, mcu_at,
        state,
    )
    return ScanResult(int(done), REASONS[reason], min(int(bit) // 8, scan.size), int(segment),
                      unpack_state(state))
