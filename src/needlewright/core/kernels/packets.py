"""MPEG-2 systems: transport packets and program-stream packs (ISO/IEC 13818-1, 2.4.3 and 2.5.3)."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from numba import njit

from needlewright.core.kernels.steady import read_only

SYNC = 0x47
PACKS_END, DATA_ENDS, NOT_A_PACK = 0, 1, 2


@njit(cache=True, nogil=True)
def _transport(data, step, shift, counters, jumps):
    packets = np.int64(0)
    at = 0
    while at + step <= data.size:
        p = at + shift
        if data[p] != 0x47:
            break
        pid = (np.int64(data[p + 1] & 0x1F) << 8) | np.int64(data[p + 2])
        control = data[p + 3]
        if data[p + 1] & 0x80 or (pid != 0x1FFF and control & 0x30 == 0):
            break
        if pid != 0x1FFF:
            counter = np.int64(control & 15)
            known = counters[pid]
            if known >= 0 and control & 0x10:
                wanted = (known + 1) & 15
                announced = control & 0x20 and data[p + 4] > 0 and data[p + 5] & 0x80
                if counter != wanted and counter != known and not announced:
                    jumps[0] += np.int64(1)
                    if jumps[1] < 0:
                        jumps[1] = packets
            counters[pid] = counter
        packets += 1
        at += step
    return packets


def transport_packets(data: npt.NDArray[np.uint8], step: int, shift: int,
                      counters: npt.NDArray[np.int64]) -> tuple[int, int, int]:
    """(packets in order, breaks of continuity, packet of the first or -1) in `data` uint8[n].

    `step` 188 or 192 bytes a packet, its sync byte `shift` behind its start. `counters`
    int64[8192]: the last continuity counter of each PID, -1 where none was seen; carried over
    between calls.
    """
    data = read_only(data)
    jumps = np.array([0, -1], np.int64)
    packets = int(_transport(data, step, shift, counters, jumps))
    return packets, int(jumps[0]), int(jumps[1])


@njit(cache=True, nogil=True)
def _program(data, at, counts):
    """Follow packs and PES packets; (place, why it ended)."""
    while True:
        if at + 14 > data.size:
            return at, 1
        if data[at] != 0 or data[at + 1] != 0 or data[at + 2] != 1:
            return at, 2
        code = data[at + 3]
        if code == 0xB9:
            return at + 4, 0
        if code == 0xBA:
            if data[at + 4] & 0xC4 == 0x44:
                size = np.int64(14) + np.int64(data[at + 13] & 7)
            elif data[at + 4] & 0xF1 == 0x21:
                size = np.int64(12)
            else:
                return at, 2
            counts[0] += 1
        elif code >= 0xBB:
            size = 6 + ((np.int64(data[at + 4]) << 8) | np.int64(data[at + 5]))
            if size == 6:
                return at, 2
            if 0xE0 <= code <= 0xEF:
                counts[1] += 1
            elif 0xC0 <= code <= 0xDF or code == 0xBD:
                counts[2] += 1
        else:
            return at, 2
        if at + size > data.size:
            return at, 1
        at += size


def program_packets(data: npt.NDArray[np.uint8], at: int,
                    counts: npt.NDArray[np.int64]) -> tuple[int, int]:
    """(place, PACKS_END or DATA_ENDS or NOT_A_PACK) behind the packets from `at` in `data`.

    `data` uint8[n]; `counts` int64[3]: packs, packets of pictures and of sound, added up between
    calls.
    """
    data = read_only(data)
    place, why = _program(data, at, counts)
    return int(place), int(why)
