"""Where each chain belongs in the picture, and how bright: from what stands above it, and from the
end.

The first chain begins at the first MCU. The last one, where it decodes to the last bit, ends at the
last MCU, which places it without any doubt. What lies between is placed by the rows it joins, by
where its own rows begin (the right border of a picture rarely goes on into the left one), and by
how much data is missing. Within a chain the decoder may have fallen back into step unnoticed: MCUs
are then missing or too many, or brighter. From there on all the rest of one row is off by one shift
and one level, wherever in the row it began, which is what edges of the picture itself never are.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np

from needlewright.core.mending.base import Choice
from needlewright.core.mending.jpeg import evidence
from needlewright.core.mending.jpeg.canvas import Floats, Levels, Strand
from needlewright.core.mending.jpeg.chains import Link
from needlewright.core.mending.jpeg.choosing import SURE, places_of
from needlewright.core.mending.jpeg.placed import Break, Placed
from needlewright.core.mending.jpeg.scoring import FLOOR

NO_PLACES: Mapping[int, int] = {}
OWN = 2.6  # times the usual cost: what is foreign is beyond
CLEAR = 3.0  # … in sum, before anything is taken out for it
LEAST = 24  # MCUs in a chain that is placed by its rows
ASTRAY = 10.0  # nats by which another place must be ahead of the one that the end of the data says
NEAR = 400  # MCUs beside a gap whose size says how many are missing
SEEN = 96  # MCUs of a chain's beginning that are looked at
ODD, MOST_ODD = 1.6, 5.0  # times the usual difference: what is not its own; the most that one tells
RUN_ON = 64  # MCUs that a chain may run on in what is not its own
SOFT = 24  # MCUs around a break that may belong to neither side


@dataclass(slots=True)
class _Way:
    """A link on its way into the picture: MCU n of it lies at n + shift, with `levels` added."""

    link: Link
    strand: Strand
    shift: int
    levels: Levels
    end_shift: int | None
    most: int  # the greatest shift that leaves room for all that follows


class Placer:
    """Places the links of one stretch of data, MCUs `first` to `stop` of the picture."""

    def __init__(self, placed: Placed, first: int, stop: int, breathe: Callable[[], None],
                 guide: Floats | None = None, places: Mapping[int, int] = NO_PLACES) -> None:
        """`guide` float32[MCUs]: how bright the embedded thumbnail says that each is; `places`:
        shifts of pieces, by their numbers, that a person chose."""
        self.guide, self.places = guide, places
        self.placed, self.canvas = placed, placed.canvas
        self.first, self.stop = first, stop
        self.per_row = self.canvas.layout.per_row
        self.cost = np.full(self.canvas.there.size, np.nan, np.float32)  # of each MCU, as placed
        self.usual = 4.0
        self.reached = first  # behind the last MCU that is placed
        self.ended_at = 0  # clean bit behind the last chain that is placed
        self.bits_before = 0.0  # of an MCU, just before that
        self.joined = 0  # chains that begin somewhere
        self.breathe = breathe

    def run(self, links: list[Link]) -> None:
        none = np.zeros(self.canvas.layout.quantisers.shape[0], np.int64)
        rooms = self._rooms(links)
        for number, link in enumerate(links):
            self.breathe()
            last = number == len(links) - 1
            ends = link.at_end and last
            way = _Way(link, self.canvas.strand(link.chain.coefficients), self.first, none,
                       self.stop - link.size if ends else None, rooms[number])
            if link.known:
                self._follow(way, 0)
            elif not self._join(way):
                self.placed.left_out += link.size - link.in_step
                continue
            self.ended_at = int(link.chain.mcu_bit[-1])
            near = max(0, link.size - NEAR)
            self.bits_before = (self.ended_at - int(link.chain.mcu_bit[near])) / max(
                1, link.size - near)
            if not ends:
                self._cut_back()

    def _rooms(self, links: list[Link]) -> list[int]:
        """The greatest shift of each chain: all behind it need their places, too, but for what they
        decoded of foreign data. Where that is more than a picture holds, it tells nothing."""
        rooms: list[int] = []
        behind = 0
        for link in reversed(links):
            behind += max(0, link.size - link.in_step)
            room = self.stop - behind - link.in_step
            rooms.append(room + RUN_ON * (1 + len(rooms)) if room >= self.first
                         else self.stop - min(link.size, self.stop))
        return rooms[::-1]

    # -- a chain that begins somewhere

    def _join(self, way: _Way) -> bool:
        """Place a chain; whether it has a place."""
        link, strand = way.link, way.strand
        begin = min(link.in_step, link.size - 1)
        count = min(self.per_row, link.size - begin)
        low = self.reached - self.per_row // 4 - begin
        high = min(self.stop - link.size, way.most)
        found = evidence.place(self.canvas, strand, begin, count, low, high,
                               self._expected(link, begin), SURE, self.usual, self.guide) if (
            count >= LEAST and high >= low) else None
        shift = found.shift if found is not None and found.clear else None
        if way.end_shift is not None and shift != way.end_shift and (
                shift is None or found is None or found.ahead_of(way.end_shift) < ASTRAY):
            shift = way.end_shift
        number, self.joined = self.joined, self.joined + 1
        shifts, lead = found.likeliest() if found is not None else ([], 0.0)
        if shift is not None and shift not in shifts:
            shifts = [shift, *shifts][:3]
        self.placed.choices.append(Choice(
            number, tuple(shifts), lead, shift is not None,
            tuple((begin + s) // self.per_row for s in shifts)))
        if number in self.places and link.size - begin > 0:
            shift = max(-begin, min(self.places[number], self.stop - begin - 1))
            way.end_shift = None  # whatever the end of the data says
            self.placed.by_hand += 1
        elif shift is None:
            return False
        elif found is not None and found.clear and not found.sure and shift != way.end_shift:
            self.placed.guessed += 1
        way.shift = shift
        over = max(begin, min(self.reached - shift, link.size - LEAST))
        way.levels = self._levels_at(strand, over, min(self.per_row, link.size - over), shift)
        start = self._meet(way, begin)
        if abs(start - over) > 8:
            way.levels = self._levels_at(strand, start, min(self.per_row, link.size - start), shift)
        start = self._trimmed(way, start)
        self._note(way, start)
        self._follow(way, start)
        return True

    def _expected(self, link: Link, begin: int) -> tuple[float, float]:
        """(place, how uncertain) by the amount of data between, were none added or lost."""
        near = min(begin + NEAR, link.size)
        tail = (int(link.chain.mcu_bit[near]) - int(link.chain.mcu_bit[begin])) / max(
            1, near - begin)
        bits = max(8.0, (self.bits_before + tail) / 2 if self.bits_before else tail)
        gap = max(0.0, (int(link.chain.mcu_bit[begin]) - self.ended_at) / bits)
        return self.reached + gap, 6 + 0.25 * gap

    def _levels_at(self, strand: Strand, begin: int, count: int, shift: int) -> Levels:
        fit = self.canvas.fits(strand, begin, count, np.array([shift], np.int64))[0]
        grey = -fit.levels()
        near = fit.up[~np.isnan(fit.mean)]
        if near.size and np.median(near) <= 1:
            finer = -fit.finer()
            near_by = np.abs(finer - grey) < evidence.FINER
            return self.canvas.quantised(np.where(near_by, finer, grey))
        low, high = self.canvas.room(strand, begin, 4 * self.per_row)
        return self.canvas.quantised(np.clip(grey, low, np.maximum(low, high)))

    def _meet(self, way: _Way, begin: int) -> int:
        """The MCU of a strand from which on it is taken, where what stands there already
        overlaps."""
        over = self.reached - (begin + way.shift)
        if over <= 0:
            return begin
        over = min(over, way.strand.size - begin)
        fit = self.canvas.fits(way.strand, begin, over, np.array([way.shift], np.int64))[0]
        mine = fit.cost(-self.canvas.in_grey(way.levels))
        first = begin + way.shift
        theirs = np.full(over, np.nan, np.float32)
        known = self.cost[max(0, first) : first + over]
        theirs[over - known.size :] = known
        return begin + evidence.switch(theirs, mine, self.usual)

    def _trimmed(self, way: _Way, start: int) -> int:
        """Behind what is foreign: a chain may begin in it, or run on in what is not its own until
        it falls into step. That joins neither what stands above it nor what is left of it, as the
        MCUs behind do."""
        count = min(max(SEEN, 2 * self.per_row), way.strand.size - start)
        if count < 2 * LEAST:
            return start
        fit = self.canvas.fits(way.strand, start, count, np.array([way.shift], np.int64))[0]
        above = fit.cost(-self.canvas.in_grey(way.levels))
        left = way.strand.steps[start : start + count]
        told = np.zeros(count)
        for signal in (above, left):
            scale = max(evidence.typical(signal[count // 2 :]), FLOOR)
            if np.isfinite(scale):
                told += np.where(np.isnan(signal), 0, np.minimum(signal / scale, MOST_ODD) - ODD)
        sums = np.cumsum(told[: count // 2])
        return start + int(np.argmax(sums)) + 1 if sums.max() > CLEAR else start

    def _note(self, way: _Way, start: int) -> None:
        count = min(self.per_row, way.strand.size - start)
        fit = self.canvas.fits(way.strand, start, count, np.array([way.shift], np.int64))[0]
        near = fit.up[~np.isnan(fit.mean)]
        self.placed.breaks.append(Break(
            start + way.shift, int(way.link.chain.mcu_bit[start]), way.shift,
            tuple(int(v) for v in way.levels), not near.size or float((near > 1).mean()) > 0.6,
            fit.errors()))

    # -- a chain whose beginning is placed

    def _follow(self, way: _Way, begin: int) -> None:
        at, step = begin, max(8, self.per_row // 4)
        begun, by_hand = begin, False
        watch = evidence.Watch(self.canvas, way.strand, way.end_shift, way.most, guide=self.guide)
        while at < self._size(way):
            self.breathe()
            count = min(self.per_row, self._size(way) - at)
            fit = self.canvas.fits(way.strand, at, count, np.array([way.shift], np.int64))[0]
            cost = fit.cost(-self.canvas.in_grey(way.levels))
            other = watch.otherwise(at, count, way.shift, way.levels, cost,
                                    self.usual) if at > begun and not by_hand else None
            if other is None:
                part = min(step, self._size(way) - at)
                self._lay(way, at, part, cost)
                at += part
                continue
            start, shift, levels = other
            self._lay(way, at, start - at, cost)
            by_hand = shift != way.shift and self._chosen(way, start, shift)
            if not by_hand:
                way.shift, way.levels = shift, levels
            self.reached = max(self.reached, start + way.shift)
            self._soften(start + way.shift)
            own = self._trimmed(way, start)
            self.canvas.clear(start + way.shift, own + way.shift)
            start = own
            self._note(way, start)
            at = begun = start
        if way.end_shift is not None and way.shift != way.end_shift:
            self._force_end(way, begun)

    def _chosen(self, way: _Way, start: int, shift: int) -> bool:
        """Note where else the rest may belong from MCU `start` of a chain on, for which `shift` was
        found. Whether a person put it elsewhere; it then stands there to its end."""
        number = int(way.link.chain.mcu_bit[start])
        shifts = places_of(self.canvas, way.strand, start, shift, way.shift, way.end_shift,
                           self.usual, self.guide)
        self.placed.choices.append(Choice(
            number, shifts, 0.0, True, tuple((start + s) // self.per_row for s in shifts)))
        if number not in self.places:
            return False
        way.shift = max(-start, min(self.places[number], self.stop - start - 1))
        way.end_shift = None
        way.levels = self._levels_at(way.strand, start, min(
            self.per_row, way.strand.size - start), way.shift)
        self.placed.by_hand += 1
        return True

    def _size(self, way: _Way) -> int:
        """MCUs of the strand that fall into the picture."""
        return min(way.strand.size, self.stop - way.shift)

    def _lay(self, way: _Way, at: int, count: int, cost: Floats) -> None:
        if count <= 0:
            return
        self.canvas.put(way.strand, at, count, at + way.shift, way.levels)
        skip = max(0, -(at + way.shift))
        room = self.cost[at + way.shift + skip : at + way.shift + count]
        room[:] = cost[skip : skip + room.size]
        good = cost[:count][~np.isnan(cost[:count])]
        if good.size:
            self.usual += 0.15 * (min(float(np.median(good)), 3 * self.usual) - self.usual)
            self.usual = max(self.usual, FLOOR)
        self.reached = max(self.reached, min(at + way.shift + count, self.stop))

    def _soften(self, place: int) -> None:
        """Take out MCUs before a break that join neither side."""
        start = place
        while start > max(self.first, place - SOFT) and self.cost[start - 1] > OWN * self.usual:
            start -= 1
        self.canvas.clear(max(self.first, start - 1), place)

    def _force_end(self, way: _Way, begin: int) -> None:
        """The data ends rightly, and the count says that somewhere the rest has another place:
        where the rows and where they begin are best with it."""
        assert way.end_shift is not None
        self.placed.forced = True
        found = evidence.turning(self.canvas, way.strand, begin, way.shift, way.levels,
                                 way.end_shift)
        if found is None:
            return
        at, levels = found
        self.canvas.clear(at + min(way.shift, way.end_shift), self.stop)
        if not self._chosen(way, at, way.end_shift):
            way.shift, way.levels = way.end_shift, levels
        self.canvas.put(way.strand, at, way.strand.size - at, at + way.shift, way.levels)
        self.reached = self.stop
        self._note(way, at)

    def _cut_back(self) -> None:
        """Take out what a chain decoded before its end was noticed."""
        start = max(self.first, self.reached - 3 * self.per_row)
        part = np.nan_to_num(self.cost[start : self.reached], nan=0.0)
        scale = max(self.usual, FLOOR)
        sums = np.cumsum((np.minimum(part / scale, 3 * OWN) - OWN)[::-1])[::-1]
        cut = self.reached - 1  # the last one ran into what is not its own
        if sums.size and sums.max() > CLEAR:
            cut = min(cut, start + int(np.argmax(sums)))
        self.canvas.clear(max(self.first, cut), self.reached)
        self.reached = max(self.first, cut)
