"""All coefficients of progressive JPEG scans, from any bit and any block on (ITU-T T.81, annex G).

Where `jpeg_progressive` follows a sound file and keeps only what refinement needs, this keeps the
values, and takes a scan up in its middle. A *unit* is what a scan codes at a time: an MCU where it
holds several components, else a block. Coefficients are int16 in zig-zag order, 64 a block.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from needlewright.core.kernels.jpeg_baseline import (
    BAD_CODE,
    BLOCK_OVERFULL,
    COMPLETE,
    DATA_ENDS,
    DC_RANGE,
)
from needlewright.core.kernels.jpeg_bits import (
    decode_symbol,
    empty_blocks,
    extended,
    is_padding,
)
from needlewright.core.kernels.loads import load_big, ones_in, trailing_zeros

ALL = 1 << 40  # units: to the very end
FAILED = -1e9


@njit(cache=True, nogil=True)
def dc_first(clean, bit, stop_bit, unit, last, low, order, member, table, limit, lookup, maxcode,
             delta, symbols, absolute, out, bit_at):
    """The upper bits of DC values (G.1.2.1) of units `unit` to `last`, added up from 0; into
    out[order[…], 0]. `member` int64[b]: component of each block of a unit; `bit_at`: where each
    unit begins; `absolute`: values have no unknown base. Returns (unit, bit, reason)."""
    blocks = member.size
    prediction = np.zeros(table.size, np.int64)
    least = np.zeros(table.size, np.int64)
    most = np.zeros(table.size, np.int64)
    while unit < last:
        at = bit
        bit_at[unit] = bit
        for b in range(blocks):
            c = member[b]
            word = load_big(clean, at >> 3) << np.uint64(at & 7)
            entry = decode_symbol(word, table[c], lookup, maxcode, delta, symbols)
            if entry < 0 or entry >> 8 > 15:
                return unit, bit, BAD_CODE
            length = entry & 0xFF
            size = entry >> 8
            at += length + size
            if at > stop_bit:
                return unit, bit, DATA_ENDS
            value = prediction[c] + extended(word << np.uint64(length), size)
            prediction[c] = value
            least[c] = min(least[c], value)
            most[c] = max(most[c], value)
            span = (most[c] - least[c]) << low
            away = max(value, -value) << low
            if span > 2 * limit[c] or (absolute and away > limit[c]):
                return unit, bit, DC_RANGE
            out[order[unit * blocks + b], 0] = value << low
        bit = at
        unit += 1
    return unit, bit, COMPLETE


@njit(cache=True, nogil=True)
def dc_refine(clean, bit, stop_bit, units, low, order, blocks, out):
    """One more bit of each DC value (G.1.2.1.2); the number of units that there are bits for."""
    mark = np.int16(1 << low)
    for unit in range(units):
        if bit + blocks > stop_bit:
            return unit
        for b in range(blocks):
            if (clean[bit >> 3] >> (7 - (bit & 7))) & 1 != 0:
                out[order[unit * blocks + b], 0] |= mark
            bit += 1
    return units


@njit(cache=True, nogil=True)
def _first_block(clean, bit, stop_bit, start, stop, low, limit, table, lookup, maxcode, delta,
                 symbols, row):
    """A band of one block (G.1.2.2): (bit, empty blocks behind it, reason)."""
    k = np.int64(start)
    while k <= stop:
        word = load_big(clean, bit >> 3) << np.uint64(bit & 7)
        entry = decode_symbol(word, table, lookup, maxcode, delta, symbols)
        if entry < 0:
            return bit, np.int64(0), BAD_CODE
        length = entry & 0xFF
        size = (entry >> 8) & 15
        run = entry >> 12
        if size == 0 and run < 15:
            bit += length + run
            if bit > stop_bit:
                return bit, np.int64(0), DATA_ENDS
            return bit, empty_blocks(word, length, run) - 1, COMPLETE
        bit += length + size
        k += run
        if k > stop:
            return bit, np.int64(0), BLOCK_OVERFULL
        if size > 0:
            value = extended(word << np.uint64(length), size) << low
            if value > limit[k] or -value > limit[k]:
                return bit, np.int64(0), DC_RANGE
            row[k] = value
        k += 1
    if bit > stop_bit:
        return bit, np.int64(0), DATA_ENDS
    return bit, np.int64(0), COMPLETE


@njit(cache=True, nogil=True)
def ac_first(clean, bit, stop_bit, unit, last, start, stop, low, limit, table, lookup, maxcode,
             delta, symbols, order, out, bit_at):
    """A band of AC coefficients of units `unit` to `last`; `limit` int64[64]: what values a
    coefficient can have. Returns (unit, bit, empty blocks that are left over, reason)."""
    left = np.int64(0)
    while unit < last:
        bit_at[unit] = bit
        if left > 0:
            left -= 1
            unit += 1
            continue
        row = out[order[unit]]
        at, left, reason = _first_block(clean, bit, stop_bit, start, stop, low, limit, table,
                                        lookup, maxcode, delta, symbols, row)
        if reason != COMPLETE:
            row[start : stop + 1] = 0
            return unit, bit, np.int64(0), reason
        bit = at
        unit += 1
    return unit, bit, left, COMPLETE


@njit(cache=True, nogil=True)
def masks_of(out, order):
    """uint64[units]: bit k, coefficient k is not zero."""
    masks = np.zeros(order.size, np.uint64)
    for unit in range(order.size):
        row = out[order[unit]]
        mask = np.uint64(0)
        for k in range(1, 64):
            if row[k] != 0:
                mask |= np.uint64(1) << np.uint64(k)
        masks[unit] = mask
    return masks


@njit(cache=True, nogil=True)
def ac_refine(clean, bit, stop_bit, unit, last, start, stop, low, table, lookup, maxcode, delta,
              symbols, order, out, bit_at, fresh):
    """One more bit of a band of AC coefficients (G.1.2.3) of units `unit` to `last`, in place; a
    unit that does not come out stays as it was. `fresh` uint8[units]: how many coefficients of
    each become other than zero. Returns as `ac_first`."""
    left = np.int64(0)
    mark = np.int64(1) << low
    row = np.zeros(64, np.int64)
    while unit < last:
        bit_at[unit] = bit
        target = out[order[unit]]
        for k in range(start, stop + 1):
            row[k] = target[k]
        at = bit
        fresh[unit] = 0
        k = np.int64(start)
        if left == 0:
            while k <= stop:
                word = load_big(clean, at >> 3) << np.uint64(at & 7)
                entry = decode_symbol(word, table, lookup, maxcode, delta, symbols)
                if entry < 0:
                    return unit, bit, np.int64(0), BAD_CODE
                length = entry & 0xFF
                size = (entry >> 8) & 15
                run = entry >> 12
                at += length
                if size == 0 and run < 15:
                    left = empty_blocks(word, length, run)
                    at += run
                    break
                if size > 1:
                    return unit, bit, np.int64(0), BAD_CODE
                value = np.int64(0)
                if size == 1:
                    value = mark if (clean[at >> 3] >> (7 - (at & 7))) & 1 else -mark
                    at += 1
                while k <= stop:
                    if row[k] != 0:
                        if (clean[at >> 3] >> (7 - (at & 7))) & 1:
                            row[k] += mark if row[k] > 0 else -mark
                        at += 1
                    elif run == 0:
                        break
                    else:
                        run -= 1
                    k += 1
                if k > stop:
                    return unit, bit, np.int64(0), BLOCK_OVERFULL
                row[k] = value
                fresh[unit] += size
                k += 1
        if left > 0:
            while k <= stop:
                if row[k] != 0:
                    if (clean[at >> 3] >> (7 - (at & 7))) & 1:
                        row[k] += mark if row[k] > 0 else -mark
                    at += 1
                k += 1
            left -= 1
        if at > stop_bit:
            return unit, bit, np.int64(0), DATA_ENDS
        for k in range(start, stop + 1):
            target[k] = row[k]
        bit = at
        unit += 1
    return unit, bit, left, COMPLETE


@njit(cache=True, nogil=True)
def _refines(clean, bit, stop_bit, unit, last, masks, start, stop, table, lookup, maxcode, delta,
             symbols, busy, units, bits):
    """How well a refining scan decodes from `bit` as unit `unit` on, for `units` and `bits` at
    least or to `last`: how strongly the steps in what it adds hang together with those in `busy`,
    in standard deviations of chance, of either sign. FAILED where it does not decode, or where
    nothing but `last` is enough and data is left or wanting."""
    inside = (np.uint64(2) << np.uint64(stop)) - (np.uint64(1) << np.uint64(start))
    enough = bit + bits
    until = unit + units
    left = np.int64(0)
    both = own = new = 0.0
    own_steps = new_steps = 0
    was_busy = was_fresh = np.int64(0)
    while unit < last:
        if bit >= enough and unit >= until:
            break
        mask = masks[unit]
        fresh = np.int64(0)
        if left > 0:
            left -= 1
            bit += ones_in(mask & inside)
        else:
            k = np.int64(start)
            while k <= stop:
                word = load_big(clean, bit >> 3) << np.uint64(bit & 7)
                entry = decode_symbol(word, table, lookup, maxcode, delta, symbols)
                if entry < 0:
                    return FAILED
                length = entry & 0xFF
                size = (entry >> 8) & 15
                run = entry >> 12
                bit += length
                if size == 0 and run < 15:
                    left = empty_blocks(word, length, run) - 1
                    bit += run + ones_in((mask & inside) >> np.uint64(k))
                    break
                if size > 1:
                    return FAILED
                zeros = ~mask >> np.uint64(k)
                for _ in range(run):
                    zeros &= zeros - np.uint64(1)
                if zeros == np.uint64(0):
                    return FAILED
                passed = trailing_zeros(zeros)
                bit += size + passed - run
                k += passed
                fresh += size
                if k > stop:
                    return FAILED
                k += 1
        if bit > stop_bit:
            return FAILED
        step, other = np.int64(busy[unit]) - was_busy, fresh - was_fresh
        was_busy, was_fresh = np.int64(busy[unit]), fresh
        both += step * other
        own += step * step
        new += other * other
        own_steps += step != 0
        new_steps += other != 0
        unit += 1
    if units == ALL and (left > 0 or not is_padding(clean, bit, stop_bit)):
        return FAILED
    if own == 0 or new == 0:
        return 0.0
    return abs(both) / math.sqrt(own * new) * math.sqrt(min(own_steps, new_steps))


@njit(cache=True, nogil=True)
def score_refining(clean, starts, stop_bit, unit, last, masks, start, stop, table, lookup,
                   maxcode, delta, symbols, busy, units, bits, scores):
    """scores[n]: how well unit `unit` decodes from bit starts[n]; see `_refines`."""
    for n in range(starts.size):
        scores[n] = _refines(clean, starts[n], stop_bit, unit, last, masks, start, stop, table,
                             lookup, maxcode, delta, symbols, busy, units, bits)


@njit(cache=True, nogil=True)
def busy_of(masks, start, stop):
    """uint8[units]: how many coefficients of the band earlier scans say to be other than zero."""
    inside = (np.uint64(2) << np.uint64(stop)) - (np.uint64(1) << np.uint64(start))
    busy = np.zeros(masks.size, np.uint8)
    for unit in range(masks.size):
        busy[unit] = ones_in(masks[unit] & inside)
    return busy
