"""The read planner and the read map: properties over random faults."""

import unittest
from collections import Counter

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from needlewright.core.imaging.planner import Planner, Queue, Wish
from needlewright.core.sources.read_map import ReadMap, State
from needlewright.core.sources.source import Span
from tests.examples import examples

BLOCK, READ, TRIES = 512, 8192, 3
FAULTS = st.lists(st.tuples(st.integers(0, 299), st.integers(1, 40), st.sampled_from(
    ["bad", "bad", "weak", "slow"])), max_size=12)


class Medium:
    """`blocks` blocks with faults laid over them; counts how often each block was touched."""

    def __init__(self, blocks: int, faults: list[tuple[int, int, str]]) -> None:
        self.size = blocks * BLOCK
        self.kind = ["good"] * blocks
        for start, length, kind in faults:
            for block in range(start, min(start + length, blocks)):
                self.kind[block] = kind
        self.touched: Counter[int] = Counter()

    def read(self, offset: int, length: int) -> tuple[bool, float]:
        blocks = range(offset // BLOCK, -(-(offset + length) // BLOCK))
        for block in blocks:
            self.touched[block] += 1
        failed = any(self.kind[b] == "bad" or (
            self.kind[b] == "weak" and self.touched[b] < TRIES) for b in blocks)
        slow = any(self.kind[b] == "slow" for b in blocks)
        return not failed, 0.5 if failed else length * (1e-4 if slow else 1e-6)


def follow(plan, medium):
    """Read to the end; yields (read, came out well)."""
    while (read := plan.next()) is not None:
        good, seconds = medium.read(read.offset, read.length)
        plan.tell(read, read.length if good else 0, seconds)
        yield read, good


def planner(medium, **options):
    return Planner(medium.size, BLOCK, read_bytes=READ, tries=TRIES, **options)


class PlannerTest(unittest.TestCase):
    @examples(150)
    @given(st.integers(1, 300), FAULTS)
    def test_it_ends_with_every_byte_read_or_given_up(self, blocks, faults):
        medium = Medium(blocks, faults)
        plan, known = planner(medium), ReadMap(medium.size)
        for read, good in follow(plan, medium):
            lost = plan.gives_up(read, read.length if good else 0)
            if good:
                known.set(read.offset, read.stop, State.READ)
            elif lost is not None:
                known.set(lost.start, lost.stop, State.UNREADABLE)
        self.assertEqual(known.total(State.PENDING), 0)
        for block, kind in enumerate(medium.kind):
            want = State.UNREADABLE if kind == "bad" else State.READ  # weak ones come back too
            self.assertEqual(known.state_at(block * BLOCK), want, kind)

    @given(st.integers(1, 300))
    def test_a_healthy_medium_is_read_once_and_in_order(self, blocks):
        medium, at = Medium(blocks, []), 0
        for read, _ in follow(planner(medium), medium):
            self.assertEqual((read.offset, read.queue), (at, Queue.FRESH))
            at = read.stop
        self.assertEqual(at, medium.size)

    @examples(100)
    @given(st.integers(20, 300), FAULTS)
    def test_nothing_is_asked_again_before_all_was_asked(self, blocks, faults):
        medium = Medium(blocks, faults)
        asked = np.zeros(blocks, bool)
        for read, _ in follow(planner(medium), medium):
            part = slice(read.offset // BLOCK, -(-read.stop // BLOCK))
            if asked[part].any():
                self.assertTrue(asked.all(), "something was asked twice, something else never")
                self.assertGreaterEqual(read.queue, Queue.SPLIT)
            asked[part] = True

    @examples(60)
    @given(st.integers(40, 300), st.integers(0, 200), st.integers(1, 60))
    def test_what_is_worth_more_goes_first(self, blocks, start, length):
        medium = Medium(blocks, [])
        wish = Wish(min(start, blocks - 1) * BLOCK, min(start + length, blocks) * BLOCK, 5.0)
        values = [read.value for read, _ in follow(planner(medium, wishes=[wish]), medium)]
        self.assertEqual(values, sorted(values, reverse=True))

    def test_what_is_worth_nothing_is_left_alone_and_what_is_read_stays_read(self):
        medium = Medium(64, [])
        plan = planner(medium, pending=[Span(0, 8192), Span(16384, 32768)],
                       wishes=[Wish(16384, 20480, 0.0)])
        read = [(r.offset, r.stop) for r, _ in follow(plan, medium)]
        self.assertEqual((read[0][0], read[-1][1]), (0, 32768))
        self.assertTrue(all(stop <= 8192 or start >= 20480 for start, stop in read))

    def test_few_reads_touch_a_bad_sector(self):
        """Runs of bad sectors on a large medium: 12 failing reads a run and 3 a sector at most."""
        size, bad = 64 << 20, set()
        for run in range(40):
            bad.update(range(run * 3001 + 7, run * 3001 + 7 + run % 9 + 1))
        plan, failing = Planner(size, 512, tries=1), 0
        ordered = np.array(sorted(bad))
        while (read := plan.next()) is not None:
            at = int(np.searchsorted(ordered, read.offset // 512))
            good = at == len(ordered) or ordered[at] * 512 >= read.stop
            plan.tell(read, read.length if good else 0, 0.01 if good else 1.0)
            failing += not good
        self.assertLess(failing, 3 * len(bad) + 12 * 40)


class ReadMapTest(unittest.TestCase):
    @examples(150)
    @given(st.integers(1, 60), st.lists(st.tuples(
        st.integers(0, 60), st.integers(0, 60), st.sampled_from(list(State))), max_size=30))
    def test_as_a_plain_array(self, size, steps):
        known, plain = ReadMap(size), np.zeros(size, int)
        for one, other, state in steps:
            start, stop = sorted((min(one, size), min(other, size)))
            known.set(start, stop, state)
            plain[start:stop] = state
        for state in State:
            self.assertEqual(known.total(state), int((plain == state).sum()))
            self.assertEqual(known.within(size // 3, size, state),
                             int((plain[size // 3 :] == state).sum()))
        shown = np.concatenate([np.full(s.size, v) for s, v in known.ranges()])
        self.assertTrue((shown == plain).all())
        self.assertEqual(len(known), 1 + int((np.diff(plain) != 0).sum()))
        with self.assertRaises(ValueError):
            known.set(0, size + 1, State.READ)
