"""Samples of pictures and sound found in the data of a clip, one behind another, without its
index."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from needlewright.core.errors import FormatError
from needlewright.core.kernels.aac_frames import PAD, bands
from needlewright.core.kernels.clip_walk import (
    AVC,
    JPEGS,
    PLAIN,
    VIDEO,
    units,
    walk_items,
    zeros_inside,
)
from needlewright.core.mending.clips.tracks import Model
from needlewright.core.sources.source import Source
from needlewright.core.structures.aac_books import lookups
from needlewright.core.structures.parameter_sets import order_count

BLOCK_BYTES = 1 << 25
MOST_ITEMS = 1 << 17  # of one block
HEAD_BYTES = 80  # of a slice that are looked at
MOST_LEFT = 4  # times the longest stretch of plain sound that may stand at the end
LEAST_GAP = 16  # bytes that are passed over before samples are thought missing

Longs = npt.NDArray[np.int64]


@dataclass(slots=True)
class Samples:
    """Samples of one track, in the order of the data. `gap`: bytes of nothing in front of each;
    `whole`: no foreign data shows inside; `key`: it can be decoded alone; `order`: of display, -1
    where unknown."""

    offsets: list[int] = field(default_factory=list)
    sizes: list[int] = field(default_factory=list)
    gap: list[int] = field(default_factory=list)
    whole: list[bool] = field(default_factory=list)
    key: list[bool] = field(default_factory=list)
    low: list[int] = field(default_factory=list)
    anew: list[bool] = field(default_factory=list)
    slices: list[int] = field(default_factory=list)
    edge: list[bool] = field(default_factory=list)  # nothing, or the end, follows it


@dataclass(slots=True)
class Found:
    """All samples, and how many bytes belong to none."""

    video: Samples = field(default_factory=Samples)
    sound: Samples = field(default_factory=Samples)
    passed: int = 0


class Finder:
    """Walks over `start` to `stop` of a source; `video`, `sound`: what the samples are like."""

    def __init__(self, source: Source, start: int, stop: int, video: Model | None,
                 sound: Model | None, told: Callable[[float], None]) -> None:
        self.source, self.start, self.stop = source, start, stop
        self.video, self.sound, self.told = video, sound, told
        self.found = Found()
        self._open = False  # a picture is being put together
        self._sliced = False
        self._end = start  # behind the last item
        self._gaps = [0, 0]  # bytes of nothing since the last sample of pictures, of sound

    def run(self) -> Found:
        video, sound = self.video, self.sound
        width, coding = (video.width, video.coding) if video is not None else (4, 0)
        channels = sound.channels if sound is not None else 0
        plain = sound.chunks if sound is not None else np.zeros(0, np.int64)
        bounds, codes = bands(sound.rate if sound is not None else 3), lookups()
        room = bytearray(BLOCK_BYTES + PAD)
        at, block = self.start, BLOCK_BYTES
        while at < self.stop:
            self.told((at - self.start) / max(1, self.stop - self.start))
            count = min(block, self.stop - at)
            if count + PAD > len(room):
                room = bytearray(count + PAD)
            count = self.source.read_into(at, memoryview(room)[:count])
            if count == 0:
                break
            room[count : count + PAD] = bytes(PAD)
            data = np.frombuffer(room, np.uint8)
            final = at + count >= self.stop
            offsets, sizes, kinds, stopped = walk_items(
                data, 0, count, final, width, coding, channels, bounds, codes, plain,
                MOST_ITEMS)
            self._take(data, at, offsets, sizes, kinds)
            if stopped == 0 and not final:
                block *= 2  # one item larger than the block
                if block > 1 << 28:
                    at, block = at + 1, BLOCK_BYTES
                continue
            at += stopped
            if final and stopped < count and offsets.size < MOST_ITEMS:
                break
        self._tail()
        return self.found

    def _tail(self) -> None:
        """Pictures that others follow have one number of slices; with fewer, the last is cut
        off."""
        self._rest()
        video = self.found.video
        if not video.slices:
            return
        if self._open:
            video.edge[-1] = True
        usual = int(np.median(video.slices))
        for number, (slices, edge) in enumerate(zip(video.slices, video.edge)):
            if edge and slices < usual:
                video.whole[number] = False

    def _rest(self) -> None:
        """At the end, where too little follows to tell what else is there, plain sound may stand in
        a stretch that is like no other."""
        video, sound, room = self.video, self.sound, self.stop - self._end
        if video is None or sound is None or not sound.chunks.size or not (
                0 < room <= BLOCK_BYTES and sound.track.frame_bytes):
            return
        data = np.frombuffer(self.source.read_at(self._end, room), np.uint8)
        items, at = list[tuple[int, int, int]](), 0
        while at < data.size:
            found, cut = units(data, at, data.size, video.width, video.coding)
            items += [(start, stop, VIDEO) for start, stop in found]
            at = found[-1][1] if found else at
            left = data.size - at
            inner = next((n for n in sound.chunks.tolist() if n < left and units(
                data, at + n, data.size, video.width, video.coding)[0]), left)
            if cut or not left or (inner == left and (
                    left % sound.track.frame_bytes
                    or left > MOST_LEFT * int(sound.chunks.max()))):
                break
            items.append((at, at + inner, PLAIN))
            at += inner
        table = np.array(items, np.int64).reshape(-1, 3)
        self._take(data, self._end, table[:, 0], table[:, 1] - table[:, 0], table[:, 2])

    def _take(self, data: npt.NDArray[np.uint8], base: int, offsets: Longs, sizes: Longs,
              kinds: Longs) -> None:
        damaged = np.zeros(offsets.size, np.bool_)
        if self.video is not None and self.video.coding != JPEGS:
            units = kinds == VIDEO
            damaged[units] = zeros_inside(data, offsets[units], sizes[units], self.video.width)
        for offset, size, kind, bad in zip(offsets.tolist(), sizes.tolist(), kinds.tolist(),
                                           damaged.tolist()):
            place = base + offset
            gap = place - self._end
            self._end = place + size
            if gap:
                self.found.passed += gap
                if self._open and gap >= LEAST_GAP:
                    self.found.video.edge[-1] = True  # more of it may have stood there
                self._open = False
                self._gaps = [self._gaps[0] + gap, self._gaps[1] + gap]
            if kind == PLAIN:
                self._plain(place, size)
            elif kind == VIDEO and self.video is not None and self.video.coding == JPEGS:
                self._picture(place, size)
            elif kind == VIDEO:
                self._unit(data[offset : offset + min(size, HEAD_BYTES)].tobytes(), place, size,
                           bad)
            else:
                self._open = False
                self._heard(place, size)

    def _plain(self, place: int, size: int) -> None:
        """A stretch of plain sound is as many samples as fit."""
        self._open = False
        self._heard(place, size)

    def _heard(self, place: int, size: int) -> None:
        gap, self._gaps[1] = self._gaps[1], 0
        _add(self.found.sound, place, size, gap, True)
        self.found.sound.key.append(True)

    def _picture(self, place: int, size: int) -> None:
        gap, self._gaps[0] = self._gaps[0], 0
        _add(self.found.video, place, size, gap, True)
        self.found.video.key.append(True)
        self.found.video.low.append(-1)
        self.found.video.anew.append(False)

    def _unit(self, head: bytes, place: int, size: int, bad: bool) -> None:
        assert self.video is not None
        unit = head[self.video.width :]
        slice_, first, key, prefix = _kind_of(unit, self.video.coding)
        begins = not self._open or (self._sliced and (prefix or (slice_ and first)))
        samples = self.found.video
        if begins:
            gap, self._gaps[0] = self._gaps[0], 0
            _add(samples, place, size, gap, not bad)
            samples.key.append(False)
            samples.low.append(-1)
            samples.anew.append(False)
            samples.slices.append(0)
            samples.edge.append(False)
            self._open, self._sliced = True, False
        else:
            samples.sizes[-1] += size
            samples.whole[-1] = samples.whole[-1] and not bad
        if slice_:
            if first and samples.low[-1] < 0 and self.video.order is not None:
                try:
                    samples.low[-1], samples.anew[-1] = order_count(unit, self.video.order)
                except FormatError:
                    samples.whole[-1] = False
            self._sliced = True
            samples.slices[-1] += 1
            samples.key[-1] = samples.key[-1] or key


def _add(samples: Samples, place: int, size: int, gap: int, whole: bool) -> None:
    samples.offsets.append(place)
    samples.sizes.append(size)
    samples.gap.append(gap if gap >= LEAST_GAP else 0)
    samples.whole.append(whole)


def _kind_of(unit: bytes, coding: int) -> tuple[bool, bool, bool, bool]:
    """(a slice, the first of its picture, of a key picture, something that stands in front of
    slices)."""
    if coding == AVC:
        kind = unit[0] & 0x1F
        slice_ = 1 <= kind <= 5
        return slice_, slice_ and len(unit) > 1 and unit[1] >= 0x80, kind == 5, kind in (
            6, 7, 8, 9, 14)
    kind = (unit[0] >> 1) & 0x3F
    slice_ = kind < 32
    return slice_, slice_ and len(unit) > 2 and unit[2] >= 0x80, 16 <= kind <= 23, kind in (
        32, 33, 34, 35, 39)


def display_ranks(samples: Samples, lsb_bits: int) -> Longs:
    """int64[n]: the place of each sample in the order of display (H.264, 8.2.1)."""
    count = len(samples.offsets)
    if not lsb_bits:
        return np.arange(count, dtype=np.int64)
    whole = 1 << lsb_bits
    keys = []
    period, high, last = 0, 0, 0
    for number, (low, anew) in enumerate(zip(samples.low, samples.anew)):
        if anew:
            period, high, last = period + 1, 0, low
        elif low >= 0:
            if low < last and last - low >= whole // 2:
                high += whole
            elif low > last and low - last > whole // 2:
                high -= whole
            last = low
        keys.append((period, high + max(0, low), number))
    ranks = np.zeros(count, np.int64)
    for rank, (_, _, number) in enumerate(sorted(keys)):
        ranks[number] = rank
    return ranks
