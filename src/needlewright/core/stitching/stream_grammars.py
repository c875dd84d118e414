"""The packets of MPEG transport and program streams, of AAC in ADTS, MPEG audio and AMR.

ISO/IEC 13818-1 (2.4.3 transport packets, 2.5.3 packs), 14496-3 (1.A.2.2), 11172-3 (2.4.1), RFC
4867. Big-endian all of them.
"""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

from needlewright.core.kernels.sound_frames import AMR, AMR_WB, MPEG, frame_bytes
from needlewright.core.stitching.stream_line import FIRST, WITHIN, Grammar, Packet

SYNC, NULL_PID, MAX_PIDS = 0x47, 0x1FFF, 64
COUNTED = 2.7  # nats: one of sixteen
CLOCKED = 6.0  # nats of a clock that goes on
CLOCK = 27_000_000
LATE, AT_ONCE_S = 30.0, 0.15  # nats a second that a clock goes on later than at once
PRESENTED = 1 << 16  # the time stamps of a PID, beside its clock
PACK, END_CODE = 0xBA, 0xB9
Rows = npt.NDArray[np.uint8]
_Counted = tuple[dict[int, int], dict[int, int], frozenset[int]]


class Transport(Grammar):
    """`step`: 188, or 192 bytes with the time stamp before each packet. The memory: (counters,
    clocks) by PID, and the PIDs that this cluster had."""

    head = 16

    def __init__(self, step: int) -> None:
        self._step, self._shift = step, step - 188

    def begin(self, data: bytes) -> int | None:
        shift, step = self._shift, self._step
        return 0 if len(data) > shift + step and data[shift] == data[shift + step] == SYNC else None

    def might(self, rows: Rows, at: int) -> npt.NDArray[np.bool_]:
        places = np.arange(at + self._shift, rows.shape[1], self._step)
        return np.asarray((rows[:, places] == SYNC).all(axis=1)) if places.size else (
            np.ones(len(rows), np.bool_))

    def read(self, data: bytes, at: int, memory: Any, crossed: bool) -> Packet | None:
        head = at + self._shift
        if data[head] != SYNC or data[head + 1] & 0x80:
            return None
        pid = (data[head + 1] & 0x1F) << 8 | data[head + 2]
        fresh: _Counted = ({}, {}, frozenset())
        counters, clocks, here = memory or fresh
        here = frozenset() if crossed else here
        if pid == NULL_PID:
            return Packet(self._step, 0.0, (counters, clocks, here))
        control, count = data[head + 3] >> 4 & 3, data[head + 3] & 15
        if control == 0 or (pid not in counters and len(counters) >= MAX_PIDS):
            return None
        nats = 0.0
        adaptation = data[head + 4] if control & 2 else 0
        flags = data[head + 5] if adaptation else 0
        if pid in counters and not flags & 0x80:
            was = counters[pid]
            if count != ((was + 1) & 15 if control & 1 else was) and count != was:
                return None
            nats += WITHIN if pid in here else COUNTED
        elif pid not in counters and counters:
            nats -= COUNTED
        if flags & 0x10 and adaptation >= 7:
            found = _ticking(clocks, pid, _clock(data[head + 6 : head + 12]), flags & 0x80 != 0)
            if found is None:
                return None
            nats, clocks = nats + found[0], found[1]
        if data[head + 1] & 0x40 and control & 1:
            begins = head + 4 + (1 + adaptation if control & 2 else 0)
            shown = _presented(data, begins)
            was_shown = clocks.get(pid | PRESENTED)
            if shown is not None:
                # Pictures come out of order, but none much earlier or later than the last.
                if was_shown is not None:
                    nats += _near(abs(shown - was_shown)) if crossed or pid not in here else 0.0
                clocks = {**clocks, pid | PRESENTED: shown}
        return Packet(self._step, nats, ({**counters, pid: count}, clocks, here | {pid}))


def _clock(data: bytes) -> int:
    """A program clock reference, 13818-1 2.4.3.5, in ticks of 27 MHz."""
    value = int.from_bytes(data, "big")
    return (value >> 15) * 300 + (value & 0x1FF)


def _ticking(clocks: dict[int, int], pid: int, now: int, jumped: bool) -> tuple[
        float, dict[int, int]] | None:
    """(nats, clocks) where the clock of `pid` goes on to `now`; None where it cannot."""
    was = clocks.get(pid)
    if was is None or jumped:
        return 0.0, {**clocks, pid: now}
    ahead = (now - was) % ((1 << 33) * 300)
    return (_near(ahead), {**clocks, pid: now}) if 0 < ahead < CLOCK else None


def _near(ticks: int) -> float:
    """What a clock that goes on after so many ticks is worth: the sooner the likelier."""
    return CLOCKED - LATE * max(0.0, ticks / CLOCK - AT_ONCE_S)


def _presented(data: bytes, at: int) -> int | None:
    """The time stamp of the PES packet at `at`, 13818-1 2.4.3.7, in ticks of 27 MHz."""
    head = data[at : at + 14]
    if len(head) < 14 or head[:3] != b"\0\0\x01" or not head[7] & 0x80:
        return None
    value = int.from_bytes(head[9:14], "big")
    return ((value >> 33 & 7) << 30 | (value >> 17 & 0x7FFF) << 15 | value >> 1 & 0x7FFF) * 300


class Program(Grammar):
    """Packs and PES packets. The memory: the last system clock, in ticks of 27 MHz."""

    head = 14

    def begin(self, data: bytes) -> int | None:
        return 0 if data[:4] == b"\0\0\x01\xba" else None

    def might(self, rows: Rows, at: int) -> npt.NDArray[np.bool_]:
        return np.asarray((rows[:, at] == 0) & (rows[:, at + 1] == 0) & (rows[:, at + 2] == 1)
                          & (rows[:, at + 3] >= END_CODE))

    def read(self, data: bytes, at: int, memory: Any, crossed: bool) -> Packet | None:
        if data[at : at + 3] != b"\0\0\x01" or data[at + 3] <= END_CODE:
            return None
        if data[at + 3] != PACK:
            return Packet(6 + int.from_bytes(data[at + 4 : at + 6], "big"), WITHIN, memory)
        value = int.from_bytes(data[at + 4 : at + 10], "big")
        if data[at + 4] & 0xC4 == 0x44:
            base = (value >> 43 & 7) << 30 | (value >> 27 & 0x7FFF) << 15 | value >> 11 & 0x7FFF
            now, size = base * 300 + (value >> 1 & 0x1FF), 14 + (data[at + 13] & 7)
        elif data[at + 4] & 0xF1 == 0x21:
            base = (value >> 41 & 7) << 30 | (value >> 25 & 0x7FFF) << 15 | value >> 9 & 0x7FFF
            now, size = base * 300, 12
        else:
            return None
        if memory is None:
            return Packet(size, 0.0, now)
        ahead = now - memory
        if not 0 <= ahead < CLOCK:
            return None
        # Next behind one another: the nearer the clocks, the surer.
        return Packet(size, FIRST + CLOCKED * (1 - ahead / CLOCK), now)

    def tail(self, data: bytes, at: int) -> int:
        return 4 if data[at : at + 4] == b"\0\0\x01\xb9" else 0


class Frames(Grammar):
    """Sound frames whose headers hardly change. `mask`: the bits of the first four bytes that stay
    as they are. The memory: those bits of the first frame."""

    def __init__(self, mask: int, least: int) -> None:
        self.mask, self.least = mask, least

    head = 8

    def begin(self, data: bytes) -> int | None:
        at = 0
        if data[:3] == b"ID3" and len(data) > 10:
            at = 10 + (data[6] << 21 | data[7] << 14 | data[8] << 7 | data[9])
        return at

    def size(self, data: bytes, at: int) -> int:
        """Bytes of the frame at `at`; 0 where none can be."""
        raise NotImplementedError

    def might(self, rows: Rows, at: int) -> npt.NDArray[np.bool_]:
        return np.asarray((rows[:, at] == 0xFF) & (rows[:, at + 1] >= 0xE0))

    def read(self, data: bytes, at: int, memory: Any, crossed: bool) -> Packet | None:
        fixed = int.from_bytes(data[at : at + 4], "big") & self.mask
        size = self.size(data, at)
        if size < self.least or (memory is not None and fixed != memory):
            return None
        return Packet(size, FIRST if crossed else WITHIN, fixed)

    def tail(self, data: bytes, at: int) -> int:
        return 128 if data[at : at + 3] == b"TAG" else 0


class Adts(Frames):
    """AAC: everything but the frame's length stays."""

    def __init__(self) -> None:
        Frames.__init__(self, 0xFFFF_FDC0, 9)

    def size(self, data: bytes, at: int) -> int:
        if data[at] != 0xFF or data[at + 1] & 0xF6 != 0xF0:
            return 0
        return (data[at + 3] & 3) << 11 | data[at + 4] << 3 | data[at + 5] >> 5


class Mpeg(Frames):
    """MPEG audio: bit rate, padding and the joint stereo bits may change."""

    def __init__(self) -> None:
        Frames.__init__(self, 0xFFFE_0CC0, 24)

    def size(self, data: bytes, at: int) -> int:
        return int(frame_bytes(data[at : at + 8], MPEG))


class Speech(Frames):
    """AMR: one byte says how long a frame is; all of one call are of a few kinds."""

    head = 1

    def __init__(self, wide: bool) -> None:
        Frames.__init__(self, 0, 1)
        self._kind = AMR_WB if wide else AMR
        self._begin = 9 if wide else 6

    def begin(self, data: bytes) -> int | None:
        return self._begin

    def size(self, data: bytes, at: int) -> int:
        return int(frame_bytes(data[at : at + 8].ljust(8, b"\0"), self._kind))

    def might(self, rows: Rows, at: int) -> npt.NDArray[np.bool_]:
        return np.asarray(rows[:, at] & 0x83 == 0)

    def read(self, data: bytes, at: int, memory: Any, crossed: bool) -> Packet | None:
        size = self.size(data, at)
        kinds: frozenset[int] = memory or frozenset()
        if size < 1:
            return None
        kind = data[at]
        if crossed and kinds and kind not in kinds:
            return None
        known = kinds if kind in kinds or len(kinds) > 6 else kinds | {kind}
        return Packet(size, 2.0 if crossed else WITHIN, known)

    def tail(self, data: bytes, at: int) -> int:
        return 0
