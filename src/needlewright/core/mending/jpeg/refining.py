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

#: Units behind a break that are tried.
STEPS = (1, 16, 64, 256, 512, 1024, 2048, 4096, 8192, 16_384)
FEWER, MORE = 5, 4  # times the usual bits that units may take
FOREIGN = (4096, 34_000 * 8)  # bits of what may have been put in
MOST_STARTS = 60_000  # that are tried for one unit
EVERY = (5, 15)  # bits: starts that are tried; fewer where much may have been put in
UNITS, BITS = 900, 3000  # by which a start is judged
PROOF = 6.5  # standard deviations of chance
SIGN = 3.0  # … where it then decodes to the very end
LIKELY = 600  # starts that are followed to the end
WINDOWS = (100, 300, 900, 2700)  # units over which a stretch is judged
OFTEN = 0.3  # of the windows of one width that tell, for that width to be enough
BORNE_OUT = 4.5  # standard deviations of chance
SURE = 24  # units before the end of what is borne out


@dataclass(frozen=True, slots=True)
class _Look:
    """What a search is for: not before `bit`; see `Refining.taken_up`."""

    bit: int
    stop: int
    last: int
    unknown: Bools
    every: int


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
        """Up to which of the units `first` to `last`, which decode in a row, it is borne out that
        they are where they belong."""
        busy = np.diff(self.busy[first:last].astype(np.float64), prepend=0)
        new = np.diff(fresh[first:last].astype(np.float64), prepend=0)
        sums = [np.concatenate(([0.0], np.cumsum(part))) for part in (
            busy * new, busy * busy, new * new, busy != 0, new != 0)]
        shown = 0
        for wide in WINDOWS:
            if wide > last - first:
                break
            both, own, other, *steps = (part[wide:] - part[:-wide] for part in sums)
            strength = np.abs(both) / np.sqrt(np.maximum(own * other, 1)) * np.sqrt(
                np.minimum(*steps))
            strong = np.flatnonzero(strength > BORNE_OUT)
            if strong.size:
                shown = max(shown, int(strong[-1]) + wide)
                if strong.size > OFTEN * (strong[-1] + 1):
                    break  # a wider one would reach on over what is not in place
        return max(first, first + shown - SURE)

    def taken_up(self, unit: int, bit: int, stop: int, last: int,
                 unknown: Bools) -> tuple[int, int] | None:
        """(unit, bit) from which the scan goes on, not before `unit` and `bit`; `stop`: its last
        bit; `unknown` bool[units]: those that cannot be decoded."""
        first = next_set(~unknown, unit, last)
        for foreign, every in zip(FOREIGN, EVERY):
            look = _Look(bit, stop, last, unknown, every)
            failed = first
            for step in STEPS:
                place = next_set(~unknown, first + step - 1, last)
                if place >= last:
                    break
                self._breathe()
                room = self._room(place - unit, foreign, stop)
                if room[1] - room[0] > MOST_STARTS * every:
                    break
                at = self._found(place, room, look)
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
        starts = np.arange(look.bit + room[0], min(look.stop, look.bit + room[1]), look.every,
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
