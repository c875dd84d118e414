"""FLAC frames (RFC 9639, section 9), followed to the bit; both checksums are verified.

A frame does not state its length: its residuals have to be read to know where it ends.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from numba import njit

from needlewright.core.kernels.steady import read_only


def _table(polynomial: int, bits: int) -> npt.NDArray[np.int64]:
    made = np.zeros(256, np.int64)
    for value in range(256):
        register = value << (bits - 8)
        for _ in range(8):
            high = register >> (bits - 1) & 1
            register = (register << 1 & ((1 << bits) - 1)) ^ (polynomial if high else 0)
        made[value] = register
    return made


CRC8, CRC16 = _table(0x07, 8), _table(0x8005, 16)
OK, MORE, BROKEN = 0, 1, 2


@njit(cache=True, nogil=True, inline="always")
def _peek(data, bit):
    """The next 32 bits at `bit`, zeros past the end."""
    byte = bit >> 3
    value = np.int64(0)
    for i in range(5):
        value <<= 8
        if byte + i < data.size:
            value |= np.int64(data[byte + i])
    return (value >> (8 - (bit & 7))) & 0xFFFFFFFF


@njit(cache=True, nogil=True)
def _residual(data, bit, limit, samples, order):
    """Place behind the coded residual, or -1 (broken), -2 (data ends)."""
    head = _peek(data, bit) >> 26
    method, partitions = head >> 4, head & 15
    bit += 6
    if method > 1 or (samples >> partitions) << partitions != samples or (
            samples >> partitions) < order:
        return np.int64(-1)
    width = 4 + method
    for p in range(1 << partitions):
        count = (samples >> partitions) - (order if p == 0 else 0)
        parameter = _peek(data, bit) >> (32 - width)
        bit += width
        if parameter == (1 << width) - 1:
            raw = _peek(data, bit) >> 27
            bit += 5 + raw * count
            if bit > limit:
                return np.int64(-2)
            continue
        for _ in range(count):
            word = _peek(data, bit)
            while word == 0:
                bit += 32
                if bit > limit:
                    return np.int64(-2)
                word = _peek(data, bit)
            while word < 0x80000000:
                word <<= 1
                bit += 1
            bit += 1 + parameter
        if bit > limit:
            return np.int64(-2)
    return bit


@njit(cache=True, nogil=True)
def _subframe(data, bit, limit, samples, depth):
    head = _peek(data, bit) >> 24
    bit += 8
    if head & 0x80:
        return np.int64(-1)
    kind = (head >> 1) & 63
    if head & 1:
        wasted = 1
        while (_peek(data, bit) >> 31) == 0:
            wasted += 1
            bit += 1
            if wasted >= depth:
                return np.int64(-1)
        bit += 1
        depth -= wasted
    if kind == 0:
        return bit + depth
    if kind == 1:
        return bit + depth * samples
    if 8 <= kind <= 12:
        order = kind - 8
        if order > samples:
            return np.int64(-1)
        return _residual(data, bit + order * depth, limit, samples, order)
    if kind >= 32:
        order = kind - 31
        if order > samples:
            return np.int64(-1)
        bit += order * depth
        precision = (_peek(data, bit) >> 28) + 1
        if precision == 16:
            return np.int64(-1)
        bit += 9 + order * precision
        return _residual(data, bit, limit, samples, order)
    return np.int64(-1)


@njit(cache=True, nogil=True)
def _frame(data, at, depth, crc8, crc16):
    """(place behind the frame at `at`, its samples, OK or MORE or BROKEN)."""
    if at + 16 > data.size:
        return at, 0, MORE
    if data[at] != 0xFF or data[at + 1] & 0xFE != 0xF8:
        return at, 0, BROKEN
    size_code, rate_code = data[at + 2] >> 4, data[at + 2] & 15
    channels, depth_code = data[at + 3] >> 4, (data[at + 3] >> 1) & 7
    if size_code == 0 or rate_code == 15 or channels > 10 or depth_code == 3 or data[at + 3] & 1:
        return at, 0, BROKEN
    place = at + 4
    first = data[place]
    extra = 0
    while extra < 7 and (first << extra) & 0x80:
        extra += 1
    if extra == 1:
        return at, 0, BROKEN
    place += max(1, extra)
    samples = np.int64(0)
    if size_code == 1:
        samples = 192
    elif size_code <= 5:
        samples = 576 << (size_code - 2)
    elif size_code == 6:
        samples = np.int64(data[place]) + 1
        place += 1
    elif size_code == 7:
        samples = (np.int64(data[place]) << 8 | np.int64(data[place + 1])) + 1
        place += 2
    else:
        samples = 256 << (size_code - 8)
    if rate_code == 12:
        place += 1
    elif rate_code > 12:
        place += 2
    check = np.int64(0)
    for i in range(at, place):
        check = crc8[check ^ np.int64(data[i])]
    if check != np.int64(data[place]):
        return at, 0, BROKEN
    bit = np.int64(place + 1) * 8
    limit = np.int64(data.size) * 8
    own = depth
    if depth_code == 1:
        own = 8
    elif depth_code == 2:
        own = 12
    elif depth_code == 4:
        own = 16
    elif depth_code == 5:
        own = 20
    elif depth_code == 6:
        own = 24
    elif depth_code == 7:
        own = 32
    count = channels + 1 if channels < 8 else 2
    for c in range(count):
        side = (channels == 8 and c == 1) or (channels == 9 and c == 0) or (
            channels == 10 and c == 1)
        bit = _subframe(data, bit, limit, samples, own + (1 if side else 0))
        if bit == -2:
            return at, 0, MORE
        if bit < 0:
            return at, 0, BROKEN
        if bit > limit:
            return at, 0, MORE
    end = (bit + 7) >> 3
    if end + 2 > data.size:
        return at, 0, MORE
    total = np.int64(0)
    for i in range(at, end):
        total = ((total << 8) & 0xFFFF) ^ crc16[(total >> 8) ^ np.int64(data[i])]
    if total != (np.int64(data[end]) << 8 | np.int64(data[end + 1])):
        return at, 0, BROKEN
    return end + 2, samples, OK


@njit(cache=True, nogil=True)
def _frames(data, at, depth, wanted, crc8, crc16):
    frames = np.int64(0)
    samples = np.int64(0)
    state = OK
    while wanted == 0 or samples < wanted:
        at, made, state = _frame(data, at, depth, crc8, crc16)
        if state != OK:
            break
        frames += 1
        samples += made
    return at, frames, samples, state


def follow_frames(data: npt.NDArray[np.uint8], at: int, depth: int,
                  wanted: int) -> tuple[int, int, int, int]:
    """Follow frames from `at` in `data` uint8[n]: (place, frames, samples, OK, MORE or BROKEN).

    `depth`: bits a sample of the stream; `wanted`: samples after which to end, 0 for all there are.
    MORE: the next frame reaches past `data`.
    """
    data = read_only(data)
    if data.dtype != np.uint8 or data.ndim != 1:
        raise TypeError(f"need uint8[n], got {data.dtype}{data.shape}")
    place, frames, samples, state = _frames(data, at, depth, wanted, CRC8, CRC16)
    return int(place), int(frames), int(samples), int(state)
