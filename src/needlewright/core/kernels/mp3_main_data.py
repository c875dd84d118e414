"""The bookkeeping of MPEG audio layer III: where each frame's sound data lies.

ISO/IEC 11172-3, 2.4.1.7 and 2.4.2.7 (side information), 13818-3 for the lower rates. A frame's data
may begin in the frames before it, `main_data_begin` bytes back, but never inside theirs, and it
ends inside its own frame. Frames of another file at the same places keep the order of headers, and
this one only now and then.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from numba import njit

from needlewright.core.kernels.sound_frames import (
    ADTS_RATES,
    AMR_BYTES,
    AMR_WB_BYTES,
    BITRATES,
    MPEG,
    RATES,
    _header,
)
from needlewright.core.kernels.steady import read_only

State = npt.NDArray[np.int64]
HEAD_BYTES = 44  # header, checksum and the longest side information, and some


def fresh() -> State:
    """The state before the first frame: bytes of sound data so far, bits of it that are spoken for.
    """
    return np.zeros(2, np.int64)


@njit(cache=True, nogil=True)
def _bits(data, at, place, count):
    value = np.int64(0)
    for bit in range(place, place + count):
        value = (value << 1) | ((data[at + (bit >> 3)] >> (7 - (bit & 7))) & 1)
    return value


@njit(cache=True, nogil=True)
def _frame(data, at, bitrates, rates, adts_rates, amr, amr_wb):
    """(bytes of the frame at `at`, bytes that its data begins before it, bits of that, bytes that
    the frame has for data); 0 bytes where no frame is, -1 where it is of another layer."""
    size, key, _, _ = _header(data, at, MPEG, bitrates, rates, adts_rates, amr, amr_wb)
    if size == 0:
        return 0, 0, 0, 0
    key -= 1
    version, layer, mono = key >> 8, (key >> 4) & 15, key & 1
    if layer != 3:
        return -1, 0, 0, 0
    channels = 1 if mono else 2
    if version == 3:
        pointer, place = 9, 9 + (5 if mono else 3) + 4 * channels
        parts, each, side = 2 * channels, 59, 17 if mono else 32
    else:
        pointer, place = 8, 8 + (1 if mono else 2)
        parts, each, side = channels, 63, 9 if mono else 17
    head = 4 if data[at + 1] & 1 else 6
    used = np.int64(0)
    for part in range(parts):
        used += _bits(data, at + head, place + part * each, 12)
    return size, _bits(data, at + head, 0, pointer), used, size - head - side


@njit(cache=True, nogil=True)
def _overlap(data, state, bitrates, rates, adts_rates, amr, amr_wb):
    at = 0
    while at + HEAD_BYTES <= data.size:
        size, back, used, room = _frame(data, at, bitrates, rates, adts_rates, amr, amr_wb)
        if size < 0:
            return data.size, -1
        if size == 0 or at + size > data.size:
            return at, -1
        begin = (state[0] - back) * 8
        if begin < state[1] or begin + used > (state[0] + room) * 8:
            return at, at
        state[0] += room
        state[1] = begin + used
        at += size
    return at, -1


def main_data(head: npt.NDArray[np.uint8]) -> tuple[int, int, int] | None:
    """(bytes that a frame's data begins before it, bits of that data, bytes that the frame has room
    for) from the first 44 bytes of a frame, uint8[44]; None where it is not of layer III, or where
    fewer are there."""
    if head.size < HEAD_BYTES:
        return None
    head = read_only(head)
    size, back, used, room = _frame(head, 0, BITRATES, RATES, ADTS_RATES, AMR_BYTES, AMR_WB_BYTES)
    return (int(back), int(used), int(room)) if size > 0 else None


def first_overlap(data: npt.NDArray[np.uint8], state: State) -> tuple[int, int]:
    """(place behind the last whole frame, the first frame whose data cannot be its own or -1) of
    frames from the first byte of `data`, uint8[n]; goes on from `state`, and changes it.
    """
    data = read_only(data)
    at, wrong = _overlap(data, state, BITRATES, RATES, ADTS_RATES, AMR_BYTES, AMR_WB_BYTES)
    return int(at), int(wrong)
