"""What was searched is not searched again; what was not, is: by format, kind, area and way."""

import sqlite3
import threading
import unittest

from hypothesis import given
from hypothesis import strategies as st

from needlewright.core.checks.grading import Grade
from needlewright.core.contents import Stretches
from needlewright.core.errors import JobError
from needlewright.core.finds import Find
from needlewright.core.jobfile.coverage import CoverageRow, missing, outstanding, tokens_of
from needlewright.core.jobfile.folder import DATABASE
from needlewright.core.jobfile.migrations import V1
from needlewright.core.jobfile.store import Job
from needlewright.core.jobfile.texture import TextureFile
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.jobs.rechecking import decode_all
from needlewright.core.jobs.runner import run_search
from needlewright.core.kernels.texture import Texture
from needlewright.core.search.events import Found, Progress
from needlewright.core.search.plan import Plan
from needlewright.core.sources.source import Span
from needlewright.core.walks import Check, Facts, Kind, Outcome
from tests.media import clips, pictures, sounds
from tests.support import FolderTest, medium, noise


class SpanTest(unittest.TestCase):
    @given(st.lists(st.tuples(st.integers(0, 60), st.integers(0, 60)), max_size=8))
    def test_missing_is_what_no_span_holds(self, spans):
        spans = [(min(s), max(s)) for s in spans]
        held = {b for a, z in spans for b in range(a, z)}
        left = {b for span in missing(Span(5, 50), spans) for b in range(span.start, span.stop)}
        self.assertEqual(left, set(range(5, 50)) - held)

    def test_only_what_is_new_is_left(self):
        photos = Plan(kinds=frozenset({Kind.PHOTO}))
        area = Span(0, 1000)
        row = CoverageRow(1, "signatures", tokens_of(photos), False, True, 0, 1000)
        self.assertEqual(outstanding(photos, area, [row]), [])
        more = outstanding(Plan(), area, [row])
        self.assertEqual([p.area for p in more], [area])
        self.assertNotIn("jpeg", more[0].formats)
        self.assertIn("mp4", more[0].formats)
        half = CoverageRow(1, "signatures", tokens_of(photos), False, True, 0, 400)
        self.assertEqual([p.area for p in outstanding(photos, area, [half])], [Span(400, 1000)])
        finer = Plan(kinds=photos.kinds, every_byte=True)
        self.assertEqual([p.area for p in outstanding(finer, area, [row])], [area])


class SearchAgainTest(FolderTest):
    def setUp(self):
        super().setUp()
        self.photo, self.tone = pictures.camera(180), sounds.encode("flac", "flac", 181)
        self.clip = clips.encode("mp4", seed=182, frames=30)
        data = medium([(0, self.photo), (1 << 20, self.tone), (2 << 20, self.clip),
                       (3 << 20, noise(1 << 20))], 4 << 20)
        self.job, self.source = job_for_image(self.folder / "job", self.image(data))
        self.addCleanup(self.job.close)

    def run_plan(self, plan):
        events = list(run_search(self.job, self.source, plan, threading.Event()))
        return [e.find.format for e in events if isinstance(e, Found)], events

    def test_also_look_for(self):
        first, _ = self.run_plan(Plan(formats=frozenset({"jpeg"})))
        self.assertEqual(first, ["jpeg"])
        second, events = self.run_plan(Plan())
        self.assertEqual(sorted(second), ["flac", "mp4"], "the photo is not looked for again")
        totals = {e.total for e in events if isinstance(e, Progress)}
        self.assertEqual(totals, {4 << 20})
        third, _ = self.run_plan(Plan())
        self.assertEqual(sorted(third), ["flac", "jpeg", "mp4"], "asked again, all is searched")
        self.assertEqual(len(self.job.find_ids()), 3)
        self.assertEqual({r.grade for r in self.job.matching()}, {"whole"})

    def test_frames_may_wait_and_be_asked_for_later(self):
        self.run_plan(Plan(every_frame=False))
        row = next(r for r in self.job.matching() if r.format == "mp4")
        self.assertEqual((row.grade, row.share), ("unproven", 1.0))
        self.assertTrue(row.has_strip and row.has_thumbnail)
        self.job.reviews.put_in_tray([row.id])
        known = self.job.sums.of(row.id)
        self.assertTrue(decode_all(self.job, row.id, threading.Event()))
        self.assertEqual(self.job.sums.of(row.id), known)  # and a later change is still noticed
        self.assertIsNotNone(known)
        after = self.job.rows([row.id])[0]
        self.assertEqual((after.grade, after.in_tray, after.has_strip), ("whole", True, True))
        self.assertEqual(sum(t.finds for t in self.job.tally()), 3)
        photo = next(r for r in self.job.matching() if r.format == "jpeg")
        with self.assertRaises(JobError):
            self.job.record(photo.id + 1000)

    def test_texture_is_kept_with_the_search(self):
        self.run_plan(Plan())
        kept = TextureFile(self.job.folder, self.source.id)
        self.addCleanup(kept.close)
        self.assertTrue(kept.seen(0, 4 << 20))
        blocks = kept.blocks(0, 4 << 20)
        self.assertEqual(blocks.size, 1024)
        self.assertEqual(set(blocks[780:1020].tolist()), {Texture.RANDOM})
        self.assertEqual(set(blocks[600:760].tolist()), {Texture.BLANK})
        self.assertEqual(kept.columns(3 << 20, 4 << 20, 7).tolist(), [Texture.RANDOM] * 7)
        self.assertEqual(list(kept.columns(0, 4 << 20, 4))[3], Texture.RANDOM)
        nothing = TextureFile(self.job.folder, 99)
        self.assertFalse(nothing.there or nothing.blocks(0, 9000).any())


class OldJobTest(FolderTest):
    def test_a_job_of_the_first_version_is_brought_up_to_date(self):
        job, source = job_for_image(self.folder / "job", self.image(noise(9000)))
        job.close()
        path = self.folder / "job" / DATABASE
        path.unlink()
        for extra in path.parent.glob(f"{DATABASE}-*"):
            extra.unlink()
        with sqlite3.connect(path) as old:
            old.executescript(V1 + "PRAGMA application_id = 1314343473; PRAGMA user_version = 1;")
            old.execute("INSERT INTO sources VALUES (1, 'card.img', ?, 9000, 512, NULL, 0)",
                        (source.path,))
            old.execute("INSERT INTO finds (source, kind, format, extension, start, size, grade,"
                        " share, found_by) VALUES (1, 'photo', 'jpeg', 'jpg', 512, 100, 'whole',"
                        " 1.0, 'signatures')")
        with Job(self.folder / "job") as opened:
            record = opened.record(1)
            self.assertEqual((record.row.grade, record.row.duration_s, record.parent),
                             ("whole", None, None))
            self.assertEqual(opened.searched.coverage(1, "signatures"), [])

    def test_what_lay_in_a_find_that_became_whole_is_dropped(self):
        job, source = job_for_image(self.folder / "job", self.image(noise(90_000)))
        self.addCleanup(job.close)

        def find(start: int, grade: Grade, inside: str | None = None) -> Find:
            check = Check("structure", Outcome.PASS, "structure-ok", {"parts": 1})
            return Find("jpeg", Kind.PHOTO, "jpg", Stretches(((start, 5000),)), grade, 0.5,
                        ("signatures",), (check,), Facts(4, 3), inside=inside)

        job.add_finds(source.id, [find(0, Grade.PARTIAL), find(600, Grade.REMNANT, "jpeg:0"),
                                  find(1024, Grade.WHOLE, "jpeg:0")])
        inner = next(r for r in job.matching() if r.start == 600)
        self.assertEqual(job.record(inner.id).parent, 1)
        job.add_finds(source.id, [find(0, Grade.WHOLE)])
        self.assertEqual([(r.start, r.grade) for r in job.matching()],
                         [(0, "whole"), (1024, "whole")])
        self.assertEqual(sum(t.finds for t in job.tally()), 2)


if __name__ == "__main__":
    unittest.main()
