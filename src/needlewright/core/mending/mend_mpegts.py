"""Transport streams with foreign or missing bytes: packets in step again, without the units that
are torn, and with counters that are right (ISO/IEC 13818-1, 2.4.3).

Every unit has its time, so nothing has to be put in the place of what is lost; pictures that need
lost ones are left out up to the next that stands alone.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace
from typing import BinaryIO

import numpy as np
import numpy.typing as npt

from needlewright.core.mending.base import Change, Mended, Mender, Patient, Unmendable
from needlewright.core.mending.registry import register
from needlewright.core.mending.streams.keys import is_between, is_key
from needlewright.core.mending.streams.pieces import left_out
from needlewright.core.sources.source import Source

SYNC, PACKET = 0x47, 188
SECTOR = 512
STEPS = ((188, 0), (192, 4))
IN_STEP = 8  # packets in step for a new beginning to be believed
BLOCK_PACKETS = 20_000
LOOK_BYTES = 1 << 20
MOST_PACKETS = 50_000_000
NULL, FIRST_MEDIA = 0x1FFF, 0x20
CLOCK = 90_000.0  # 13818-1, 2.4.3.7
WRAP = 1 << 33
MOST_TABLES = 4000  # first packets of units that are asked for the program's table
UNIT_BYTES = 16  # packets of a unit that are looked at for what it is
SOUNDS = frozenset((*range(0xC0, 0xE0), 0xBD, 0xFD))
CODINGS = {1: b"MPG1", 2: b"MPG2", 0x10: b"MP4V", 0x1B: b"H264", 0x24: b"HEVC"}  # 2-34
BETWEEN = frozenset((b"MPG1", b"MPG2", b"MP4V"))  # whose pictures may need those before a key
Longs = npt.NDArray[np.int64]
Bytes = npt.NDArray[np.uint8]


@dataclass(frozen=True, slots=True)
class _Gap:
    """Something foreign, or a hole, before packet `number`. `pid`: the stream of the packet that it
    may begin in, which is left out; `few`: so little was overwritten that counters show whether
    anything of a stream is lost."""

    number: int
    pid: int = -1
    few: bool = False


@dataclass(slots=True)
class _Packets:
    """All packets that stand in step: int64[n] `at`, uint8[n, 6] `heads`; `gaps`: where bytes are
    foreign or missing."""

    step: int
    shift: int
    at: Longs
    heads: Bytes
    gaps: list[_Gap]
    joined: dict[int, bytes] = field(default_factory=dict)  # place -> a packet that was split
    pids: Longs = field(init=False)
    begins: npt.NDArray[np.bool_] = field(init=False)  # which begin a unit
    carries: npt.NDArray[np.bool_] = field(init=False)  # which have a payload, and so count

    def __post_init__(self) -> None:
        self.pids = (self.heads[:, 1].astype(np.int64) & 0x1F) << 8 | self.heads[:, 2]
        self.begins = np.asarray(self.heads[:, 1] & 0x40, np.bool_)
        self.carries = np.asarray(self.heads[:, 3] & 0x10, np.bool_)


@dataclass(slots=True)
class _Result:
    keep: npt.NDArray[np.bool_]
    counters: Bytes
    dropped: int = 0
    spans: list[tuple[float, float]] = field(default_factory=list)
    lost: float = 0.0
    first: float | None = None
    last: float | None = None


def _in_step(data: bytes, at: int, step: int) -> bool:
    """Whether packets stand in step from `at` on."""
    places = range(at, min(len(data), at + IN_STEP * step), step)
    return len(places) >= IN_STEP and all(
        data[p] == SYNC and not data[p + 1] & 0x80 for p in places if p + 1 < len(data))


def _step_of(source: Source) -> tuple[int, int]:
    """(bytes of a packet, where in it its mark stands)."""
    for at in range(0, min(source.size, 64 << 20), LOOK_BYTES):
        data = source.read_at(at, LOOK_BYTES + 192 * IN_STEP)
        place = data.find(SYNC)
        while 0 <= place < LOOK_BYTES:
            for step, shift in STEPS:
                if at + place >= shift and _in_step(data, place, step):
                    return step, shift
            place = data.find(SYNC, place + 1)
    raise Unmendable("samples-none")


def _packets(patient: Patient, step: int, shift: int) -> _Packets:
    source = patient.source
    places: list[Longs] = []
    heads: list[Bytes] = []
    gaps: list[_Gap] = []
    joined: dict[int, bytes] = {}
    at, count = 0, 0
    while at + step <= source.size:
        patient.breathe(at / source.size * 0.6)
        room = min(BLOCK_PACKETS, (source.size - at) // step)
        data = np.frombuffer(source.read_at(at, room * step), np.uint8)
        rows = data[: len(data) // step * step].reshape(-1, step)
        good = (rows[:, shift] == SYNC) & (rows[:, shift + 1] & 0x80 == 0)
        sound = len(good) if good.all() else int(good.argmin())
        if sound:
            places.append(at + np.arange(sound, dtype=np.int64) * step)
            heads.append(rows[:sound, shift : shift + 6].copy())
            count += sound
            at += sound * step
        if count > MOST_PACKETS:
            raise Unmendable("too-large")
        if sound < room or not len(data):
            pid = -1
            if sound:  # what is foreign may begin in the last packet before it
                count -= 1
                pid = (int(heads[-1][-1, 1]) & 0x1F) << 8 | int(heads[-1][-1, 2])
                places[-1], heads[-1] = places[-1][:-1], heads[-1][:-1]
            begun, at = at, _again(patient, at + (1 if sound else 0), step, shift)
            split = _joined(source, begun - step, at, step) if sound else b""
            if split:
                joined[begun - step] = split
                places.append(np.array([begun - step], np.int64))
                heads.append(np.frombuffer(split, np.uint8)[None, shift : shift + 6])
                count, pid = count + 1, -1
            in_place = at < source.size and (at - begun) % step == 0
            gaps.append(_Gap(count, pid, in_place and at - begun < 14 * step))
    if at < source.size and (not gaps or gaps[-1].number != count):
        gaps.append(_Gap(count))  # the last packet is cut off
    if not places:
        raise Unmendable("samples-none")
    return _Packets(step, shift, np.concatenate(places), np.concatenate(heads), gaps, joined)


def _joined(source: Source, at: int, next_at: int, step: int) -> bytes:
    """The packet at `at`, into which whole sectors were put, as they are where a file's clusters
    were taken to be in one piece; b"" where that is not what happened."""
    extra = next_at - at - step
    if extra <= 0 or extra % SECTOR or extra % step == 0 or next_at >= source.size:
        return b""
    seam = -(-at // SECTOR) * SECTOR
    if not at < seam <= at + step:
        return b""
    return source.read_at(at, seam - at) + source.read_at(seam + extra, next_at - seam - extra)


def _again(patient: Patient, at: int, step: int, shift: int) -> int:
    """The next place from which packets stand in step; the end where none do."""
    source = patient.source
    while at < source.size:
        patient.breathe(at / source.size * 0.6)
        data = source.read_at(at, LOOK_BYTES + step * IN_STEP)
        place = data.find(SYNC, shift)
        while 0 <= place < LOOK_BYTES:
            if _in_step(data, place, step):
                return at + place - shift
            place = data.find(SYNC, place + 1)
        at += LOOK_BYTES
    return source.size


def _from_table(packets: _Packets) -> _Packets:
    """Where the beginning is lost, from the first table on: a stream begins with one."""
    tables = np.flatnonzero((packets.pids == 0) & packets.begins)
    if not packets.gaps or packets.gaps[0].number or not tables.size or not tables[0]:
        return packets
    first = int(tables[0])
    gaps = [_Gap(0), *(replace(gap, number=gap.number - first)
                       for gap in packets.gaps if gap.number > first)]
    return replace(packets, at=packets.at[first:], heads=packets.heads[first:], gaps=gaps)


class _Unit:
    """What is known of the units of one stream."""

    def __init__(self, source: Source, packets: _Packets) -> None:
        self._source, self._packets, self._pids = source, packets, packets.pids
        self.codings = self._told()

    def _told(self) -> dict[int, bytes]:
        """Coding by stream, as the program's table says (2.4.4.8)."""
        found: dict[int, bytes] = {}
        tables = np.flatnonzero((self._pids >= 0x10) & (self._pids < NULL) & self._packets.begins)
        for number in tables[:MOST_TABLES].tolist():
            data = self.payload(number)
            if not data or data[0] + 13 > len(data) or data[1 + data[0]] != 2:
                continue
            table = data[1 + data[0] :]
            stop = min(len(table), 3 + ((table[1] & 0x0F) << 8 | table[2]) - 4)
            at = 12 + ((table[10] & 0x0F) << 8 | table[11])
            while at + 5 <= stop:
                pid = (table[at + 1] & 0x1F) << 8 | table[at + 2]
                if table[at] in CODINGS:
                    found[pid] = CODINGS[table[at]]
                at += 5 + ((table[at + 3] & 0x0F) << 8 | table[at + 4])
        return found

    def payload(self, number: int, more: int = 1) -> bytes:
        """The payload of packet `number` and of those behind it that go on with it."""
        packets, pid = self._packets, self._pids[number]
        out = b""
        for place in range(number, min(len(packets.at), number + 40 * more)):
            if self._pids[place] != pid:
                continue
            if place > number and packets.begins[place]:
                break
            data = packets.joined.get(int(packets.at[place]), b"")[packets.shift :]
            data = data or self._source.read_at(int(packets.at[place]) + packets.shift, PACKET)
            skip = 5 + data[4] if data[3] & 0x20 else 4
            out += data[skip:] if data[3] & 0x10 else b""
            more -= 1
            if more <= 0:
                break
        return out

    def time(self, number: int) -> float | None:
        """When the unit that begins with packet `number` is shown, seconds (2.4.3.7)."""
        data = self.payload(number)
        if len(data) < 14 or data[:3] != b"\0\0\1" or not data[7] & 0x80:
            return None
        p = data[9:14]
        stamp = (p[0] >> 1 & 7) << 30 | p[1] << 22 | (p[2] >> 1) << 15 | p[3] << 7 | p[4] >> 1
        return stamp / CLOCK

    def is_key(self, number: int) -> bool:
        packets = self._packets
        head = packets.heads[number]
        if head[3] & 0x20 and head[4] and head[5] & 0x40:  # random access is indicated
            return True
        coding = self.codings.get(int(self._pids[number]), b"")
        return bool(is_key(coding, self.payload(number, UNIT_BYTES)[9:])) if coding else False

    def is_between(self, number: int) -> bool:
        """Whether the picture that packet `number` begins is made of those on both sides."""
        coding = self.codings.get(int(self._pids[number]), b"")
        return coding in BETWEEN and is_between(coding, self.payload(number, UNIT_BYTES)[9:])


def mend(patient: Patient) -> Iterator[Mended]:
    step, shift = _step_of(patient.source)
    packets = _from_table(_packets(patient, step, shift))
    result = _Result(np.ones(len(packets.at), np.bool_),
                     (packets.heads[:, 3] & 0x0F).astype(np.uint8))
    unit = _Unit(patient.source, packets)
    pids = packets.pids
    streams = {pid: np.flatnonzero(pids == pid)
               for pid in sorted(set(np.unique(pids).tolist()) - {NULL})}
    losing = [_losing(packets, streams, gap) for gap in packets.gaps]
    for pid, mine in streams.items():
        patient.breathe(0.7)
        torn = [gap.number for gap, pids in zip(packets.gaps, losing, strict=True) if pid in pids]
        _stream(packets, unit, mine, torn, pid >= FIRST_MEDIA, result)
    kept = int(result.keep.sum())
    if not kept:
        raise Unmendable("samples-none")
    if kept == len(packets.at) and not packets.gaps:
        raise Unmendable("nothing-found")
    seconds = sorted(result.spans)
    changes = [Change("packets-in-step", {"count": kept, "times": len(packets.gaps)}),
               *left_out(result.dropped, seconds)]
    total = (result.last or 0.0) - (result.first or 0.0)
    share = max(0.0, 1 - result.lost / total) if total > 0 else kept / len(packets.at)
    yield Mended(_written(patient.source, packets, result), "ts" if step == PACKET else "m2ts",
                 tuple(changes), share)


def _losing(packets: _Packets, streams: dict[int, Longs], gap: _Gap) -> set[int]:
    """The streams that lose something at a gap. Where the counters of all go on, only foreign bytes
    were put between; by chance they do so only together with those of every other stream."""
    losing: set[int] = set()
    for pid, mine in streams.items():
        place = int(np.searchsorted(mine, gap.number))
        if pid < FIRST_MEDIA or not 0 < place < len(mine):
            if pid >= FIRST_MEDIA:
                losing.add(pid)
            continue
        before, behind = packets.heads[mine[place - 1], 3] & 0x0F, packets.heads[mine[place], 3]
        step = (int(behind & 0x0F) - int(before)) % 16
        if pid == gap.pid or step != (1 if behind & 0x10 else 0):
            losing.add(pid)
        if step != (2 if pid == gap.pid else 1 if behind & 0x10 else 0):
            losing.add(-1)  # more than the packet that it begins in
    if gap.few or -1 not in losing:
        return losing
    return {pid for pid in streams if pid >= FIRST_MEDIA}


def _stream(packets: _Packets, unit: _Unit, mine: Longs, gaps: list[int], media: bool,
            result: _Result) -> None:
    """Leave out the units of one stream that are torn, at `gaps` and where its counter jumps, and
    number what is kept."""
    counts = packets.heads[mine, 3] & 0x0F
    carries, begins = packets.carries[mine], packets.begins[mine]
    unit_head = unit.payload(int(mine[begins.argmax()])) if media and begins.any() else b""
    video = len(unit_head) > 3 and unit_head[:3] == b"\0\0\1" and unit_head[3] not in SOUNDS
    if media and unit_head[:3] != b"\0\0\1":
        media = False  # tables
    if media and begins.any():
        _span(unit, mine[begins], result, video)
        expected = np.concatenate(([False], (counts[1:] - counts[:-1] - carries[1:]) % 16 != 0))
        torn = set(np.flatnonzero(expected).tolist())
        torn.update(np.searchsorted(mine, gaps).tolist())
        for place in sorted(torn):
            _tear(packets, unit, mine, begins, place, video, result)
    kept = mine[result.keep[mine]]
    counted = np.cumsum(packets.carries[kept].astype(np.int64))
    if kept.size:
        start = int(packets.heads[kept[0], 3] & 0x0F) - int(counted[0])
        result.counters[kept] = ((start + counted) % 16).astype(np.uint8)


def _tear(packets: _Packets, unit: _Unit, mine: Longs, begins: npt.NDArray[np.bool_], place: int,
          video: bool, result: _Result) -> None:
    """Leave out the unit that reaches over `place` (in `mine`), and what needs it."""
    before = np.flatnonzero(begins[:place])
    first = int(before[-1]) if before.size else 0
    if place < len(mine) and begins[place] and place and _complete(unit, mine, first, place):
        first = place
    behind = np.flatnonzero(begins[place:]) + place
    stop = len(mine)
    for candidate in behind.tolist():
        if not video or unit.is_key(int(mine[candidate])):
            stop = candidate
            break
    if stop <= first:
        return
    _leave_out(packets, mine, first, stop, result)
    if video:
        _leave_between(packets, unit, mine, behind[behind > stop], result)
    units = int(packets.begins[mine[first:stop]].sum())
    if not units:
        return
    begun = unit.time(int(mine[first])) if begins[first] else result.first
    ended = unit.time(int(mine[stop])) if stop < len(mine) else result.last
    if begun is not None and ended is not None and result.first is not None:
        span = (max(0.0, begun - result.first), max(0.0, ended - result.first))
        result.spans.append(span)
        if video:
            result.lost += max(0.0, span[1] - span[0])


def _leave_out(packets: _Packets, mine: Longs, first: int, stop: int, result: _Result) -> None:
    gone = mine[first:stop]
    result.dropped += int(packets.begins[gone[result.keep[gone]]].sum())
    result.keep[gone] = False


def _leave_between(packets: _Packets, unit: _Unit, mine: Longs, behind: Longs,
                   result: _Result) -> None:
    """Leave out the pictures behind a key that are made of it and of one before it."""
    for index, place in enumerate(behind.tolist()):
        if not unit.is_between(int(mine[place])):
            return
        stop = int(behind[index + 1]) if index + 1 < len(behind) else len(mine)
        _leave_out(packets, mine, place, stop, result)


def _complete(unit: _Unit, mine: Longs, first: int, place: int) -> bool:
    """Whether the unit before a gap is there to its stated end."""
    data = unit.payload(int(mine[first]), place - first)
    stated = int.from_bytes(data[4:6], "big") if data[:3] == b"\0\0\1" else 0
    return bool(stated) and len(data) == stated + 6


def _span(unit: _Unit, begins: Longs, result: _Result, video: bool) -> None:
    """The first and the last time of a stream; of pictures rather than of sound."""
    if result.first is not None and not video:
        return
    first, last = unit.time(int(begins[0])), unit.time(int(begins[-1]))
    if first is not None and last is not None:
        result.first, result.last = first, last if last >= first else last + WRAP / CLOCK


def _written(source: Source, packets: _Packets, result: _Result) -> Callable[[BinaryIO], None]:
    kept = np.flatnonzero(result.keep)

    def write(out: BinaryIO) -> None:
        for begin in range(0, len(kept), BLOCK_PACKETS):
            part = kept[begin : begin + BLOCK_PACKETS]
            breaks = np.flatnonzero(np.diff(packets.at[part]) != packets.step) + 1
            for run in np.split(part, breaks):
                data = np.frombuffer(source.read_at(
                    int(packets.at[run[0]]), len(run) * packets.step), np.uint8).copy()
                rows = data.reshape(-1, packets.step)
                split = packets.joined.get(int(packets.at[run[-1]]))
                if split is not None:
                    rows[-1] = np.frombuffer(split, np.uint8)
                place = packets.shift + 3
                rows[:, place] = (rows[:, place] & 0xF0) | result.counters[run[: len(rows)]]
                out.write(data.tobytes())
    return write


register(Mender("mpegts", frozenset(("ts", "m2ts", "mpegts")), mend))
