"""Which segment of a picture each is: restart markers say so modulo eight (T.81, B.2.1).

A byte that was changed may hide a marker, or make one where none was. The places that are taken
are those which suit most segments together: a sound one says more than one that breaks, and what
is left out, or jumped over between sound neighbours, speaks against them.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

WHOLE_TURN = 8  # restart numbers
MOST_RUNS = 4  # of segments that changed places
SOUND, BROKEN = 4.0, 1.0  # what speaks for a place of a segment that decodes to its end, or not
MISSING, JUMP, AFTER_BROKEN = 1.0, 3.0, 0.5  # against each place left empty, and each gap
MOST_STEPS = 1 << 22  # that are looked at in all, beyond those beside what comes next
AROUND = 128  # places before and behind the one that comes next which are looked at

Numbers = npt.NDArray[np.int64]


def numbered(numbers: list[int], sound: list[bool], count: int, known: bool,
             closed: bool) -> list[int | None]:
    """The number of each segment among all `count`; None for what is none.

    `numbers`: of the marker in front of each, -1 for none; `sound`: whether it decodes as one;
    `known`: the first begins the picture; `closed`: the last ends it.
    """
    front = _in_turn(numbers, sound, count) if known else 0
    back = _in_turn_at_end(numbers, sound, count, front) if closed and front < len(numbers) else 0
    # What is in turn at either end is where it says; one of each is left for the others to join.
    skip, cut = max(0, front - 1), max(0, back - 1)
    stop = len(numbers) - cut
    rest = [(n - skip) % WHOLE_TURN if 0 <= n < WHOLE_TURN else -1 for n in numbers[skip:stop]]
    middle = _aligned(rest, sound[skip:stop], count - skip - cut, known, closed)
    aligned = [*range(skip), *(None if place is None else place + skip for place in middle),
               *range(count - cut, count)]
    if known and closed and len(numbers) == count:  # as many as there must be
        line = _in_line(numbers)
        if _worth(line, sound) >= _worth(aligned, sound):
            return line
    return aligned


def _in_turn(numbers: list[int], sound: list[bool], count: int) -> int:
    """How many segments at the beginning are sound, and numbered one by one."""
    for index, number in enumerate(numbers):
        if not sound[index] or index >= count or (index and number != (index - 1) % WHOLE_TURN):
            return index
    return len(numbers)


def _in_turn_at_end(numbers: list[int], sound: list[bool], count: int, front: int) -> int:
    """How many at the end are, up to the last place, without those `front` ones."""
    for behind in range(min(len(numbers), count) - front):
        index, place = len(numbers) - 1 - behind, count - 1 - behind
        if not sound[index] or numbers[index] != (place - 1) % WHOLE_TURN:
            return behind
    return max(0, min(len(numbers), count) - front)


def _worth(where: list[int | None], sound: list[bool]) -> float:
    return sum(SOUND if good else BROKEN for place, good in zip(where, sound) if place is not None)


@dataclass(slots=True)
class _Trail:
    """How each of the ways came about: of each step its segment, place and the step before."""

    segments: list[int] = field(default_factory=list)
    places: list[Numbers] = field(default_factory=list)
    before: list[Numbers] = field(default_factory=list)
    firsts: list[int] = field(default_factory=list)  # the number of each one's first step
    size: int = 0

    def add(self, segment: int, places: Numbers, before: Numbers) -> Numbers:
        """The numbers of new steps."""
        self.segments.append(segment)
        self.places.append(places)
        self.before.append(before)
        self.firsts.append(self.size)
        self.size += places.size
        return np.arange(self.size - places.size, self.size)

    def back(self, step: int) -> list[tuple[int, int]]:
        """(segment, place) of a step and all before it."""
        told = []
        while step >= 0:
            part = int(np.searchsorted(self.firsts, step, side="right")) - 1
            inside = step - self.firsts[part]
            told.append((self.segments[part], int(self.places[part][inside])))
            step = int(self.before[part][inside])
        return told


def _aligned(numbers: list[int], sound: list[bool], count: int, known: bool,
             closed: bool) -> list[int | None]:
    """Places in ascending order that suit best, all taken together."""
    where: list[int | None] = [None] * len(numbers)
    if not numbers:
        return where
    best = np.full(count + 1, -np.inf)  # by how many places lie before the end of what is taken
    best[0] = 0.0
    last = np.full(count + 1, -1, np.int64)  # the step that led there
    next_to = np.full(count + 1, -np.inf)  # the same where the segment just before was taken
    next_step, beside = last.copy(), np.arange(0)
    trail, ahead = _Trail(), MISSING * np.arange(count + 1)
    most_steps = max(1, MOST_STEPS // len(numbers)) * WHOLE_TURN
    spare = min(max(0, count - len(numbers)), most_steps)
    extra = min(max(0, len(numbers) - count), most_steps)
    for index, number in enumerate(numbers):
        places = _candidates(index, number, max(0, index - extra - AROUND),
                             min(count, index + spare + AROUND), known)
        if not places.size:
            next_to[beside], beside = -np.inf, places
            continue
        base = max(0, int(places[0]) - AROUND)
        room = best[base : int(places[-1]) + 1] + ahead[base : int(places[-1]) + 1]
        most = np.maximum.accumulate(room)
        picked = np.maximum.accumulate(np.where(room == most, np.arange(room.size), 0)) + base
        jump = JUMP if index and sound[index - 1] else AFTER_BROKEN
        value = most[places - base] - ahead[places] - jump
        before = last[picked[places - base]]
        if not index or not known:  # nothing has to stand before it
            free = value < best[0]
            value[free], before[free] = best[0], -1
        straight = next_to[places] >= value
        value = np.where(straight, next_to[places], value)
        before = np.where(straight, next_step[places], before)
        value = value + (SOUND if sound[index] else BROKEN)
        steps = trail.add(index, places, before)
        next_to[beside], beside = -np.inf, places + 1
        next_to[places + 1], next_step[places + 1] = value, steps
        new = value > best[places + 1]
        best[places[new] + 1], last[places[new] + 1] = value[new], steps[new]
    if closed:  # the last one ends the picture
        left = ahead[::-1] + np.where(ahead[::-1] > 0, JUMP if sound[-1] else AFTER_BROKEN, 0.0)
        last = np.where(next_to >= best - JUMP, next_step, last)
        best = np.maximum(best - JUMP, next_to) - left
    for segment, place in trail.back(int(last[int(np.argmax(best))])):
        where[segment] = place
    return where


def _candidates(index: int, number: int, low: int, high: int, known: bool) -> Numbers:
    """The places from `low` to below `high` that the number of a segment allows."""
    if index == 0:
        return np.arange(0, 1 if known else 0)
    if not 0 <= number < WHOLE_TURN:
        return np.arange(0)  # another marker, in what is not the picture's
    return np.arange(low + (number + 1 - low) % WHOLE_TURN, high, WHOLE_TURN)


def _in_line(numbers: list[int]) -> list[int | None]:
    """The number of each segment where as many are there as must be: each in its place, but for
    runs that changed theirs, whose numbers fit in another order."""
    where: list[int | None] = [
        index if index == 0 or number == (index - 1) % WHOLE_TURN else None
        for index, number in enumerate(numbers)]
    at = 0
    while at < len(where):
        if where[at] is not None:
            at += 1
            continue
        stop = at
        while stop < len(where) and where[stop] is None:
            stop += 1
        for index, place_ in zip(range(at, stop), _reordered(numbers[at:stop], at)):
            where[index] = place_
        at = stop
    return where


def _reordered(numbers: list[int], first: int) -> list[int | None]:
    """Places from `first` on for segments that stand in runs of which one came before another; None
    for all where no order fits."""
    breaks = [i for i in range(1, len(numbers))
              if numbers[i] != (numbers[i - 1] + 1) % WHOLE_TURN]
    edges = [0, *breaks, len(numbers)]
    runs = list(itertools.pairwise(edges))
    if 1 < len(runs) <= MOST_RUNS:
        for order in itertools.permutations(runs):
            places: list[int | None] = [None] * len(numbers)
            at, fits = first, True
            for begin, stop in order:
                fits = fits and numbers[begin] == (at - 1) % WHOLE_TURN
                places[begin:stop] = range(at, at + stop - begin)
                at += stop - begin
            if fits:
                return places
    return [None] * len(numbers)
