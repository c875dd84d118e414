"""Whatever comes first: the same finds, told in any order, make the same list."""

from __future__ import annotations

import itertools
import tempfile
import unittest
from pathlib import Path

from hypothesis import HealthCheck, given
from hypothesis import strategies as st

from needlewright.core.checks.grading import Grade
from needlewright.core.contents import Stretches
from needlewright.core.finds import Find, Record
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.walks import Check, Facts, Kind, Outcome
from tests.examples import examples

AT = 8192
STRUCTURE = Check("structure", Outcome.PASS, "structure-ok", {"parts": 3})


def carved(size, grade=Grade.WHOLE, start=AT):
    return Find("jpeg", Kind.PHOTO, "jpg", Stretches(((start, size),)), grade,
                1.0 if grade is Grade.WHOLE else 0.5, ("signatures",), (STRUCTURE,), Facts())


def recorded(size, name, grade=Grade.WHOLE, claim=False, at=512, step="records", start=AT):
    place = Check("extents", Outcome.DOUBT if claim else Outcome.PASS,
                  "extents-guessed" if claim else "extents-exact")
    return Find("jpeg", Kind.PHOTO, "jpg", Stretches(((start, size),)), grade,
                1.0 if grade is Grade.WHOLE else 0.6, (step,), (STRUCTURE, place), Facts(),
                name=name, path=f"DCIM/{name}", removed=True, record=Record(at, claim=claim))


def gone(name, at=700):
    return Find("jpeg", Kind.PHOTO, "jpg", Stretches(), Grade.GONE, 0.0, ("records",), (), Facts(),
                name=name, path=f"DCIM/{name}", removed=True, record=Record(at, 900))


def told(finds):
    """What a job holds after these finds, apart from the numbers."""
    with tempfile.TemporaryDirectory() as folder:
        image = Path(folder) / "card.img"
        image.write_bytes(bytes(1 << 16))
        job, source = job_for_image(Path(folder) / "job", image)
        with job:
            for find in finds:
                job.add_finds(source.id, [find])
            rows = sorted((r.start, r.size, r.grade, r.name or "", r.path or "",
                           tuple(sorted(r.found_by))) for r in job.matching())
            tally = sum(t.finds for t in job.tally())
            check = job._database.rows("PRAGMA foreign_key_check")
    return rows, tally, check


SETS = (
    (carved(900), recorded(900, "a.jpg")),
    (carved(600, Grade.PARTIAL), recorded(900, "a.jpg")),
    (carved(900), recorded(900, "a.jpg", claim=True)),
    (carved(900), recorded(900, "a.jpg"), recorded(900, "a.jpg", step="old-records")),
    (gone("lost.jpg"), carved(900), recorded(900, "a.jpg")),
    (carved(900), carved(500, start=AT + 4096), recorded(500, "b.jpg", start=AT + 4096)),
    (recorded(900, "a.jpg"), recorded(900, "b.jpg", at=544, start=AT + 8192), carved(900)),
)


class OrderTest(unittest.TestCase):
    def test_any_order_gives_the_same_list(self):
        for finds in SETS:
            results = [told(order) for order in itertools.permutations(finds)]
            with self.subTest([f.path or "carve" for f in finds]):
                for rows, tally, check in results:
                    self.assertEqual(rows, results[0][0])
                    self.assertEqual(tally, len(rows))
                    self.assertEqual(check, [])

    kinds = st.sampled_from([
        carved(900), carved(600, Grade.PARTIAL), carved(700, start=AT + 4096),
        recorded(900, "a.jpg"), recorded(700, "c.jpg", at=576, start=AT + 4096),
        gone("lost.jpg"), recorded(900, "a.jpg", step="old-records")])

    @examples(40, suppress_health_check=[HealthCheck.too_slow])
    @given(st.lists(kinds, min_size=1, max_size=7), st.randoms(use_true_random=False))
    def test_shuffled_and_told_twice(self, finds, rng):
        rows, tally, _ = told(finds)
        again = [*finds, *finds]
        rng.shuffle(again)
        self.assertEqual(told(again)[0], rows)
        self.assertEqual(tally, len(rows))

    def test_nothing_whole_is_ever_lost(self):
        for finds in SETS:
            whole = {(f.start, f.size) for f in finds if f.grade is Grade.WHOLE}
            for order in itertools.permutations(finds):
                kept = {(start, size) for start, size, grade, *_ in told(order)[0]
                        if grade == "whole"}
                self.assertLessEqual(whole, kept | {
                    (f.start, f.size) for f in finds if f.record and f.record.claim})
