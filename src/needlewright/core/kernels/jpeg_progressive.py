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
    ADVANCE_AT,
    BEFORE_AT,
    ENDS,
    LOOKUP_BITS,
    LOOKUP_SHIFT,
    CleanScan,
    HuffmanTable,
    decode_symbol,
    empty_blocks,
    extended,
    is_padding,
)
from needlewright.core.kernels.loads import load_big, ones_in, pick, trailing_zeros


@njit(cache=True, nogil=True)
def _dc_first(clean, bit, stop_bit, mcu, last, low, lookup, maxcode, delta, symbols,
              block_component, block_dx, block_dy, per_row, mcu_width, mcu_height, stride, base,
              dc_table, dc_limit, prediction, dc, mcu_at, state):
    """The upper bits of the DC values (G.1.2.1) of the MCUs `mcu` to `last`; (MCU, bit, reason)."""
    acc = load_big(clean, bit >> 3) << np.uint64(bit & 7)
    left = 56 - (bit & 7)
    w = (bit >> 3) + 7
    while mcu < last:
        mcu_at[mcu] = (w * 8 - left) >> 3
        state[0] = mcu
        state[1] = w * 8 - left
        for c in range(prediction.size):
            state[4 + c] = prediction[c]
        row = mcu // per_row
        column = mcu - row * per_row
        for b in range(block_component.size):
            c = block_component[b]
            acc |= load_big(clean, w) >> np.uint64(left)
            w += (63 - left) >> 3
            left |= 56
            entry = decode_symbol(acc, dc_table[c], lookup, maxcode, delta, symbols)
            if entry < 0 or entry >> 8 > 15:
                return mcu, w * 8 - left, BAD_CODE
            length = entry & 0xFF
            size = entry >> 8
            prediction[c] += extended(acc << np.uint64(length), size)
            value = prediction[c] << low
            if value > dc_limit[c] or value < -dc_limit[c]:
                return mcu, w * 8 - left, DC_RANGE
            acc <<= np.uint64(length + size)
            left -= length + size
            dc[base[c] + (row * mcu_height[c] + block_dy[b]) * stride[c]
               + column * mcu_width[c] + block_dx[b]] = value
            if w * 8 - left > stop_bit:
                return mcu, w * 8 - left, DATA_ENDS
        mcu += 1
    return mcu, w * 8 - left, COMPLETE


@njit(cache=True, nogil=True)
def _dc_refine(clean, bit, stop_bit, mcu, last, low, block_component, block_dx, block_dy, per_row,
               mcu_width, mcu_height, stride, base, dc, mcu_at, state):
    """One more bit of each DC value; as `_dc_first`."""
    mark = np.int16(1 << low)
    while mcu < last:
        mcu_at[mcu] = bit >> 3
        state[0] = mcu
        state[1] = bit
        row = mcu // per_row
        column = mcu - row * per_row
        for b in range(block_component.size):
            c = block_component[b]
            if (clean[bit >> 3] >> (7 - (bit & 7))) & 1 != 0:
                dc[base[c] + (row * mcu_height[c] + block_dy[b]) * stride[c]
                   + column * mcu_width[c] + block_dx[b]] |= mark
            bit += 1
            if bit > stop_bit:
                return mcu, bit, DATA_ENDS
        mcu += 1
    return mcu, bit, COMPLETE


@njit(cache=True, nogil=True)
def _ac_first(clean, bit, stop_bit, mcu, last, eobrun, start, stop, table, lookup, steps, marks,
              maxcode, delta, symbols, per_row, stride, base, masks, mcu_at, state):
    """A band of AC coefficients (G.1.2.2) of the blocks `mcu` to `last` of one component.

    Returns (block, bit, empty blocks that are still to come, reason). A block that does not come
    out leaves its mask as it was: whoever goes on from there finds it so.
    """
    acc = load_big(clean, bit >> 3) << np.uint64(bit & 7)
    left = 56 - (bit & 7)
    w = (bit >> 3) + 7
    here = table << LOOKUP_BITS
    row = mcu // per_row
    column = mcu - row * per_row
    while mcu < last:
        if eobrun > 0:  # nothing is coded in all of the run
            length = min(eobrun, last - mcu)
            mcu_at[mcu : mcu + length] = (w * 8 - left) >> 3
            mcu += length
            eobrun -= length
            state[0] = mcu - 1
            state[1] = w * 8 - left
            state[3] = eobrun + 1
            row = mcu // per_row
            column = mcu - row * per_row
            continue
        mcu_at[mcu] = (w * 8 - left) >> 3
        state[0] = mcu
        state[1] = w * 8 - left
        state[3] = 0
        place = base + row * stride + column
        mask = masks[place]
        k = np.int64(start)
        while k <= stop:
            acc |= load_big(clean, w) >> np.uint64(left)
            w += (63 - left) >> 3
            left |= 56
            index = here + np.int64(acc >> LOOKUP_SHIFT)
            step = np.int64(pick(steps, index))
            if k + (step >> BEFORE_AT) <= stop:
                mask |= pick(marks, index) << np.uint64(k)
                acc <<= np.uint64(step & 0xFF)
                left -= step & 0xFF
                k += (step >> ADVANCE_AT) & 1023
                continue
            entry = decode_symbol(acc, table, lookup, maxcode, delta, symbols)
            if entry < 0:
                return mcu, w * 8 - left, np.int64(0), BAD_CODE
            length = entry & 0xFF
            size = (entry >> 8) & 15
            run = entry >> 12
            if size == 0 and run < 15:
                eobrun = empty_blocks(acc, length, run) - 1
                acc <<= np.uint64(length + run)
                left -= length + run
                k = ENDS
                break
            acc <<= np.uint64(length + size)
            left -= length + size
            k += run + 1
            if size > 0 and k <= stop + 1:
                mask |= np.uint64(1) << np.uint64(k - 1)
        if stop + 1 < k < ENDS:
            return mcu, w * 8 - left, eobrun, BLOCK_OVERFULL
        if w * 8 - left > stop_bit:
            return mcu, w * 8 - left, eobrun, DATA_ENDS
        masks[place] = mask
        mcu += 1
        column += 1
        if column == per_row:
            column = 0
            row += 1
    return mcu, w * 8 - left, eobrun, COMPLETE


@njit(cache=True, nogil=True)
def _ac_refine(clean, bit, stop_bit, mcu, last, eobrun, start, stop, table, lookup, maxcode, delta,
               symbols, per_row, stride, base, masks, mcu_at, state):
    """One more bit of a band of AC coefficients (G.1.2.3); as `_ac_first`.

    Each coefficient that is not zero has one bit more, wherever a run passes it.
    """
    row = mcu // per_row
    column = mcu - row * per_row
    inside = (np.uint64(2) << np.uint64(stop)) - (np.uint64(1) << np.uint64(start))
    while mcu < last:
        mcu_at[mcu] = bit >> 3
        state[0] = mcu
        state[1] = bit
        state[3] = eobrun
        place = base + row * stride + column
        mask = masks[place]
        if eobrun > 0:
            eobrun -= 1
            bit += ones_in(mask & inside)
            if bit > stop_bit:
                return mcu, bit, eobrun + 1, DATA_ENDS
            mcu += 1
            column += 1
            if column == per_row:
                column = 0
                row += 1
            continue
        k = np.int64(start)
        while k <= stop:
            word = load_big(clean, bit >> 3) << np.uint64(bit & 7)
            entry = decode_symbol(word, table, lookup, maxcode, delta, symbols)
            if entry < 0:
                return mcu, bit, np.int64(0), BAD_CODE
            length = entry & 0xFF
            size = (entry >> 8) & 15
            run = entry >> 12
            bit += length
            if size == 0 and run < 15:
                eobrun = empty_blocks(word, length, run) - 1
                bit += run + ones_in((mask & inside) >> np.uint64(k))
                break
            if size > 1:
                return mcu, bit, np.int64(0), BAD_CODE
            # The zero behind `run` others, past what is not zero between them.
            zeros = ~mask >> np.uint64(k)
            for _ in range(run):
                zeros &= zeros - np.uint64(1)
            if zeros == np.uint64(0):
                return mcu, bit, np.int64(0), BLOCK_OVERFULL
            passed = trailing_zeros(zeros)
            bit += size + passed - run
            k += passed
            if k > stop:
                return mcu, bit, np.int64(0), BLOCK_OVERFULL
            mask |= np.uint64(size) << np.uint64(k)
            k += 1
        if bit > stop_bit:
            return mcu, bit, eobrun, DATA_ENDS
        masks[place] = mask
        mcu += 1
        column += 1
        if column == per_row:
            column = 0
            row += 1
    return mcu, bit, eobrun, COMPLETE


@njit(cache=True, nogil=True)
def _decode(clean, clean_size, seg_clean, seg_number, lookup, steps, marks, maxcode, delta,
            symbols, block_component, block_dx, block_dy, per_row, total, mcu_width, mcu_height,
            stride, base, dc_table, ac_table, dc_limit, restart, first, start, stop, low, dc,
            masks, mcu_at, state):
    segments = seg_clean.size
    prediction = np.zeros(dc_limit.size, np.int64)
    alone = block_component[0]  # an AC scan holds one component: an MCU is a block of it
    mcu = state[0]
    resumed = state[1]
    segment = state[2]
    bit = np.int64(0)
    while mcu < total:
        stop_byte = seg_clean[segment + 1] if segment + 1 < segments else clean_size
        stop_bit = np.int64(stop_byte) * 8
        bit = np.int64(seg_clean[segment]) * 8
        prediction[:] = 0
        eobrun = np.int64(0)
        if resumed >= 0:
            bit = resumed
            prediction[:] = state[4:]
            eobrun = state[3]
            resumed = np.int64(-1)
        last = min(total, (mcu // restart + 1) * restart) if restart > 0 else total
        state[2] = segment
        if start == 0 and first:
            mcu, bit, reason = _dc_first(
                clean, bit, stop_bit, mcu, last, low, lookup, maxcode, delta, symbols,
                block_component, block_dx, block_dy, per_row, mcu_width, mcu_height, stride, base,
                dc_table, dc_limit, prediction, dc, mcu_at, state)
        elif start == 0:
            mcu, bit, reason = _dc_refine(
                clean, bit, stop_bit, mcu, last, low, block_component, block_dx, block_dy, per_row,
                mcu_width, mcu_height, stride, base, dc, mcu_at, state)
        elif first:
            mcu, bit, eobrun, reason = _ac_first(
                clean, bit, stop_bit, mcu, last, eobrun, start, stop, ac_table[alone], lookup,
                steps, marks, maxcode, delta, symbols, per_row, stride[alone], base[alone], masks,
                mcu_at, state)
        else:
            mcu, bit, eobrun, reason = _ac_refine(
                clean, bit, stop_bit, mcu, last, eobrun, start, stop, ac_table[alone], lookup,
                maxcode, delta, symbols, per_row, stride[alone], base[alone], masks, mcu_at, state)
        if reason != COMPLETE:
            return mcu, reason, bit, segment
        if eobrun > 0:  # a run of empty blocks beyond the end of its interval
            return mcu, BLOCK_OVERFULL, bit, segment
        if mcu >= total:
            break
        if not is_padding(clean, bit, stop_bit):
            return mcu, DATA_LEFT, bit, segment
        segment += 1
        if segment >= segments:
            return mcu, DATA_ENDS, bit, segment - 1
        if seg_number[segment] != (segment - 1) % 8:
            return mcu, RESTART_ORDER, bit, segment
    if segment + 1 < segments:
        return mcu, RESTART_ORDER, bit, segment + 1
    if not is_padding(clean, bit, np.int64(clean_size) * 8):
        return mcu, DATA_LEFT, bit, segment
    return mcu, COMPLETE, bit, segment


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
        scan.clean, scan.size, scan.seg_clean, scan.seg_number, lookup,
        np.concatenate([t.bands for t in tables]), np.concatenate([t.marks for t in tables]),
        maxcode, delta, symbols,
        plan.block_component, plan.block_dx, plan.block_dy, plan.mcus_per_row, plan.mcus,
        plan.mcu_width, plan.mcu_height, plan.stride, plan.base, plan.dc_table, plan.ac_table,
        plan.dc_limit, plan.restart_interval, high == 0, band[0], band[1], low, dc, masks, mcu_at,
        state,
    )
    return ScanResult(int(done), REASONS[reason], min(int(bit) // 8, scan.size), int(segment),
                      unpack_state(state))
