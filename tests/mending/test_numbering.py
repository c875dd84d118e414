"""Which segment each is, by its restart marker: against all places tried, and after real damage."""

from __future__ import annotations

import itertools
import random
import unittest
from unittest import mock

from hypothesis import given
from hypothesis import strategies as st

from needlewright.core.mending.jpeg.numbering import (
    AFTER_BROKEN,
    BROKEN,
    JUMP,
    MISSING,
    MOST_STEPS,
    SOUND,
    _Trail,
    numbered,
)
from tests.examples import examples


def value(where, sound, count):
    """What speaks for places, reckoned plainly, of a picture whose two ends are there."""
    taken = [(index, place) for index, place in enumerate(where) if place is not None]
    told = sum(SOUND if sound[index] else BROKEN for index, _ in taken)
    before = (-1, -1)
    for index, place in taken:
        told -= MISSING * (place - before[1] - 1)
        if (index, place) != (before[0] + 1, before[1] + 1) and index:
            told -= JUMP if sound[index - 1] else AFTER_BROKEN
        before = index, place
    if before[1] != count - 1:
        told -= MISSING * (count - 1 - before[1]) + (JUMP if sound[-1] else AFTER_BROKEN)
    return told - (JUMP if before[0] != len(sound) - 1 else 0)


def best_of_all(numbers, sound, count):
    """The highest value of all ways to give ascending places to some of the segments."""
    allowed = [[None, *([0] if index == 0 else [
        p for p in range(count) if number >= 0 and p % 8 == (number + 1) % 8])]
        for index, number in enumerate(numbers)]
    return max(value(where, sound, count) for where in itertools.product(*allowed)
               if sorted(taken := [p for p in where if p is not None]) == taken
               and len(set(taken)) == len(taken))


class NumberingTest(unittest.TestCase):
    @examples(60)
    @given(st.lists(st.tuples(st.integers(-1, 7), st.booleans()), min_size=2, max_size=5),
           st.integers(6, 20))
    def test_no_other_places_suit_better(self, segments, count):
        numbers, sound = [-1] + [n for n, _ in segments[1:]], [s for _, s in segments]
        where = numbered(numbers, sound, count, known=True, closed=True)
        self.assertAlmostEqual(value(where, sound, count), best_of_all(numbers, sound, count))

    def test_lost_and_made_up_markers_move_nothing_else(self):
        for seed in range(24):
            draw = random.Random(seed)
            count = draw.choice((40, 400))
            segments = [(place, (place - 1) % 8 if place else -1, True) for place in range(count)]
            at = draw.randrange(5, count - 20)
            place, number, _ = segments[at]
            segments[at] = place, number, False
            if seed % 3 == 0:  # a marker is hidden
                del segments[at + 1]
            elif seed % 3 == 1:  # one is made up
                segments.insert(at + 1, (None, draw.randrange(8), False))
            else:  # a stretch is lost, all its markers with it
                del segments[at + 1 : at + draw.randrange(2, 15)]
            where = numbered([n for _, n, _ in segments], [s for *_, s in segments], count, True,
                             True)
            wrong = [place for (place, _, sound), told in zip(segments, where, strict=True)
                     if sound and told != place]
            self.assertEqual(wrong, [], seed)

    def test_doubled_segments_do_not_drive_out_the_end(self):
        numbers = [-1, *((n - 1) % 8 for n in range(1, 60))]
        twice = numbers[:50] + numbers[34:60]
        sound = [True] * len(twice)
        sound[49] = False
        where = numbered(twice, sound, 60, True, True)
        self.assertEqual([place for place in where if place is not None], list(range(60)))
        self.assertEqual(where[-10:], list(range(50, 60)))

    def test_a_beginning_that_is_lost_is_not_made_up(self):
        numbers = [n % 8 for n in range(3, 40)]
        where = numbered(numbers, [True] * len(numbers), 41, known=False, closed=True)
        self.assertEqual(where, [None, *range(5, 41)])

    def test_the_work_stays_bounded_where_most_of_a_picture_is_missing(self):
        """Cameras restart every few blocks: tens of thousands of segments, and any may be lost."""
        count, steps = 12_000, []
        add = _Trail.add

        def counted(trail, segment, places, before):
            steps.append(places.size)
            return add(trail, segment, places, before)

        numbers = [-1, *((n - 1) % 8 for n in range(1, count // 2))]
        with mock.patch.object(_Trail, "add", counted):
            sound = [True] * len(numbers)
            self.assertEqual(numbered(numbers, sound, count, True, False),
                             list(range(count // 2)))
            self.assertLess(sum(steps), 1000)  # all are in turn
            steps.clear()
            sound[::40] = [False] * len(sound[::40])
            where = numbered(numbers, sound, count, True, False)
            self.assertLess(sum(steps), MOST_STEPS * 3)
        self.assertEqual(where, list(range(count // 2)))
