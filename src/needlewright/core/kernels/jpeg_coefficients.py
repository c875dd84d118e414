"""All coefficients of sequential JPEG scans, out of the coded data and back into it (ITU-T T.81,
F.1, F.2).

A *chain* is what decodes from one bit on, MCU by MCU, wherever it belongs in the picture: its DC
values add up from a base that may be unknown. Coefficients stay quantised and in zig-zag order, 64
a block, so that what is encoded again shows exactly the same pixels.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from numba import njit

from needlewright.core.kernels.jpeg_baseline import (
    BAD_CODE,
    BLOCK_OVERFULL,
    COMPLETE,
    DATA_ENDS,
    DC_RANGE,
    REASONS,
    stack_tables,
)
from needlewright.core.kernels.jpeg_bits import HuffmanTable, decode_symbol, extended
from needlewright.core.kernels.loads import load_big
from needlewright.core.kernels.steady import read_only

Coefficients = npt.NDArray[np.int16]
MAX_CODE_BYTES = 320  # that one block can take, stuffing included


@dataclass(frozen=True, slots=True)
class Coding:
    """How the blocks of an MCU are coded. `component` int64[b]: of each block, in coded order;
    `dc_table`, `ac_table` int64[c]: places in `tables`; `dc_limit` int64[c]: of a quantised
    value."""

    component: npt.NDArray[np.int64]
    dc_table: npt.NDArray[np.int64]
    ac_table: npt.NDArray[np.int64]
    dc_limit: npt.NDArray[np.int64]
    tables: tuple[HuffmanTable, ...]

    @property
    def blocks(self) -> int:
        return int(self.component.size)


@dataclass(frozen=True, slots=True)
class Chain:
    """What decoded. `coefficients` int16[MCUs, blocks, 64]; `mcu_bit` int64[MCUs + 1]: where each
    begins, and where decoding stopped; `reason`: why, as in `jpeg_baseline.REASONS`, "complete"
    where as many MCUs were there as were asked for."""

    coefficients: Coefficients
    mcu_bit: npt.NDArray[np.int64]
    reason: str

    @property
    def size(self) -> int:
        return int(self.coefficients.shape[0])


@njit(cache=True, nogil=True)
def _block(clean, bit, stop_bit, dc_table, ac_table, lookup, maxcode, delta, symbols, out, at):
    """Decode one block from `bit`; its coefficients go to out[at:at + 64] where `at` is not
    negative. Returns (bit behind it, DC difference, reason)."""
    if bit >= stop_bit:
        return bit, 0, DATA_ENDS
    word = load_big(clean, bit >> 3) << np.uint64(bit & 7)
    entry = decode_symbol(word, dc_table, lookup, maxcode, delta, symbols)
    if entry < 0 or entry >> 8 > 15:
        return bit, 0, BAD_CODE
    length = entry & 0xFF
    size = entry >> 8
    difference = extended(word << np.uint64(length), size)
    bit += length + size
    k = np.int64(1)
    while k < 64:
        word = load_big(clean, bit >> 3) << np.uint64(bit & 7)
        entry = decode_symbol(word, ac_table, lookup, maxcode, delta, symbols)
        if entry < 0:
            return bit, difference, BAD_CODE
        length = entry & 0xFF
        size = (entry >> 8) & 15
        run = entry >> 12
        if size == 0:
            bit += length
            if run == 0:
                break
            if run != 15:
                return bit, difference, BAD_CODE
            k += 16
            if k > 64:
                return bit, difference, BLOCK_OVERFULL
            continue
        k += run
        if k > 63:
            return bit, difference, BLOCK_OVERFULL
        if at >= 0:
            out[at + k] = extended(word << np.uint64(length), size)
        bit += length + size
        k += 1
    if bit > stop_bit:
        return bit, difference, DATA_ENDS
    return bit, difference, COMPLETE


@njit(cache=True, nogil=True)
def _chain(clean, bit, stop_bit, component, dc_table, ac_table, limit, lookup, maxcode, delta,
           symbols, coefficients, mcu_bit, most, absolute):
    blocks = component.size
    prediction = np.zeros(limit.size, np.int64)
    low = np.zeros(limit.size, np.int64)
    high = np.zeros(limit.size, np.int64)
    for mcu in range(most):
        mcu_bit[mcu] = bit
        at = bit
        for b in range(blocks):
            c = component[b]
            place = (mcu * blocks + b) * 64
            at, difference, reason = _block(clean, at, stop_bit, dc_table[c], ac_table[c], lookup,
                                            maxcode, delta, symbols, coefficients, place)
            if reason == COMPLETE:
                value = prediction[c] + difference
                prediction[c] = value
                low[c] = min(low[c], value)
                high[c] = max(high[c], value)
                span = high[c] - low[c]
                if span > 2 * limit[c] or (absolute and (value > limit[c] or -value > limit[c])):
                    reason = DC_RANGE
                else:
                    coefficients[place] = value
            if reason != COMPLETE:
                coefficients[mcu * blocks * 64 : (mcu * blocks + b + 1) * 64] = 0
                return mcu, at, reason
        bit = at
    mcu_bit[most] = bit
    return most, bit, COMPLETE


KNOWN_BITS, BEHIND_BITS = 1 << 20, 1 << 16  # in which beginnings of MCUs are remembered


@njit(cache=True, nogil=True)
def _first_survivor(clean, start, stop, stop_bit, component, dc_table, ac_table, limit, lookup,
                    maxcode, delta, symbols, need, nothing):
    """Codes synchronise: after a few MCUs a chain from one bit runs where one from an earlier bit
    ran. `fails` keeps for each beginning of an MCU after how many more, and one, every chain over
    it fails; a span of DC values counts only where both its ends lie behind that place."""
    prediction = np.zeros(limit.size, np.int64)
    low, high = np.zeros(limit.size, np.int64), np.zeros(limit.size, np.int64)
    low_at, high_at = np.zeros(limit.size, np.int64), np.zeros(limit.size, np.int64)
    path = np.zeros(need + 1, np.int64)
    for base in range(start, stop, KNOWN_BITS):
        top = min(stop, base + KNOWN_BITS)
        fails = np.zeros(top - base + BEHIND_BITS, np.int32)
        for bit in range(base, top):
            prediction[:], low[:], high[:], low_at[:], high_at[:] = 0, 0, 0, -1, -1
            at, count, known, sure = bit, 0, 0, 0
            while count < need:
                place = at - base
                if place < fails.size and fails[place] and count + fails[place] <= need:
                    known, sure = fails[place], count - 1
                    break
                path[count] = at
                failed = False
                for b in range(component.size):
                    c = component[b]
                    at, difference, reason = _block(
                        clean, at, stop_bit, dc_table[c], ac_table[c], lookup, maxcode, delta,
                        symbols, nothing, np.int64(-1))
                    if reason != COMPLETE:
                        failed, sure = True, count
                        break
                    value = prediction[c] + difference
                    prediction[c] = value
                    if value < low[c]:
                        low[c], low_at[c] = value, count
                    if value > high[c]:
                        high[c], high_at[c] = value, count
                    if high[c] - low[c] > 2 * limit[c]:
                        failed, sure = True, min(low_at[c], high_at[c])
                        break
                if failed:
                    if stop_bit - at < 8:
                        if count > 3:
                            return bit
                        sure = -1  # a longer chain would survive that
                    known = 1
                    break
                count += 1
            if count >= need:
                return bit
            for i in range(sure + 1):
                if path[i] - base < fails.size:
                    fails[path[i] - base] = known + count - i
    return np.int64(-1)


def decode_chain(clean: npt.NDArray[np.uint8], start_bit: int, stop_bit: int, coding: Coding,
                 most: int, absolute: bool = False) -> Chain:
    """Decode up to `most` MCUs from `start_bit`; none reaches beyond `stop_bit`. `clean` uint8[n]
    without stuffing, with PAD bytes behind `stop_bit`; `absolute`: DC values count from 0, so that
    their range is known."""
    clean = read_only(clean)
    most = max(0, min(most, (stop_bit - start_bit) // (2 * coding.blocks) + 1))
    lookup, maxcode, delta, symbols = stack_tables(list(coding.tables))
    out = np.zeros(most * coding.blocks * 64, np.int16)
    mcu_bit = np.zeros(most + 1, np.int64)
    count, bit, reason = _chain(
        clean, start_bit, stop_bit, coding.component, coding.dc_table, coding.ac_table,
        coding.dc_limit, lookup, maxcode, delta, symbols, out, mcu_bit, most, absolute)
    mcu_bit[count] = bit if reason == COMPLETE else mcu_bit[count]
    return Chain(out.reshape(-1, coding.blocks, 64)[:count], mcu_bit[: count + 1], REASONS[reason])


def first_survivor(clean: npt.NDArray[np.uint8], start_bit: int, last_bit: int, stop_bit: int,
                   coding: Coding, need: int) -> int | None:
    """The first bit from `start_bit` on, before `last_bit`, from which `need` MCUs decode, or all
    up to `stop_bit`; None if there is none."""
    clean = read_only(clean)
    lookup, maxcode, delta, symbols = stack_tables(list(coding.tables))
    found = int(_first_survivor(
        clean, start_bit, last_bit, stop_bit, coding.component, coding.dc_table, coding.ac_table,
        coding.dc_limit, lookup, maxcode, delta, symbols, need, np.zeros(1, np.int16)))
    return None if found < 0 else found


@njit(cache=True, nogil=True)
def _size_of(value):
    size = 0
    value = abs(value)
    while value:
        size += 1
        value >>= 1
    return size


@njit(cache=True, nogil=True)
def _count(coefficients, component, predicted, restart, dc_counts, ac_counts, dc_class, ac_class):
    mcus, blocks = coefficients.shape[0], coefficients.shape[1]
    prediction = np.zeros(predicted, np.int64)
    for mcu in range(mcus):
        if restart > 0 and mcu % restart == 0:
            prediction[:] = 0
        for b in range(blocks):
            c = component[b]
            value = np.int64(coefficients[mcu, b, 0])
            dc_counts[dc_class[c], _size_of(value - prediction[c])] += 1
            prediction[c] = value
            run = 0
            for k in range(1, 64):
                value = np.int64(coefficients[mcu, b, k])
                if value == 0:
                    run += 1
                    continue
                while run > 15:
                    ac_counts[ac_class[c], 0xF0] += 1
                    run -= 16
                ac_counts[ac_class[c], run << 4 | _size_of(value)] += 1
                run = 0
            if run > 0:
                ac_counts[ac_class[c], 0] += 1


@njit(cache=True, nogil=True)
def _put(out, at, acc, left, code, length):
    """Add `length` bits; whole bytes go out, stuffed. Returns (place, bits waiting, how many)."""
    acc = (acc << np.int64(length)) | np.int64(code)
    left += length
    while left >= 8:
        left -= 8
        byte = (acc >> left) & 0xFF
        out[at] = byte
        at += 1
        if byte == 0xFF:
            out[at] = 0
            at += 1
    return at, acc & ((np.int64(1) << left) - 1), left


@njit(cache=True, nogil=True)
def _encode(coefficients, component, predicted, restart, dc_class, ac_class, codes, lengths, out,
            state):
    """`state`: MCU to begin with, place in `out`, bits waiting, how many, then the predictions;
    left as it stands when `out` is full or all is done."""
    mcus, blocks = coefficients.shape[0], coefficients.shape[1]
    mcu, at, acc, left = state[0], np.int64(0), state[2], state[3]
    room = out.size - blocks * MAX_CODE_BYTES - 16
    prediction = state[4:]
    while mcu < mcus and at < room:
        if restart > 0 and mcu % restart == 0:
            if mcu > 0:
                if left > 0:
                    at, acc, left = _put(out, at, acc, left, (1 << (8 - left)) - 1, 8 - left)
                out[at] = 0xFF
                out[at + 1] = 0xD0 + (mcu // restart - 1) % 8
                at += 2
            prediction[:] = 0
        for b in range(blocks):
            c = component[b]
            value = np.int64(coefficients[mcu, b, 0])
            difference = value - prediction[c]
            prediction[c] = value
            size = _size_of(difference)
            table = dc_class[c]
            at, acc, left = _put(out, at, acc, left, codes[table, size], lengths[table, size])
            if size > 0:
                extra = difference if difference > 0 else difference + (1 << size) - 1
                at, acc, left = _put(out, at, acc, left, extra, size)
            table = 2 + ac_class[c]
            run = 0
            for k in range(1, 64):
                value = np.int64(coefficients[mcu, b, k])
                if value == 0:
                    run += 1
                    continue
                while run > 15:
                    at, acc, left = _put(out, at, acc, left, codes[table, 0xF0],
                                         lengths[table, 0xF0])
                    run -= 16
                size = _size_of(value)
                symbol = run << 4 | size
                at, acc, left = _put(out, at, acc, left, codes[table, symbol],
                                     lengths[table, symbol])
                extra = value if value > 0 else value + (1 << size) - 1
                at, acc, left = _put(out, at, acc, left, extra, size)
                run = 0
            if run > 0:
                at, acc, left = _put(out, at, acc, left, codes[table, 0], lengths[table, 0])
        mcu += 1
    if mcu == mcus and left > 0:
        at, acc, left = _put(out, at, acc, left, (1 << (8 - left)) - 1, 8 - left)
    state[0], state[1], state[2], state[3] = mcu, at, acc, left


def symbol_counts(coefficients: Coefficients, component: npt.NDArray[np.int64], classes: list[int],
                  restart: int) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.int64]]:
    """(int64[2, 256] of DC, of AC symbols) by table that coding int16[MCUs, blocks, 64] takes.
    `classes`: table 0 or 1 of each component."""
    dc, ac = np.zeros((2, 256), np.int64), np.zeros((2, 256), np.int64)
    which = np.array(classes, np.int64)
    _count(coefficients, component, which.size, restart, dc, ac, which, which)
    return dc, ac


def encode_scan(coefficients: Coefficients, component: npt.NDArray[np.int64], classes: list[int],
                restart: int, codes: npt.NDArray[np.int64],
                lengths: npt.NDArray[np.int64]) -> bytes:
    """The coded data of one interleaved scan, stuffed, with RSTn markers every `restart` MCUs (0:
    none).

    `codes`, `lengths` int64[4, 256]: DC tables 0 and 1, AC tables 0 and 1, by symbol.
    """
    which = np.array(classes, np.int64)
    state = np.zeros(4 + which.size, np.int64)
    room = np.empty(1 << 20, np.uint8)
    made: list[bytes] = []
    while state[0] < coefficients.shape[0] or not made:
        _encode(coefficients, component, which.size, restart, which, which, codes, lengths, room,
                state)
        made.append(room[: state[1]].tobytes())
    return b"".join(made)
