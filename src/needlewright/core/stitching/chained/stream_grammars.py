"""The packets of MPEG transport and program streams, of AAC in ADTS, MPEG audio and AMR.

ISO/IEC 13818-1 (2.4.3 transport packets, 2.5.3 packs), 14496-3 (1.A.2.2), 11172-3 (2.4.1), RFC
4867. Big-endian all of them.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import numpy.typing as npt

from needlewright.core.formats.mp3 import encoders_sum
from needlewright.core.kernels.mp3_main_data import HEAD_BYTES, main_data
from needlewright.core.kernels.sound_frames import AMR, AMR_WB, MPEG, frame_bytes
from needlewright.core.sources.source import Source
from needlewright.core.stitching.chained.stream_line import FIRST, WITHIN, Grammar, Packet

SYNC, NULL_PID, MAX_PIDS = 0x47, 0x1FFF, 64
COUNTED = 2.7  # nats: one of sixteen
CLOCKED = 6.0  # nats of a clock that goes on
CLOCK = 27_000_000
LATE, AT_ONCE_S = 30.0, 0.15  # nats a second that a clock goes on later than at once
MISFIT = 8.0  # nats that a packet loses that another stream's would have
COUNT_OLD, CLOCK_OLD, STAMP_OLD, LEFT_OLD, ALL_OLD = 1, 2, 4, 8, 15
EVEN = 0.06  # part of a step that steps may differ by
PACK, END_CODE = 0xBA, 0xB9
TIGHT = 4  # frames that let another be expected to begin where the last one's data ended
Rows = npt.NDArray[np.uint8]


class Transport(Grammar):
    """`step`: 188, or 192 bytes with the time stamp before each packet. The memory: how
    each PID stands."""

    head = 48

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
        known: dict[int, _Program] = memory or {}
        if crossed:  # from here on, what goes on from before is evidence, each once
            known = {k: replace(p, old=ALL_OLD) for k, p in known.items()}
        if pid == NULL_PID:
            return Packet(self._step, 0.0, known)
        control, count = data[head + 3] >> 4 & 3, data[head + 3] & 15
        adaptation = data[head + 4] + 1 if control & 2 else 0
        flags = data[head + 5] if adaptation > 1 else 0
        was = known.get(pid)
        if control == 0 or adaptation > 184 or (was is None and len(known) >= MAX_PIDS):
            return None
        nats, now = 0.0, was or _Program()
        if was is not None and not flags & 0x80:
            if count != ((was.count + 1) & 15 if control & 1 else was.count) and count != was.count:
                return None
            nats += COUNTED if was.old & COUNT_OLD else 0.0
        elif was is None and known:
            nats -= COUNTED
        now = replace(now, count=count, old=now.old & ~COUNT_OLD)
        if flags & 0x10 and adaptation >= 8:
            clock = _clock(data[head + 6 : head + 12])
            ahead = None if now.clock is None or flags & 0x80 else (
                clock - now.clock) % ((1 << 33) * 300)
            if ahead is not None and not 0 < ahead < CLOCK:
                return None
            nats += _near(ahead) if ahead is not None and now.old & CLOCK_OLD else 0.0
            now = replace(now, clock=clock, old=now.old & ~CLOCK_OLD)
        if control & 1:
            more, now = _payload(data, head + 4 + adaptation, 184 - adaptation, now,
                                 data[head + 1] & 0x40 != 0)
            nats += more
        return Packet(self._step, nats, {**known, pid: now})


@dataclass(frozen=True, slots=True)
class _Program:
    """How one PID stands: its counter and clock, the last time stamp and the step to it, bytes that
    are left of a PES packet whose length is stated; which of these are from before this cluster."""

    count: int = 0
    clock: int | None = None
    stamp: int | None = None
    step: int | None = None
    left: int | None = None
    old: int = 0


def _payload(data: bytes, at: int, length: int, was: _Program, begins: bool) -> tuple[
        float, _Program]:
    """(nats, how the PID stands) after `length` bytes of payload at `at`."""
    if not begins:
        left = None if was.left is None else was.left - length
        if left is not None and left < 0:
            return -MISFIT if was.old & LEFT_OLD else 0.0, replace(was, left=None)
        return 0.0, replace(was, left=left)
    # Whether the packet before was complete.
    nats = 0.0
    if was.left is not None and was.old & LEFT_OLD:
        nats = -MISFIT if was.left else CLOCKED
    was = replace(was, old=was.old & ~LEFT_OLD)
    head = data[at : at + 19]
    if len(head) < 19 or head[:3] != b"\0\0\x01":
        return nats, replace(was, left=None)
    stated = int.from_bytes(head[4:6], "big")
    left = stated + 6 - length if stated else None
    stamp = _stamp(head)
    if stamp is None or was.stamp is None:
        return nats, replace(was, left=left, stamp=stamp or was.stamp)
    step = stamp - was.stamp
    if was.step is not None and was.old & STAMP_OLD:
        # Decoding times go on in even steps: a frame too many or too few is another stream's.
        nats += CLOCKED if abs(step - was.step) <= EVEN * max(1, abs(was.step)) else -MISFIT
    return nats, replace(was, left=left, stamp=stamp, step=step, old=was.old & ~STAMP_OLD)


def _stamp(head: bytes) -> int | None:
    """The decoding time of a PES packet, or the time that it is shown where both are one; 13818-1
    2.4.3.7, in ticks of 90 kHz."""
    flags = head[7] >> 6
    if flags < 2:
        return None
    value = int.from_bytes(head[14:19] if flags == 3 else head[9:14], "big")
    return (value >> 33 & 7) << 30 | (value >> 17 & 0x7FFF) << 15 | value >> 1 & 0x7FFF


def _clock(data: bytes) -> int:
    """A program clock reference, 13818-1 2.4.3.5, in ticks of 27 MHz."""
    value = int.from_bytes(data, "big")
    return (value >> 15) * 300 + (value & 0x1FF)


def _near(ticks: int) -> float:
    """What a clock that goes on after so many ticks is worth: the sooner the likelier."""
    return CLOCKED - LATE * max(0.0, ticks / CLOCK - AT_ONCE_S)


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


@dataclass(frozen=True, slots=True)
class _Reservoir:
    """`fixed`: as in Frames; `free`: bits of the frames so far that no sound data uses yet, None
    where that is not known; `tight`: frames in a row whose data began where the last one's ended.
    """

    fixed: int
    free: int | None = None
    tight: int = 0


class Mpeg(Frames):
    """MPEG audio: bit rate, padding and the joint stereo bits may change. In layer III a frame's
    data begins where the last one's ended (ISO/IEC 11172-3, 2.4.2.7), to the byte in most encoders:
    frames of another file stand in step now and then, their data hardly ever."""

    head = HEAD_BYTES

    def __init__(self) -> None:
        Frames.__init__(self, 0xFFFE_0CC0, 24)

    def read(self, data: bytes, at: int, memory: Any, crossed: bool) -> Packet | None:
        was: _Reservoir | None = memory
        packet = Frames.read(self, data, at, None if was is None else was.fixed, crossed)
        if packet is None:
            return None
        side = main_data(np.frombuffer(data[at : at + self.head], np.uint8))
        if side is None:
            return replace(packet, memory=_Reservoir(packet.memory))
        back, used, room = side
        gap = None if was is None or was.free is None else was.free - 8 * back
        if gap is not None and gap < 0:
            return None
        nats = packet.nats
        if gap is not None and was is not None and crossed and was.tight >= TIGHT:
            nats += CLOCKED if gap < 8 else -MISFIT
        tight = was.tight + 1 if was is not None and gap is not None and gap < 8 else 0
        free = 8 * (back + room) - used if gap is not None or back == 0 else None
        if free is not None and free < 0:
            return None
        return replace(packet, nats=nats, memory=_Reservoir(packet.memory, free, tight))

    def size(self, data: bytes, at: int) -> int:
        return int(frame_bytes(data[at : at + 8], MPEG))

    def sum_agrees(self, file: Source) -> bool | None:
        return encoders_sum(file)


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
