"""Refining scans of a progressive JPEG taken up again behind damage (ITU-T T.81, G.1.2.3).

How many bits a block takes depends on what earlier scans say of it: bit and block must both be
right. From the right block on, half of all bits fall into step within some dozen blocks; from any
other block data may decode for long, and say nothing true. What tells them apart is how much each
block gets: it hangs together with how much earlier scans say of it, in grain one way, in edges
the other, and by chance not at all. What then ends with the last bit of the scan is proven.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from needlewright.core.kernels import jpeg_scans as kernels
from needlewright.core.mending.jpeg.blocks import Bools, Ints

LEVELS = 24
STEPS = (1, 16, 64, 256, 1024, 4096, 16_384, 65_536)  # units behind a break that are tried
FEWER, MORE = 5, 4  # times the usual bits that units may take
FOREIGN = (4096, 34_000 * 8)  # bits of what may have been put in
EVERY = 5  # bits: starts that are tried
UNITS, BITS = 900, 3000  # by which a start is judged
PROOF = 6.5  # standard deviations of chance
SIGN = 3.0  # … where it then decodes to the very end
LIKELY = 600  # starts that are followed to the end
FADE = 4.0  # nats below its best that a stretch has left its place
SURE = 24  # units before that


@dataclass(frozen=True, slots=True)
class _Look:
    """What a search is for: not before `bit`; see `Refining.taken_up`."""

    bit: int
    stop: int
    last: int
    unknown: Bools


class Refining:
    """Looks for the places of one refining scan. `masks`: see `kernels.masks_of`; `table`,
    `tables`: as kernels take them."""

    def __init__(self, clean: npt.NDArray[np.uint8], masks: npt.NDArray[np.uint64],
                 band: tuple[int, int], table: int, tables: tuple[npt.NDArray[np.generic], ...],
                 breathe: Callable[[], None]) -> None:
        self._clean, self._masks, self._band = clean, masks, band
        self._table, self._tables = table, tables
        self._breathe = breathe
        self.busy = kernels.busy_of(masks, *band)

    def in_place(self, fresh: npt.NDArray[np.uint8], first: int, last: int) -> int:
        """Up to which of the units `first` to `last`, which decode in a row, they are where they
        belong. What hangs together is learnt from themselves."""
        if first >= last:
            return last
        busy = np.minimum(self.busy[first:last], LEVELS - 1)
        new = np.minimum(fresh[first:last], LEVELS - 1)
        counts = np.zeros((LEVELS, LEVELS))
        np.add.at(counts, (busy, new), 1.0)
        every = counts.sum(axis=0) + 1
        own = counts + every / every.sum()
        gain = np.log(own / own.sum(axis=1, keepdims=True)) - np.log(every / every.sum())
        sums = np.concatenate(([0.0], np.cumsum(gain[busy, new])))
        best = int(np.argmax(sums))
        if sums[best] - sums[-1] < FADE:
            best = last - first
        return max(first, first + best - SURE)

    def taken_up(self, unit: int, bit: int, stop: int, last: int,
                 unknown: Bools) -> tuple[int, int] | None:
        """(unit, bit) from which the scan goes on, not before `unit` and `bit`; `stop`: its last
        bit; `unknown` bool[units]: those that cannot be decoded."""
        first = next_set(~unknown, unit, last)
        look = _Look(bit, stop, last, unknown)
        for foreign in FOREIGN:
            failed = first
            for step in STEPS:
                place = next_set(~unknown, first + step - 1, last)
                if place >= last:
                    break
                self._breathe()
                at = self._found(place, self._room(place - unit, foreign, stop), look)
                if at is not None:
                    return self._nearer(failed, place, at, look)
                failed = place + 1
        return None

    def _room(self, units: int, foreign: int, stop: int) -> tuple[int, int]:
        """The fewest and the most bits that so many units take, with what was put in."""
        usual = units * stop / self.busy.size
        return int(usual / FEWER), int(MORE * usual) + foreign

    def _found(self, unit: int, room: tuple[int, int], look: _Look) -> int | None:
        """Where unit `unit` begins, within `room` bits."""
        starts = np.arange(look.bit + room[0], min(look.stop, look.bit + room[1]), EVERY,
                           dtype=np.int64)
        if not starts.size:
            return None
        barrier = next_set(look.unknown, unit, look.last)
        scores = self._scores(starts, unit, barrier, look.stop, UNITS)
        best = int(np.argmax(scores))
        if barrier == look.last:
            likely = np.argsort(-scores)[:LIKELY]
            likely = np.sort(likely[scores[likely] > SIGN])
            ends = self._scores(starts[likely], unit, barrier, look.stop, kernels.ALL)
            exact = np.flatnonzero(ends >= 0)
            if exact.size:
                return int(starts[likely[exact[0]]])
        return int(starts[best]) if scores[best] >= PROOF else None

    def _scores(self, starts: Ints, unit: int, barrier: int, stop: int,
                units: int) -> npt.NDArray[np.float64]:
        scores = np.zeros(starts.size)
        kernels.score_refining(
            self._clean, starts, stop, unit, barrier, self._masks, *self._band, self._table,
            *self._tables, self.busy, units, BITS, scores)
        return scores

    def _nearer(self, failed: int, unit: int, at: int, look: _Look) -> tuple[int, int]:
        """The first unit from `failed` on that is found as `unit` was, by halves."""
        low, high, best = failed, unit, at
        while low < high:
            middle = (low + high) // 2
            found = None if look.unknown[middle] else self._found(
                middle, (0, best + 1 - look.bit), look)
            if found is None:
                low = middle + 1
            else:
                high, best = middle, found
        return high, best


def next_set(flags: Bools, first: int, last: int) -> int:
    """The first place from `first` on where `flags` is set; `last` without."""
    part = flags[first:last]
    at = int(np.argmax(part)) if part.size else 0
    return first + at if part.size and part[at] else last
