"""Random cards, written by real drivers: nothing hangs, fails, is lost or promised in vain."""

from __future__ import annotations

import tempfile
import threading
import unittest
from pathlib import Path

from needlewright.core.delivery.bag import Delivered, deliver
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.jobs.runner import run_search
from needlewright.core.search.plan import Plan
from needlewright.core.search.registry import steps
from needlewright.wording.bag import words_for
from tests.cards import history
from tests.cards.comparing import compare, name_stands, stands_in_one_piece

SEEDS = range(9001, 9010)  # of each run; `python -m benchmarks.cards` draws as many as wanted
MOST = 36  # things that happen to a card; of those of the benchmark up to 110


class CardsTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.kinds = history.kinds_here()
        if len(cls.kinds) < 3:
            raise unittest.SkipTest("too few formatters and drivers here")

    def test_cards_of_every_kind_come_back(self):
        covered = set()
        # XFS and btrfs are large; the benchmark has them.
        kinds = [kind for kind in self.kinds if kind not in ("xfs", "btrfs")]
        for seed, kind in zip(SEEDS, kinds):
            with tempfile.TemporaryDirectory() as folder, self.subTest(seed):
                card = history.make(seed, Path(folder), [kind], MOST)
                covered.add(kind)
                self.assertTrue(card.live or card.gone)
                result = compare(card, self.delivered(card, Path(folder)))
                self.assertEqual(result.live_missing, [], str(card))
                self.assertEqual(result.not_back, [], str(card))
                self.assertEqual(result.false_whole, [], str(card))
                if not kind.startswith("ntfs"):  # whose leftovers are hit by marks and fixups
                    self.assertEqual(result.names_missing, [], str(card))
        self.assertGreaterEqual(len(covered), 3)

    def delivered(self, card, place):
        job, source = job_for_image(place / "job", card.image)
        with job:
            for _ in run_search(job, source, Plan(tuple(steps())), threading.Event()):
                pass
            done = None
            for event in deliver(job, job.matching(), place / "bag", words_for(job),
                                 threading.Event(), empty=True):
                done = event
        self.assertIsInstance(done, Delivered)
        self.assertEqual(done.failed, 0)
        return place / "bag"

    def test_a_card_is_the_same_for_the_same_seed(self):
        with tempfile.TemporaryDirectory() as one, tempfile.TemporaryDirectory() as two:
            first = history.make(77, Path(one), ["fat16"], MOST)
            again = history.make(77, Path(two), ["fat16"], MOST)
        self.assertEqual(first.live, again.live)
        self.assertEqual([g.sha256 for g in first.gone], [g.sha256 for g in again.gone])

    def test_the_truth_is_found_without_our_own_code(self):
        import mmap

        with tempfile.TemporaryDirectory() as folder:
            card = history.make(78, Path(folder), ["fat16"])
            with card.image.open("rb") as file, mmap.mmap(
                    file.fileno(), 0, access=mmap.ACCESS_READ) as medium:
                for path, data in card.live.items():
                    if data and len(data) < card.unit:
                        self.assertTrue(stands_in_one_piece(data, medium), path)
                    self.assertFalse(stands_in_one_piece(data + b"more", medium))
                long = [p for p in card.live if len(p.rpartition("/")[2]) > 12]
                self.assertTrue(any(name_stands("fat16", path.rpartition("/")[2], medium)
                                    for path in long), long)
                self.assertFalse(name_stands("fat16", "nobody wrote this name.jpg", medium))
