"""What a card's own files teach about how others go on."""

from __future__ import annotations

import tempfile
import threading
import unittest
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from needlewright.core.jobfile.texture import TextureFile
from needlewright.core.jobs.known import JobKnowledge
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.jobs.runner import run_search
from needlewright.core.search.pieces_pool import pools_around
from needlewright.core.search.plan import Plan
from needlewright.core.sources.files import ImageFile
from needlewright.core.stitching.base import Broken
from needlewright.core.stitching.habits import Habits, gaps_of
from tests.core.test_stitching import UNIT, cut, laid, photo


class HabitsTest(unittest.TestCase):
    def test_forward_and_in_strides_where_files_go_so(self):
        habits = Habits()
        self.assertEqual(habits.nats(5), habits.nats(-5))
        habits.learn([16, 16, 16, 40, 16])
        self.assertGreater(habits.nats(7), 0)
        self.assertLess(habits.nats(-7), 0)
        self.assertGreater(habits.nats(16), habits.nats(40))
        self.assertGreater(habits.nats(9, [9]), habits.nats(16))
        self.assertEqual(habits.nats(0), 0)

    @given(st.lists(st.integers(-50, 50)), st.integers(-50, 50))
    def test_it_never_outweighs_a_clear_lead(self, gaps, one):
        habits = Habits()
        habits.learn(gaps)
        self.assertLess(abs(habits.nats(one, gaps)), 8)

    @given(st.lists(st.tuples(st.integers(0, 99), st.integers(1, 9))))
    def test_gaps_lead_from_piece_to_piece(self, pieces):
        gaps = gaps_of(pieces)
        self.assertEqual(len(gaps), max(0, len(pieces) - 1))
        for (first, count), (after, _), gap in zip(pieces, pieces[1:], gaps, strict=False):
            self.assertEqual(first + count + gap, after)

    def test_a_pool_knows_how_whole_files_of_the_job_go_on(self):
        whole = [photo(30 + i, (320, 240)) for i in range(9)]
        a, b = cut(photo(2), 9)
        data = laid(*whole[:5], a, whole[5], b, *whole[6:])
        between = -(-len(whole[5]) // UNIT)
        with tempfile.TemporaryDirectory() as scratch:
            image = Path(scratch) / "card.img"
            image.write_bytes(data)
            job, row = job_for_image(Path(scratch) / "job", image)
            with job, ImageFile(image) as source:
                plan = Plan(("signatures", "stitching"))
                list(run_search(job, row, plan, threading.Event()))
                texture = TextureFile(job.folder, row.id)
                self.addCleanup(texture.close)
                known = JobKnowledge(job, row, source, texture)
                (thread,) = known.threads()
                self.assertEqual([offset for offset, _ in thread], [data.find(a), data.find(b)])
                broken = Broken(1, "", "jpeg", ((data.find(a), UNIT),))
                ((pool, _),) = pools_around(source, known, [broken])
                self.assertGreater(pool.habits.nats(between), pool.habits.nats(-between))


if __name__ == "__main__":
    unittest.main()
