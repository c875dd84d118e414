"""Joining by hand: what is offered, what is taken, undone and kept, and what is refused."""

from __future__ import annotations

import io
import random
import tempfile
import threading
import unittest
from itertools import pairwise
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from needlewright.core.codes import SeamWord
from needlewright.core.contents import Place
from needlewright.core.errors import JobError
from needlewright.core.jobfile.store import Job
from needlewright.core.jobfile.threads import MAX_STEPS, History, Thread, runs_of
from needlewright.core.jobs.handwork import Handwork
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.jobs.rechecking import decode_all
from needlewright.core.jobs.runner import run_search
from needlewright.core.search.plan import Plan
from needlewright.core.sources.files import ImageFile
from needlewright.core.stitching.base import formats_by_hand
from needlewright.demo import clips
from needlewright.wording import errors, mending
from needlewright.wording import seams as wording
from tests.core.test_stitching import UNIT, cut, laid, photo
from tests.examples import examples


def drawn_png(seed: int) -> bytes:
    out = io.BytesIO()
    Image.open(io.BytesIO(photo(seed, (420, 300)))).save(out, "PNG")
    return out.getvalue()


class HandworkTest(unittest.TestCase):
    """A card with a photo, a clip and a checksummed picture in pieces, searched by content."""

    @classmethod
    def setUpClass(cls):
        cls.folder = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        cls.photo, cls.png = photo(2), drawn_png(40)
        cls.clip = clips.encode("mp4", frames=100, size=(480, 270))
        whole = [photo(20 + i, (320, 240)) for i in range(9)]
        third = len(cls.clip) // UNIT // 3
        a, p = cut(cls.photo, 17, 30), cut(cls.png, 13, 27)
        c = cut(cls.clip, third, 2 * third)
        data = laid(*whole[:4], a[0], c[0], whole[4], p[0], a[1], whole[5], c[1], p[1], whole[6],
                    a[2], p[2], whole[7], c[2], whole[8])
        cls.image = cls.folder / "card.img"
        cls.image.write_bytes(data)
        with job_for_image(cls.folder / "job", cls.image)[0] as job:
            list(run_search(job, job.sources()[0], Plan(("signatures",)), threading.Event()))
            ids = job.places.damaged(("photo", "video"), formats_by_hand())
            cls.ids = {job.record(n).row.format: n for n in ids}

    def hand(self, form: str) -> Handwork:
        job = self.enterContext(Job(self.folder / "job"))
        hand = Handwork(job, self.ids[form], threading.Event())
        self.addCleanup(hand.close)
        return hand

    def fresh(self, form: str) -> Handwork:
        hand = self.hand(form)
        while hand.standing().can_undo:
            hand.undo()
        return hand

    def bytes_of(self, hand: Handwork, number: int) -> bytes:
        record = hand.job.record(number)
        with ImageFile(self.image) as source:
            return record.content.open(Place(source)).read_at(0, record.row.size)

    def test_the_best_piece_again_and_again_makes_each_file_whole(self):
        for form, wanted in (("jpeg", self.photo), ("png", self.png), ("mp4", self.clip)):
            hand = self.fresh(form)
            as_found = hand.job.record(hand.number)
            for _ in range(6):
                if hand.standing().ended:
                    break
                offers = hand.offers()
                self.assertGreaterEqual(offers.tried, len(offers.best))
                for offer in offers.best:
                    self.assertTrue(wording.briefly(offer.reasons))
                    self.assertGreater(hand.pieces(hand.looks(offer)[0]).size, 0)
                before = hand.standing().at
                hand.take(offers.best[0], best=True)
                self.assertGreater(hand.standing().at, before)
            number = hand.keep()
            self.assertEqual(self.bytes_of(hand, number), wanted, form)
            kept = hand.job.record(number)
            proven = all(s.word is SeamWord.PROVEN for s in kept.seams)
            self.assertEqual(kept.row.grade == "whole", proven)
            self.assertTrue(all(s.reasons[-1].code == "by-hand" for s in kept.seams))
            self.assertEqual(kept.joined_from, hand.number)
            self.assertEqual(hand.job.record(hand.number), as_found)

    def test_looking_at_every_frame_takes_no_doubt_from_a_seam(self):
        hand = self.fresh("mp4")
        for _ in range(2):
            hand.take(hand.offers().best[0])  # not told that it is the best: likely
        number = hand.keep()
        before = hand.job.record(number)
        self.assertEqual(before.row.grade, "unproven")
        count, as_found = len(hand.job.matching()), hand.job.record(hand.number)
        self.assertTrue(decode_all(hand.job, number, threading.Event()))
        after = hand.job.record(number)
        self.assertEqual((after.row.grade, after.seams, after.joined_from),
                         (before.row.grade, before.seams, before.joined_from))
        self.assertEqual(len(hand.job.matching()), count)
        self.assertEqual(hand.job.record(hand.number), as_found)

    def test_the_program_goes_on_from_where_the_hand_stopped(self):
        hand = self.fresh("jpeg")
        hand.take(hand.offers().best[0], best=True)
        self.assertTrue(hand.go_on())
        self.assertTrue(hand.standing().ended)
        self.assertEqual(hand.standing().steps, ("took", "went-on"))
        self.assertEqual(self.bytes_of(hand, hand.keep()), self.photo)

    def test_a_piece_that_was_chosen_against_the_best_is_never_proven(self):
        hand = self.fresh("jpeg")
        offers = hand.offers()
        self.assertEqual(offers.best[0].word, SeamWord.PROVEN)
        hand.take(offers.best[1])
        self.assertEqual(hand.history.now.seams[0].word, SeamWord.LIKELY)
        hand.undo()
        hand.take(offers.best[0])  # the same piece, but not told that it is the best
        self.assertEqual(hand.history.now.seams[0].word, SeamWord.LIKELY)

    def test_undone_redone_and_there_again_when_the_job_is_opened_next(self):
        hand = self.fresh("jpeg")
        found = hand.history.now
        hand.take(hand.offers().best[0], best=True)
        joined = hand.history.now
        hand.undo()
        self.assertEqual(hand.history.now, found)
        hand.redo()
        hand.close()
        again = self.hand("jpeg")
        self.assertEqual(again.history.now, joined)
        again.undo()
        again.cut(len(found.clusters) - 2)
        self.assertFalse(again.standing().can_redo)  # another way was taken
        self.assertEqual(again.history.now.clusters, found.clusters[:-2])

    def test_the_cut_goes_no_farther_than_the_file_can(self):
        hand = self.fresh("jpeg")
        count = len(hand.history.now.clusters)
        hand.cut(0)
        self.assertEqual(hand.history.now.clusters, hand.hand.head)
        hand.cut(count + 5000)
        reached = len(hand.history.now.clusters)
        self.assertLess(reached, count + 60)
        shares = hand.standing().shares
        self.assertEqual(sorted(shares), list(shares))
        self.assertEqual(hand.standing().thread.seams, ())

    def test_places_typed(self):
        hand = self.fresh("jpeg")
        best = hand.offers().best[0]
        hand.take_at(hand.hand.pool.start(best.first))
        self.assertEqual(hand.history.now.seams[0].word, SeamWord.LIKELY)
        hand.undo()
        standing = hand.standing()
        for byte, code in ((1 << 50, "hand-outside"), (standing.pieces[0][0], "hand-used"),
                           (self.image.stat().st_size - UNIT, "hand-refused")):
            with self.assertRaises(JobError) as raised:
                hand.take_at(byte)
            self.assertEqual(raised.exception.code, code)
            self.assertTrue(errors.explain(raised.exception).endswith("."))
        self.assertEqual(hand.standing(), standing)

    def test_what_cannot_be_joined_says_so(self):
        job = self.enterContext(Job(self.folder / "job"))
        whole = next(r.id for r in job.matching() if r.grade == "whole")
        with self.assertRaises(JobError):
            Handwork(job, whole, threading.Event())
        hand = self.fresh("jpeg")
        with self.assertRaises(JobError) as raised:
            hand.keep()
        self.assertEqual(raised.exception.code, "hand-nothing")

    def test_a_history_that_lies_is_left_aside(self):
        hand = self.fresh("jpeg")
        found = hand.history.threads[0]
        for told in ('{"unit": 4096}', "[]", "{", '{"unit":4096,"base":0,"at":7,"threads":[]}',
                     '{"unit":4096,"base":0,"at":0,"threads":[{"runs":[[999999999,5]],"seams":[],'
                     '"end":null,"what":""}]}'):
            hand.job._database.change("INSERT OR REPLACE INTO threads VALUES (?, ?)",
                                      (hand.number, told))
            self.assertEqual(self.hand("jpeg").history.now, found)


class ThreadsTest(unittest.TestCase):
    @given(st.lists(st.integers(0, 40), min_size=1, max_size=60))
    def test_runs_say_the_same_as_clusters(self, clusters):
        runs = runs_of(clusters)
        self.assertEqual(list(Thread(runs).clusters), clusters)
        self.assertTrue(all(a + n != b for (a, n), (b, _) in pairwise(runs)))

    def test_a_history_is_bounded_and_keeps_what_was_found(self):
        history = History(512, 0, (Thread(((1, 1),)),))
        for number in range(2 * MAX_STEPS):
            history = history.then(Thread(((1, number + 2),)))
        self.assertEqual(len(history.threads), MAX_STEPS)
        self.assertEqual(history.threads[0], Thread(((1, 1),)))
        self.assertEqual(history.now.runs, ((1, 2 * MAX_STEPS + 1),))
        self.assertEqual(history.moved(-(1 << 20)).at, 0)


class PlaceTest(unittest.TestCase):
    def test_places_in_words(self):
        for text, byte in (("31.204 GB", 31_204_000_000), ("52,428,800", 52_428_800),
                           ("sector 61000", 61000 * 512), ("1.5 MiB", 3 << 19), ("0", 0),
                           ("7 bytes", 7)):
            self.assertEqual(mending.place_from(text, 512), byte, text)
        for text in ("", "here", "-5", "1.5", "1e9", "sector", "sector -1", "9" * 40, "1..2 GB",
                     "²", "GB."):
            self.assertIsNone(mending.place_from(text, 512), text)

    @examples(200)
    @given(st.text(max_size=30))
    def test_any_text_is_a_place_or_none(self, text):
        place = mending.place_from(text, 512)
        self.assertTrue(place is None or 0 <= place < 1 << 75)


if __name__ == "__main__":
    random.seed(1)
    unittest.main()
