"""Chains of self-describing sound frames: MPEG audio, ADTS and AMR.

MPEG audio: ISO/IEC 11172-3 2.4.1.3, 13818-3 for the lower rates, and the extension to 8-12 kHz.
ADTS: ISO/IEC 14496-3, 1.A.2.2. AMR: RFC 4867, 5.3.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from numba import njit

from needlewright.core.kernels.steady import read_only

MPEG, ADTS, AMR, AMR_WB = 0, 1, 2, 3

# kbit/s by [version 1 or lower][layer - 1][index]
BITRATES = np.array([
    [[0, 32, 64, 96, 128, 160, 192, 224, 256, 288, 320, 352, 384, 416, 448, 0],
     [0, 32, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 384, 0],
     [0, 32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 0]],
    [[0, 32, 48, 56, 64, 80, 96, 112, 128, 144, 160, 176, 192, 224, 256, 0],
     [0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160, 0],
     [0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160, 0]],
], np.int64)
RATES = np.array([[11025, 12000, 8000], [0, 0, 0], [22050, 24000, 16000], [44100, 48000, 32000]],
                 np.int64)  # by version bits
ADTS_RATES = np.array([96000, 88200, 64000, 48000, 44100, 32000, 24000, 22050, 16000, 12000, 11025,
                       8000, 7350, 0, 0, 0], np.int64)
# bytes of a frame's speech, by type; 0 for types that do not exist (3GPP TS 26.101 and 26.201)
AMR_BYTES = np.array([12, 13, 15, 17, 19, 20, 26, 31, 5, 0, 0, 0, 0, 0, 0, 0], np.int64)
AMR_WB_BYTES = np.array([17, 23, 32, 36, 40, 46, 50, 58, 60, 5, 0, 0, 0, 0, 0, 0], np.int64)


@njit(cache=True, nogil=True)
def _header(data, at, coding, bitrates, rates, adts_rates, amr, amr_wb):
    """(bytes of the frame at `at`, key of its stream, samples, rate); 0 bytes where none is."""
    if coding >= 2:
        head = data[at]
        if head & 0x83 or not head & 0x04:
            return 0, 0, 0, 0
        kind = (head >> 3) & 15
        size = amr[kind] if coding == 2 else amr_wb[kind]
        if size == 0 and kind != 15 and not (coding == 3 and kind == 14):
            return 0, 0, 0, 0
        return size + 1, kind + 1, 160 if coding == 2 else 320, 8000 if coding == 2 else 16000
    if data[at] != 0xFF or data[at + 1] & 0xE0 != 0xE0:
        return 0, 0, 0, 0
    second, third = np.int64(data[at + 1]), np.int64(data[at + 2])
    layer = 4 - ((second >> 1) & 3)
    if coding == 1:
        if second & 0xF6 != 0xF0:
            return 0, 0, 0, 0
        rate = adts_rates[(third >> 2) & 15]
        size = ((np.int64(data[at + 3]) & 3) << 11) | (np.int64(data[at + 4]) << 3) | (
            np.int64(data[at + 5]) >> 5)
        blocks = (data[at + 6] & 3) + 1
        channels = ((third & 1) << 2) | (np.int64(data[at + 3]) >> 6)
        if rate == 0 or size < 9:
            return 0, 0, 0, 0
        # protection, profile, rate and channels stay the same all through a stream
        key = (second << 16) | ((third & 0xFD) << 8) | channels
        return size, key, 1024 * blocks, rate
    version = (second >> 3) & 3
    if version == 1 or layer == 4:
        return 0, 0, 0, 0
    kbit = bitrates[0 if version == 3 else 1, layer - 1, third >> 4]
    index = (third >> 2) & 3
    if kbit == 0 or index == 3 or (data[at + 3] & 3) == 2:
        return 0, 0, 0, 0
    rate = rates[version, index]
    padding = (third >> 1) & 1
    if layer == 1:
        size, samples = (12000 * kbit // rate + padding) * 4, 384
    elif layer == 3 and version != 3:
        size, samples = 72000 * kbit // rate + padding, 576
    else:
        size, samples = 144000 * kbit // rate + padding, 1152
    mono = (data[at + 3] >> 6) == 3
    key = (version << 8) | (layer << 4) | (index << 1) | np.int64(mono)
    return size, key + 1, samples, rate


@njit(cache=True, nogil=True)
def _chain(data, at, key, coding, last, bitrates, rates, adts_rates, amr, amr_wb):
    frames = np.int64(0)
    samples = np.int64(0)
    rate = np.int64(0)
    need = 1 if coding >= 2 else 7
    while True:
        if at + need > data.size:
            return at, frames, samples, rate, key, not last
        size, own, made, own_rate = _header(
            data, at, coding, bitrates, rates, adts_rates, amr, amr_wb)
        if coding < 2 and key == 0:
            key = own
        if size == 0 or (coding < 2 and own != key):
            return at, frames, samples, rate, key, False
        if at + size > data.size:
            return at, frames, samples, rate, key, not last
        at += size
        frames += 1
        samples += made
        rate = own_rate


def follow(data: npt.NDArray[np.uint8], at: int, key: int, coding: int, last: bool) -> tuple[
        int, int, int, int, int, bool]:
    """Follow frames from `at` in `data` uint8[n]: (place, frames, samples, rate, key, go on).

    `key` 0 takes on the stream of the first frame; else frames of other streams end the chain.
    `last`: nothing follows `data`. 'go on': the next frame reaches past `data`. AMR streams change
    their rate as they like and have no key.
    """
    data = read_only(data)
    if data.dtype != np.uint8 or data.ndim != 1:
        raise TypeError(f"need uint8[n], got {data.dtype}{data.shape}")
    place, frames, samples, rate, own, more = _chain(
        data, at, key, coding, last, BITRATES, RATES, ADTS_RATES, AMR_BYTES, AMR_WB_BYTES)
    return int(place), int(frames), int(samples), int(rate), int(own), bool(more)


def frame_bytes(head: bytes, coding: int) -> int:
    """Bytes of the frame whose first 8 bytes are `head`; 0 where none begins."""
    size, _, _, _ = _header(np.frombuffer(head[:8].ljust(8, b"\0"), np.uint8), 0, coding, BITRATES,
                            RATES, ADTS_RATES, AMR_BYTES, AMR_WB_BYTES)
    return int(size)


@njit(cache=True, nogil=True)
def _resume(data, start, key, coding, wanted, bitrates, rates, adts_rates, amr, amr_wb):
    for begin in range(start, data.size - 8):
        if data[begin] != 0xFF:
            continue
        _, frames, _, _, _, _ = _chain(
            data, begin, key, coding, False, bitrates, rates, adts_rates, amr, amr_wb)
        if frames >= wanted:
            return begin
    return -1


def resume(data: npt.NDArray[np.uint8], start: int, key: int, coding: int, wanted: int) -> int:
    """Where from `start` on at least `wanted` frames of the stream `key` follow each other; or -1.
    """
    data = read_only(data)
    return int(_resume(data, start, key, coding, wanted, BITRATES, RATES, ADTS_RATES, AMR_BYTES,
                       AMR_WB_BYTES))
