"""Two ways to one file are one find, decided by proof."""

import unittest
from dataclasses import replace

from needlewright.core.checks.grading import Grade
from needlewright.core.contents import Stretches
from needlewright.core.finds import Find, Record
from needlewright.core.jobfile.rows import Filter
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.walks import Check, Facts, Kind, Outcome
from tests.support import FolderTest, noise


def carved(size, grade=Grade.WHOLE, start=4096):
    return Find("jpeg", Kind.PHOTO, "jpg", Stretches(((start, size),)), grade, 1.0, ("signatures",),
                (Check("structure", Outcome.PASS, "structure-ok", {"parts": 3}),), Facts())


def recorded(size, grade=Grade.WHOLE, path="DCIM/104BRKFD/BF_0201.JPG", at=512, claim=False,
             extents=None, removed=True, step="records"):
    checks = (Check("record", Outcome.PASS, "record-removed"),
              Check("extents", Outcome.DOUBT if claim else Outcome.PASS,
                    "extents-guessed" if claim else "extents-exact"))
    stated = size if grade is Grade.GONE else None
    return Find("jpeg", Kind.PHOTO, "jpg", Stretches(() if grade is Grade.GONE else (
        extents or ((4096, size),))), grade, 1.0, (step,), checks, Facts(),
        name=path.rpartition("/")[2], path=path, removed=removed,
        record=Record(at if grade is not Grade.GONE else 4096, stated,
                      modified="2031-05-12T06:30:00", claim=claim))


class MergingTest(FolderTest):
    def settled(self, *finds):
        """The rows of a job into which these finds were told, one after another."""
        job, source = job_for_image(self.folder / f"job{self.id()}{len(finds)}",
                                    self.image(noise(9000)))
        self.addCleanup(job.close)
        for find in finds:
            job.add_finds(source.id, [find])
        rows = job.matching(Filter())
        self.assertEqual(sum(t.finds for t in job.tally()), len(rows))
        return job, rows

    def test_a_name_comes_onto_a_carved_find_and_the_other_way_round(self):
        for order in ((carved(900), recorded(900)), (recorded(900), carved(900))):
            _, rows = self.settled(*order)
            self.assertEqual([(r.name, r.grade, r.found_by) for r in rows],
                             [("BF_0201.JPG", "whole", ("records", "signatures"))])

    def test_a_failed_contiguous_guess_joins_the_recorded_pieces(self):
        pieces = ((4096, 512), (8192, 388))
        for order in ((carved(600, Grade.PARTIAL), recorded(900, extents=pieces)),
                      (recorded(900, extents=pieces), carved(600, Grade.PARTIAL))):
            job, rows = self.settled(*order)
            self.assertEqual(len(rows), 1)
            self.assertEqual(job.record(rows[0].id).extents, pieces)

    def test_later_checks_of_a_carve_take_no_pieces_away(self):
        pieces = ((4096, 512), (None, 388))
        job, rows = self.settled(recorded(900, Grade.PARTIAL, extents=pieces),
                                 carved(900, Grade.PARTIAL))
        job.recheck_finds(job.sources()[0].id, [carved(900, Grade.PARTIAL)])
        self.assertEqual(job.record(rows[0].id).extents, pieces)
        job.recheck_finds(job.sources()[0].id, [carved(900)])
        self.assertEqual([(r.name, r.grade) for r in job.matching(Filter())],
                         [("BF_0201.JPG", "whole")])

    def test_later_checks_of_a_carve_do_not_outweigh_reused_clusters(self):
        record = recorded(900, Grade.PARTIAL)
        record = replace(record, checks=(*record.checks, Check(
            "clusters", Outcome.FAIL, "clusters-reused", {"bytes": 125, "share": 0.139})))
        job, rows = self.settled(record, carved(900, Grade.PARTIAL))
        source = job.sources()[0]
        job.recheck_finds(source.id, [replace(carved(900), found_by=("signatures",))])
        rows = job.matching(Filter())
        self.assertEqual([(r.name, r.grade) for r in rows], [("BF_0201.JPG", "partial")])
        codes = [c.code for c in job.record(rows[0].id).checks]
        self.assertIn("clusters-reused", codes)
        self.assertEqual(len(codes), len(set(codes)))

    def test_a_whole_carve_proves_a_record_of_its_length(self):
        job, rows = self.settled(recorded(900, Grade.PARTIAL, claim=True), carved(900))
        self.assertEqual([(r.name, r.grade) for r in rows], [("BF_0201.JPG", "whole")])
        self.assertIn("extents-proven", [c.code for c in job.record(rows[0].id).checks])

    def test_another_length_is_another_file(self):
        for order in ((recorded(900, Grade.PARTIAL, claim=True), carved(700)),
                      (carved(700), recorded(900, Grade.PARTIAL, claim=True))):
            _, rows = self.settled(*order)
            self.assertEqual(sorted((r.name or "", r.size, r.grade) for r in rows),
                             [("", 700, "whole"), ("BF_0201.JPG", 900, "partial")])

    def test_gone_ones_stay_by_name_beside_what_took_their_place(self):
        _, rows = self.settled(carved(700), recorded(900, Grade.GONE),
                               recorded(800, Grade.GONE, path="DCIM/104BRKFD/BF_0202.JPG"))
        self.assertEqual(sorted(r.grade for r in rows), ["gone", "gone", "whole"])

    def test_hard_links_are_both_listed(self):
        _, rows = self.settled(recorded(900, removed=False),
                               recorded(900, path="NOTES/link.jpg", removed=False))
        self.assertEqual(sorted(r.path for r in rows),
                         ["DCIM/104BRKFD/BF_0201.JPG", "NOTES/link.jpg"])

    def test_what_is_gone_is_never_chosen(self):
        job, rows = self.settled(recorded(900, Grade.GONE))
        job.reviews.put_in_tray([rows[0].id])
        self.assertEqual(job.reviews.tray_size(), (0, 0))

    def test_a_lost_folder_gives_way_to_the_known_one(self):
        lost = recorded(900, path="lost folder 9/BF_0201.JPG", step="old-records")
        for order in ((lost, recorded(900)), (recorded(900), lost)):
            _, rows = self.settled(*order)
            self.assertEqual([(r.path, r.found_by) for r in rows],
                             [("DCIM/104BRKFD/BF_0201.JPG", ("records", "old-records"))])


if __name__ == "__main__":
    unittest.main()
