"""One scan of a progressive JPEG decoded as far as it is there, behind damage as well (ITU-T T.81,
annex G).

First scans fall back into step by themselves, as sequential data does: what decodes to the last
bit of a scan ends with its last unit, which places it. Refining scans do not: how many bits a block
takes depends on what earlier scans say of it, so that bit and block must both be right. That is
their strength as well: a wrong pair fails within a few blocks, so that a pair that goes on for
thousands of bits is proven.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from needlewright.core.kernels import jpeg_scans as kernels
from needlewright.core.kernels.jpeg_baseline import COMPLETE, stack_tables
from needlewright.core.kernels.jpeg_bits import is_padding, unstuff
from needlewright.core.mending.jpeg.blocks import Picture
from needlewright.core.mending.jpeg.chains import constant_runs
from needlewright.core.mending.jpeg.refining import Refining, next_set
from needlewright.core.mending.jpeg.scans import Scan

Ints = npt.NDArray[np.int64]

MAX_SEGMENTS = 1 << 18
END_BITS = 600  # before the last bit of a scan: what comes so far has run on to its end
MOST_COST = 60.0  # grey levels that one unit tells
RETREAT = 48  # units before the one at which a first scan fails that may be wrong already
MARGIN = 64  # units beside a break of a refining scan that may be wrong
TAIL = 24  # units of a tail that may not be its own yet
MEETINGS = 3  # other starts that show where a tail is in step
MAX_TRIES = 40_000  # starts of tails that are tried
MOST_BREAKS = 64
SHIFTS = 4096  # units by which a scan may come out too long or too short


@dataclass(slots=True)
class Stretch:
    """Coded data between two restart markers, or all of a scan: clean bytes `start` to `stop`, for
    units `first` to `last`."""

    start: int
    stop: int
    first: int
    last: int


@dataclass(slots=True)
class Outcome:
    """What became of a scan. `breaks`: how often it broke; `lost`: units that it does not tell;
    `loose`: it was put together by its looks; `joints`: units from which on DC values have an
    unknown level, since they were taken up again there."""

    breaks: int = 0
    loose: bool = False
    lost: list[tuple[int, int]] = field(default_factory=list)
    joints: list[int] = field(default_factory=list)

    def lose(self, first: int, stop: int) -> None:
        if first < stop:
            self.lost.append((first, stop))


class Pass:
    """One scan at work on a picture."""

    def __init__(self, scan: Scan, picture: Picture, at_end: bool,
                 breathe: Callable[[], None]) -> None:
        """`at_end`: the end of its data is there."""
        self.scan, self.picture, self.breathe = scan, picture, breathe
        self._closed = at_end
        members = [m[0] for m in scan.header.members]
        self.members = members
        self.order, self.member = picture.order(members), picture.pattern(members)
        self.units = self.order.size // self.member.size
        self.outcome = Outcome()
        unstuffed = unstuff(scan.data, MAX_SEGMENTS)
        self._clean, self._size = unstuffed.clean, unstuffed.size
        self._stretches = _stretches(unstuffed.seg_clean, unstuffed.seg_number, unstuffed.size,
                                     scan.restart, self.units)
        keys = sorted(scan.huffman)
        self._tables = stack_tables([scan.huffman[k] for k in keys]) if keys else ()
        kind = 0 if scan.dc else 1
        places = [keys.index((kind, m[1 + kind])) if (kind, m[1 + kind]) in keys else 0
                  for m in scan.header.members]
        self._table = np.zeros(len(picture.frame.components), np.int64)
        self._table[members] = places
        self._limit = picture.limits[members[0]]
        self._bit_at = np.zeros(self.units + SHIFTS + 1, np.int64)
        self._masks = np.zeros(0, np.uint64)

    def run(self) -> Outcome:
        covered = 0
        if not self.scan.dc and not self.scan.first:
            self._masks = kernels.masks_of(self.picture.blocks, self.order)
        for stretch in self._stretches:
            self.breathe()
            self.outcome.lose(covered, stretch.first)
            covered = stretch.last
            if self.scan.dc and not self.scan.first:
                self._refine_dc(stretch)
            elif self.scan.first:
                self._first(stretch)
            else:
                self._refine(stretch)
        self.outcome.lose(covered, self.units)
        return self.outcome

    def is_whole(self) -> bool:
        """Whether all of it decodes in one go to its last bit; for first scans."""
        if len(self._stretches) != 1:
            return False
        s = self._stretches[0]
        unit, bit, fine = self._decode(s.start * 8, s.stop * 8, s.first, s.last)
        return fine and unit == s.last and bool(is_padding(self._clean, bit, s.stop * 8))

    def all_units(self, most: int) -> npt.NDArray[np.int16] | None:
        """int16[units, blocks, 64]: all units of a first scan that decodes in one go to its last
        bit, however many they are, `most` at most; None where it does not."""
        made = self._all_of(self._stretches[0], most) if len(self._stretches) == 1 else None
        return None if made is None else made.reshape(-1, self.member.size, 64)

    def _all_of(self, s: Stretch, most: int) -> npt.NDArray[np.int16] | None:
        """int16[blocks, 64]: the same of a stretch."""
        start, stop, blocks = s.start * 8, s.stop * 8, self.member.size
        most = max(self.units, min(most, stop - start))  # an empty run codes many units
        made = np.zeros((most * blocks, 64), np.int16)
        self._bit_at = np.zeros(max(self._bit_at.size, most + 1), np.int64)
        order = np.arange(made.shape[0], dtype=np.int64)
        count, end, _ = self._decode(start, stop, 0, most, order, made, False)
        if not count or not is_padding(self._clean, end, stop):
            return None
        return made[: count * blocks]

    # -- first scans ------------------------------------------------------------------------

    def _decode(self, bit: int, stop_bit: int, first: int, last: int, order: Ints | None = None,
                out: npt.NDArray[np.int16] | None = None, absolute: bool = True) -> tuple[
                    int, int, bool]:
        """(unit, bit, whether no fault stopped it) of units `first` to `last` of a first scan."""
        header = self.scan.header
        order = self.order if order is None else order
        target = self.picture.blocks if out is None else out
        if self.scan.dc:
            unit, end, reason = kernels.dc_first(
                self._clean, bit, stop_bit, first, last, header.low, order, self.member,
                self._table, self.picture.limits[:, 0], *self._tables, absolute, target,
                self._bit_at)
            return int(unit), int(end), reason == COMPLETE
        unit, end, left, reason = kernels.ac_first(
            self._clean, bit, stop_bit, first, last, *header.band, header.low, self._limit,
            self._table[self.members[0]], *self._tables, order, target, self._bit_at)
        return int(unit), int(end), reason == COMPLETE and left == 0

    def _first(self, s: Stretch) -> None:
        start, stop = s.start * 8, s.stop * 8
        unit, bit, fine = self._decode(start, stop, s.first, s.last)
        if fine and unit == s.last and is_padding(self._clean, bit, stop):
            return
        self.outcome.breaks += 1
        gaps = constant_runs(self._clean[s.start : s.stop], s.stop - s.start)
        if not gaps and (unit == s.last or stop - bit < END_BITS) and self._by_looks(s):
            return  # it has run on to the end over whatever is wrong
        broken, search = max(s.first, unit - RETREAT), bit + 1
        if gaps:
            ends = np.append(self._bit_at[s.first + 1 : unit], bit)
            before = s.first + int(np.searchsorted(ends, start + gaps[0][0] * 8, "right"))
            broken = before if before < unit else broken
            search = start + gaps[-1][1] * 8
        tail = self._tail(search, stop) if self._closed_at(s) else None
        if tail is None:
            self._clear(broken, s.last)
            return
        begin, count, step = tail
        self._lay(begin, stop, s.last - count, count, step, broken, s)

    def _closed_at(self, s: Stretch) -> bool:
        """Whether the end of a stretch is the end of its coded data."""
        return self._closed or s is not self._stretches[-1]

    def _lay(self, begin: int, stop: int, first: int, count: int, step: int, broken: int,
             s: Stretch) -> None:
        """Put a tail that decodes from `begin` into its place, unit `first`; its units up to `step`
        may not be its own, and nothing between `broken` and it is known."""
        made = np.zeros((count * self.member.size, 64), np.int16)
        order = np.arange(made.shape[0], dtype=np.int64)
        self._decode(begin, stop, 0, count, order, made, False)
        kept = max(first + step, s.first)
        broken = max(s.first, min(broken, kept - TAIL))
        self._clear(broken, s.last)
        self.outcome.lost[-1] = (broken, kept)
        self._put(made, kept - first, kept, s.last - kept)

    def _put(self, made: npt.NDArray[np.int16], begin: int, unit: int, count: int) -> None:
        """Lay `count` units of `made`, from its unit `begin` on, into the picture."""
        blocks = self.member.size
        low, high = self.scan.header.band
        places = self.order[unit * blocks : (unit + count) * blocks]
        self.picture.blocks[places, low : high + 1] = made[
            begin * blocks : (begin + count) * blocks, low : high + 1]
        if self.scan.dc and unit:
            self.outcome.joints.append(unit)

    def _clear(self, first: int, last: int) -> None:
        if first >= last:
            return
        blocks = self.member.size
        low, high = self.scan.header.band
        places = self.order[first * blocks : last * blocks]
        self.picture.blocks[places, low : high + 1] = 0
        self.outcome.lose(first, last)

    def _tail(self, bit: int, stop: int) -> tuple[int, int, int] | None:
        """(bit, units, units until it is in step) of the first start from `bit` on that decodes to
        the last bit; None without."""
        room = self.units + SHIFTS
        scratch = np.zeros((room * self.member.size, 64), np.int16)
        order = np.arange(scratch.shape[0], dtype=np.int64)
        for _ in range(MAX_TRIES):
            if bit + 8 >= stop:
                return None
            count, end, _ = self._decode(bit, stop, 0, room, order, scratch, False)
            if count and is_padding(self._clean, end, stop):
                return bit, count, self._in_step(bit, stop, count, order, scratch)
            bit = max(bit + 1, end)
        return None

    def _in_step(self, bit: int, stop: int, count: int, order: Ints,
                 scratch: npt.NDArray[np.int16]) -> int:
        """Units of the tail from `bit` until others that begin behind it have met it."""
        seen = min(count, 4 * TAIL)
        self._decode(bit, stop, 0, seen, order, scratch, False)
        own = self._bit_at[:seen].copy()
        met, other = 0, bit
        for _ in range(MEETINGS):
            other += 3
            for _ in range(64):
                got, end, _ = self._decode(other, stop, 0, seen, order, scratch, False)
                if got == seen or end + 8 > stop:
                    break
                other = max(other + 1, end)
            common = np.isin(own, self._bit_at[:got])
            met = max(met, int(np.argmax(common)) if common.any() else TAIL)
        return min(met, max(0, count - 1))

    def _by_looks(self, s: Stretch) -> bool:
        """Where the scan decodes to its last bit with too many units or too few: where it must be
        cut is seen by how blocks join. Whether it does."""
        made = self._all_of(s, self.units + SHIFTS) if self._closed_at(s) else None
        if made is None:
            return False
        self.outcome.loose = True
        more = s.last - s.first - made.shape[0] // self.member.size
        cut = self._cut(made.reshape(-1, self.member.size, 64), s.first, more)
        self._clear(s.first, s.last)
        self.outcome.lost.pop()
        self._put(made, 0, s.first, min(cut, s.last - s.first))
        begin = max(s.first, s.first + cut + more)
        self._put(made, begin - s.first - more, begin, s.last - begin)
        around = self.across if self.scan.dc else TAIL
        self.outcome.lose(max(s.first, min(s.first + cut, begin) - around),
                          min(s.last, max(s.first + cut, begin) + around))
        return True

    @property
    def across(self) -> int:
        """Units in a row."""
        frame = self.picture.frame
        return frame.mcus_per_row if len(self.members) > 1 else frame.component_blocks(
            self.members[0])[0]

    def _cut(self, made: npt.NDArray[np.int16], first: int, more: int) -> int:
        """The unit of `made` from which on all stand `more` units further on."""
        near = self._cost(made, first, 0)
        far = self._cost(made, first, more)
        gain = np.nan_to_num(near - far, nan=0.0)  # of standing further on
        if self.scan.dc:
            # One row of units shows it: behind it what joins above has moved as well.
            sums = np.concatenate(([0.0], np.cumsum(gain)))
            wide = min(self.across, gain.size)
            return int(np.argmax(sums[wide:] - sums[:-wide]))
        return int(np.argmin(np.concatenate(([0.0], np.cumsum(gain)))))

    def _cost(self, made: npt.NDArray[np.int16], first: int, more: int) -> npt.NDArray[np.float32]:
        """float32[units]: how badly units join those above and left of them, where the units of
        `made` begin at unit `first` + `more`; nan where nothing is."""
        blocks, picture = self.member.size, self.picture
        skip = max(0, -(first + more))
        begin = first + more + skip
        count = min(made.shape[0] - skip, self.units - begin)
        low, high = self.scan.header.band
        whole = picture.blocks[self.order].reshape(self.units, blocks, 64).copy()
        if self.scan.dc:  # what is above is where it was, unless it moves
            whole[first : first + made.shape[0], :, 0] = made[: self.units - first, :, 0]
            part = made[skip : skip + count]
        else:
            whole[begin : begin + count, :, low : high + 1] = made[
                skip : skip + count, :, low : high + 1]
            part = whole[begin : begin + count]
        edges = picture.edges(whole, self.members)
        own = picture.edges(np.ascontiguousarray(part), self.members)
        wide = self.across
        cost = np.full(made.shape[0], np.nan, np.float32)
        above = np.arange(begin, begin + count) - wide
        off = own.top - edges.bottom[np.maximum(above, 0)]
        if self.scan.dc:
            off -= np.median(off)
        told = np.abs(off).mean(axis=1)
        if not self.scan.dc:
            told[1:] += np.abs(own.left[1:] - own.right[:-1]).mean(axis=1)
        told[above < 0] = np.nan
        cost[skip : skip + count] = np.minimum(told, MOST_COST)
        return cost

    # -- refining scans ----------------------------------------------------------------------

    def _refine_dc(self, s: Stretch) -> None:
        """A bit each, so that those behind a gap are wrong by one step of DC values at most."""
        blocks = self.member.size
        units = min(s.last - s.first, (s.stop - s.start) * 8 // blocks)
        kernels.dc_refine(self._clean, s.start * 8, s.stop * 8, units, self.scan.header.low,
                          self.order[s.first * blocks :], blocks, self.picture.blocks)
        if ((s.last - s.first) * blocks + 7) // 8 != s.stop - s.start:
            self.outcome.breaks += 1
            self.outcome.lose(s.first, s.last)

    def _refine(self, s: Stretch) -> None:
        header, picture = self.scan.header, self.picture
        table = int(self._table[self.members[0]])
        refining = Refining(self._clean, self._masks, header.band, table, self._tables,
                            self.breathe)
        stop = s.stop * 8
        unknown = picture.missing[self.order, 0]
        gaps = [((s.start + a) * 8, (s.start + b) * 8) for a, b in constant_runs(
            self._clean[s.start : s.stop], s.stop - s.start)]
        fresh = np.zeros(self.units, np.uint8)
        before = picture.blocks[self.order]
        unit, bit = s.first, s.start * 8
        while unit < s.last:
            barrier = next_set(unknown, unit, s.last)
            begun = unit
            unit, bit, left, _ = (int(v) for v in kernels.ac_refine(
                self._clean, bit, stop, unit, barrier, *header.band, header.low, table,
                *self._tables, self.order, picture.blocks, self._bit_at, fresh))
            self._bit_at[unit] = bit
            if unit == s.last and left == 0 and is_padding(self._clean, bit, stop):
                return
            self.outcome.breaks += 1
            struck = [g for g in gaps if self._bit_at[begun] < g[1] and g[0] <= bit]
            if struck:
                resume = begun + max(0, int(np.searchsorted(
                    self._bit_at[begun : unit + 1], struck[0][0], "right")) - 1)
                search = struck[0][1]
            else:
                at_barrier = unit == barrier and unit < s.last
                resume = unit if at_barrier else refining.in_place(fresh, begun, unit)
                search = int(self._bit_at[resume])
            found = refining.taken_up(resume, search, stop, s.last, unknown) if (
                self.outcome.breaks < MOST_BREAKS) else None
            picture.blocks[self.order[resume:unit]] = before[resume:unit]
            if found is None:
                self.outcome.lose(resume, s.last)
                return
            self.outcome.lose(max(s.first, resume - MARGIN), min(s.last, found[0] + MARGIN))
            unit, bit = found


def _stretches(starts: Ints, numbers: Ints, size: int, restart: int, units: int) -> list[Stretch]:
    """The parts of a scan between its restart markers, in their places by their numbers."""
    if not restart:
        return [Stretch(0, size, 0, units)]
    found: list[Stretch] = []
    stops = np.append(starts[1:], size)
    index = 0
    for start, stop, number in zip(starts.tolist(), stops.tolist(), numbers.tolist()):
        if found:  # the next interval that has this number
            index += (number - index) % 8 + 1
        first = index * restart
        if first >= units:
            break
        found.append(Stretch(start, stop, first, min(units, first + restart)))
    return found
