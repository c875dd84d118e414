"""Names whose records are gone: told all the same, and given to the one find that they fit."""

from __future__ import annotations

import shutil
import subprocess
import tempfile
import threading
import unittest
from dataclasses import replace
from pathlib import Path

from needlewright.core.checks.grading import Grade
from needlewright.core.codes import Seam, SeamWord
from needlewright.core.contents import Stretches
from needlewright.core.finds import Find, Record
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.jobs.runner import run_search
from needlewright.core.search.plan import Plan
from needlewright.core.sources.files import ImageFile
from needlewright.core.volumes.finding import find_volumes, lost_volumes
from needlewright.core.walks import Facts, Kind
from tests.cards import drivers
from tests.cards.drivers import KINDS, MIB, DriverError
from tests.support import FolderTest, camera_jpeg, noise


def carved(start, size, form="jpeg", name=None, inside=None):
    return Find(form, Kind.PHOTO, "jpg", Stretches(((start, size),)), Grade.WHOLE, 1.0,
                ("signatures",), (), Facts(4, 3), name=name, path=name, inside=inside)


def gone(name, size, at=700, form="jpeg"):
    return Find(form, Kind.PHOTO, "jpg", Stretches(), Grade.GONE, 0.0, ("records",), (), Facts(),
                name=name, path=f"DCIM/{name}", removed=True,
                record=Record(at, size, modified="2031-05-12T06:30:00"))


class NamingTest(FolderTest):
    def setUp(self):
        super().setUp()
        self.job, self.source = job_for_image(self.folder / "job", self.image(noise(9000)))
        self.addCleanup(self.job.close)

    def named(self, *finds):
        self.job.add_finds(self.source.id, finds)
        self.job.name_by_size(self.source.id)
        return {(r.start, r.grade): r.path for r in self.job.matching()}

    def test_one_find_of_that_size_gets_the_name(self):
        self.assertEqual(self.named(carved(4096, 5000), gone("a.jpg", 5000)),
                         {(4096, "whole"): "DCIM/a.jpg"})
        row = self.job.matching()[0]
        record = self.job.record(row.id)
        self.assertEqual((row.removed, row.modified), (True, "2031-05-12T06:30:00"))
        self.assertIn("name-likely", [c.code for c in record.checks])
        self.assertEqual(sum(t.finds for t in self.job.tally()), 1)

    def test_a_record_that_is_read_again_is_not_gone_again(self):
        """After a kill the records are read once more."""
        self.named(carved(4096, 5000), gone("a.jpg", 5000))
        self.assertEqual(self.named(gone("a.jpg", 5000), gone("b.jpg", 5000, at=800)), {
            (4096, "whole"): "DCIM/a.jpg", (800, "gone"): "DCIM/b.jpg"})

    def test_a_clip_that_is_whole_once_all_frames_were_seen_takes_its_pieces_place(self):
        head = replace(carved(4096, 5000, "mp4", name="a.mp4"), kind=Kind.VIDEO,
                       grade=Grade.REMNANT, share=0.0, record=Record(700, 5000))
        made = replace(head, content=Stretches(((4096, 3000), (40_960, 2000))), record=None,
                       grade=Grade.UNPROVEN, name=None, path=None, joined_from=head.key,
                       seams=(Seam(3000, SeamWord.PROVEN, ()),))
        self.job.add_finds(self.source.id, [head])
        self.job.add_finds(self.source.id, [made])
        self.assertEqual(len(self.job.matching()), 2)
        self.job.recheck_finds(self.source.id, [replace(made, grade=Grade.WHOLE, share=1.0)])
        (row,) = self.job.matching()
        self.assertEqual((row.path, row.grade), ("a.mp4", "whole"))
        self.assertEqual(sum(t.finds for t in self.job.tally()), 1)

    def test_a_removed_file_whose_place_is_a_joined_file_s_is_gone(self):
        """Its record leads to bytes that are another's: at its first cluster, or at a later one."""
        record = Record(700, 5000, modified="2031-05-12T06:30:00")
        head = replace(carved(4096, 8000, name="own.jpg"), grade=Grade.REMNANT, share=0.4,
                       removed=True, record=Record(500, 8000))
        whole = replace(carved(4096, 8000), content=Stretches(((4096, 4096), (40_960, 3904))),
                        joined_from=head.key, seams=(Seam(4096, SeamWord.PROVEN, ()),))
        others = [replace(carved(start, 5000, name=name), grade=Grade.PARTIAL, share=0.3,
                          removed=True, record=replace(record, at=at))
                  for start, name, at in ((4096, "first.jpg", 700), (40_960, "later.jpg", 800))]
        live = replace(carved(80_000, 5000, name="live.jpg"), grade=Grade.PARTIAL, removed=False,
                       record=replace(record, at=900))
        for order in ([head, *others, live, whole], [head, whole, live, *others]):
            with self.subTest(order=[f.name for f in order]):
                for find in order:
                    self.job.add_finds(self.source.id, [find])
                self.job.add_finds(self.source.id, others)  # the records are read again
                told = {row.path: (row.grade, row.size) for row in self.job.matching()}
                self.assertEqual(told, {
                    "own.jpg": ("whole", 8000), "first.jpg": ("gone", 5000),
                    "later.jpg": ("gone", 5000), "live.jpg": ("partial", 5000)})
                number = next(r.id for r in self.job.matching() if r.path == "first.jpg")
                self.assertEqual([c.code for c in self.job.record(number).checks], ["gone-foreign"])
                self.assertEqual(sum(t.finds for t in self.job.tally()), 4)
            self.tearDown()
            self.setUp()

    def test_two_of_that_size_and_nobody_is_named(self):
        found = self.named(carved(4096, 5000), carved(20_480, 5000), gone("a.jpg", 5000))
        self.assertEqual(found[4096, "whole"], None)
        self.assertEqual(found[700, "gone"], "DCIM/a.jpg")

    def test_two_names_of_one_size_are_no_proof(self):
        found = self.named(carved(4096, 5000), gone("a.jpg", 5000), gone("b.jpg", 5000, at=800))
        self.assertEqual(found[4096, "whole"], None)

    def test_another_format_another_size_and_small_ones_are_left(self):
        found = self.named(carved(4096, 5000, "png"), gone("a.jpg", 5000), carved(20_480, 4999),
                           carved(40_960, 90), gone("c.jpg", 90, at=900))
        self.assertEqual([found[key] for key in sorted(found) if key[1] == "whole"],
                         [None, None, None])

    def test_what_has_a_name_keeps_it_and_what_lies_inside_gets_none(self):
        outer = Find("jpeg", Kind.PHOTO, "jpg", Stretches(((4096, 9000),)), Grade.PARTIAL, 0.5,
                     ("signatures",), (), Facts())
        found = self.named(carved(40_960, 5000, name="own.jpg"), gone("a.jpg", 5000), outer,
                           carved(5000, 3000, inside=outer.key), gone("b.jpg", 3000, at=900))
        self.assertEqual(found[40_960, "whole"], "own.jpg")
        self.assertEqual(found[5000, "whole"], None)

    def test_what_somebody_reviewed_is_not_taken_away(self):
        self.job.add_finds(self.source.id, [gone("a.jpg", 5000), carved(4096, 5000)])
        lost = next(r.id for r in self.job.matching() if r.grade == "gone")
        self.job.reviews.write_note(lost, "the client asked for this one")
        self.job.name_by_size(self.source.id)
        self.assertEqual(self.job.rows([lost])[0].grade, "gone")


class DriverCase(unittest.TestCase):
    kind = "ext4"

    def setUp(self):
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.folder = Path(place.name)
        if not KINDS[self.kind].there:
            self.skipTest(f"no {self.kind} driver here")

    def volume(self, unit=1024, mib=48):
        image = self.folder / "card.img"
        with image.open("wb") as out:
            out.truncate(mib * MIB)
        drivers.make(self.kind, image, 0, mib * MIB, unit, "FERN", 512)
        try:
            return image, drivers.open_volume(self.kind, image, 0, mib * MIB)
        except DriverError as error:
            self.skipTest(str(error))

    def searched(self, image, *steps):
        job, source = job_for_image(self.folder / f"job {'-'.join(steps)}", image)
        self.addCleanup(job.close)
        for _ in run_search(job, source, Plan(steps), threading.Event()):
            pass
        return job


class ExtNamesTest(DriverCase):
    def test_names_of_inodes_that_serve_other_files_now(self):
        image, driver = self.volume()
        try:
            driver.make_folder("DCIM")
            for number in range(12):
                driver.write(f"DCIM/old {number}.jpg", camera_jpeg(number, 320, 240))
                driver.settle()
            for number in range(12):
                driver.remove(f"DCIM/old {number}.jpg")
            driver.settle()
            for number in range(12):
                driver.write(f"DCIM/new {number}.txt", noise(3000, number))
        finally:
            driver.close()
        names = {r.name for r in self.searched(image, "records").matching()}
        medium = image.read_bytes()
        for number in range(12):
            name = f"old {number}.jpg"
            if name.encode() in medium:
                self.assertIn(name, names)
            self.assertIn(f"new {number}.txt", names)

    def test_superblocks_in_its_own_journal_are_no_former_volumes(self):
        image, driver = self.volume(unit=1024, mib=96)
        try:
            for number in range(120):
                driver.write(f"a{number}.jpg", camera_jpeg(number % 5, 160, 120))
                if number % 2:
                    driver.remove(f"a{number}.jpg")
        finally:
            driver.close()
        with ImageFile(image) as source:
            known = find_volumes(source).volumes
            data = source.read_at(0, source.size)
            self.assertEqual(list(lost_volumes(data, 0, source, known)), [])
        job = self.searched(image, "old-records")
        for row in job.matching():
            content = job.record(row.id).content
            stored = sum(n for o, n in content.spans() if o is not None)
            self.assertLessEqual(content.size, 2 * stored + (1 << 16), row)

    def test_a_volume_of_another_serial_inside_is_told(self):
        image, driver = self.volume(mib=64)
        driver.close()
        inner = self.folder / "inner.img"
        with inner.open("wb") as out:
            out.truncate(16 * MIB)
        subprocess.run(["mkfs.ext4", "-q", "-F", "-b", "1024", "-L", "INNER", str(inner)],
                       check=True)
        with image.open("r+b") as out, inner.open("rb") as data:
            out.seek(40 * MIB)
            shutil.copyfileobj(data, out)
        with ImageFile(image) as source:
            known = [v for v in find_volumes(source).volumes if v.span.start == 0]
            block = source.read_at(40 * MIB, 1 << 16)
            found = list(lost_volumes(block, 40 * MIB, source, known))
        self.assertIn(40 * MIB, {v.span.start for v in found})


class NtfsNamesTest(DriverCase):
    kind = "ntfs"

    def test_names_left_behind_the_ends_of_folders(self):
        image, driver = self.volume(unit=4096)
        try:
            for folder in ("one", "two", "three"):
                driver.make_folder(folder)
                for number in range(3):
                    driver.write(f"{folder}/otter {number}.jpg", camera_jpeg(number, 320, 240))
                for number in range(3):
                    driver.remove(f"{folder}/otter {number}.jpg")
        finally:
            driver.close()
        job = self.searched(image, "records", "signatures")
        names = {r.path for r in job.matching() if r.path}
        self.assertGreaterEqual(sum(name.split("/")[0] in ("one", "two", "three")
                                    for name in names), 3)
        whole = [r for r in job.matching() if r.grade == "whole" and r.format == "jpeg"]
        self.assertTrue(whole)


class RemovedOnlyTest(DriverCase):
    kind = "fat32"

    def test_it_leaks_from_no_step(self):
        image, driver = self.volume(unit=512, mib=40)
        try:
            driver.write("kept.jpg", camera_jpeg(1, 320, 240))
            driver.write("removed.jpg", camera_jpeg(2, 320, 240))
            driver.remove("removed.jpg")
        finally:
            driver.close()
        for step in ("records", "old-records"):
            job, source = job_for_image(self.folder / step, image)
            with job:
                plan = Plan((step,), removed_only=True)
                for _ in run_search(job, source, plan, threading.Event()):
                    pass
                self.assertFalse([r for r in job.matching() if r.removed is False])
