"""A job file that is damaged, locked, full or read-only: one sentence, and what can be read."""

from __future__ import annotations

import random
import sqlite3
import threading
import time
import unittest
from unittest import mock

from needlewright.core.checks.grading import Grade
from needlewright.core.contents import (
    Inline,
    Packed,
    Place,
    ShelfObject,
    Stored,
    Stretches,
    content_from,
)
from needlewright.core.errors import JobError, SourceError
from needlewright.core.finds import INSIDE, JOINED_FROM, TWIN, Find, Record, key_of
from needlewright.core.jobfile import database
from needlewright.core.jobfile.folder import DATABASE, thumbnail_path
from needlewright.core.jobfile.reviews import ASIDE, LATER, MAX_NOTE, NOTHING_SAID, TRAY
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.sources.memory import MemorySource
from needlewright.core.sources.open_folder import FilesShelf
from needlewright.core.volumes.base import Coded
from needlewright.core.walks import Break, Check, Facts, Kind, Outcome
from needlewright.wording import errors
from tests.support import FolderTest, noise


def find(start, grade=Grade.WHOLE, size=1000, form="jpeg", **more):
    return Find(form, Kind.PHOTO, "jpg", Stretches(((start, size),)), grade, 0.5, ("signatures",),
                (Check("structure", Outcome.PASS, "structure-ok", {"parts": 3}),), Facts(4, 3),
                **more)


class JobCase(FolderTest):
    def setUp(self):
        super().setUp()
        self.job, self.source = job_for_image(self.folder / "job", self.image(noise(5000)))
        self.addCleanup(self.job.close)

    def fill(self, count=400):
        self.job.add_finds(self.source.id, [
            find(512 * i, name=f"BF_{i:04}.JPG", path=f"DCIM/BF_{i:04}.JPG") for i in range(count)])


class DamageTest(JobCase):
    def spoilt(self, seed, pages=6):
        """The job reopened after whole pages of its file were overwritten."""
        self.fill()
        self.job._database.rows("PRAGMA wal_checkpoint(TRUNCATE)")
        self.job.close()
        path = self.folder / "job" / DATABASE
        data = bytearray(path.read_bytes())
        rng = random.Random(seed)
        for _ in range(pages):
            page = rng.randrange(8, len(data) // 4096)
            data[page * 4096 : page * 4096 + 4096] = rng.randbytes(4096)
        path.write_bytes(data)
        job = Job(self.folder / "job")
        self.addCleanup(job.close)
        return job

    def test_nothing_but_our_own_errors_and_what_can_be_read(self):
        readable = 0
        for seed in range(4):
            with self.subTest(seed):
                self.tearDown()
                self.setUp()
                try:
                    job = self.spoilt(seed)
                except JobError as error:
                    self.assertEqual(error.code, "job-damaged")
                    continue
                calls = (job.sources, job.tally, job.searched.steps, job.log_lines,
                         job.reviews.tray_size,
                         lambda job=job: job.find_ids(order="name"), job.matching,
                         lambda job=job: job.rows([1, 2, 3]), lambda job=job: job.record(1),
                         lambda job=job: job.searched.volumes(1),
                         lambda job=job: job.places.spans(1),
                         lambda job=job: job.reviews.put_in_tray([1, 2]),
                         lambda job=job: job.add_finds(1, [find(10**6)]))
                for call in calls:
                    try:
                        call()
                    except JobError as error:
                        self.assertTrue(errors.explain(error).endswith("."))
                rows = job.find_ids()
                readable += len(rows)
                self.assertEqual(len({row[0] for row in rows}), len(rows))
        self.assertGreater(readable, 0)

    def test_a_file_of_rubbish_is_one_sentence(self):
        path = self.folder / "rubbish"
        path.mkdir()
        for data in (b"no database", noise(9000), b"SQLite format 3\0" + noise(5000)):
            (path / DATABASE).write_bytes(data)
            with self.assertRaises(JobError) as caught:
                Job(path)
            self.assertIn(caught.exception.code, ("job-damaged", "job-not-ours"))


class BusyTest(FolderTest):
    def test_a_file_that_another_program_holds_is_not_damaged(self):
        path = self.folder / "held.sqlite"
        holder, other = (sqlite3.connect(path, timeout=0, isolation_level=None) for _ in range(2))
        self.addCleanup(other.close)
        self.addCleanup(holder.close)
        holder.execute("CREATE TABLE holts (name TEXT)")
        holder.execute("BEGIN EXCLUSIVE")
        self.addCleanup(database._let_go, "held")
        with self.assertRaises(sqlite3.OperationalError):
            other.execute("PRAGMA quick_check(1)")
        self.assertIsNone(database._looked_through("held", other))


class WritingTest(JobCase):
    def test_locked_by_another_program(self):
        other = sqlite3.connect(self.folder / "job" / DATABASE, isolation_level=None)
        self.addCleanup(other.close)
        other.execute("BEGIN IMMEDIATE")
        self.job._database.rows("PRAGMA busy_timeout = 50")
        with self.assertRaises(JobError) as caught:
            self.job.reviews.put_in_tray([1])
        self.assertEqual(caught.exception.code, "job-not-written")
        other.execute("ROLLBACK")
        self.job.reviews.put_in_tray([1])

    def test_a_full_disk_in_the_middle_loses_nothing_that_was_saved(self):
        self.fill(50)
        self.job._database.rows("PRAGMA max_page_count = 60")
        with self.assertRaises(JobError) as caught:
            for block in range(1, 40):
                self.job.add_finds(self.source.id, [
                    find((block * 500 + i) * 512) for i in range(500)])
        self.assertEqual(caught.exception.code, "job-not-written")
        self.assertGreaterEqual(len(self.job.find_ids()), 50)
        self.assertEqual(sum(t.finds for t in self.job.tally()), len(self.job.find_ids()))

    def test_writers_of_one_process_take_turns(self):
        others = [Job(self.folder / "job") for _ in range(4)]
        failed = []

        def write(job, number):
            try:
                for i in range(25):
                    job.add_finds(self.source.id, [find((number * 1000 + i) * 512)])
            except JobError as error:
                failed.append(error)

        threads = [threading.Thread(target=write, args=(job, n)) for n, job in enumerate(others)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        for job in others:
            job.close()
        self.assertEqual(failed, [])
        self.assertEqual(len(self.job.find_ids()), 100)

    def test_the_tray_answers_during_a_heavy_batch(self):
        """A key press must not wait for a whole search's finds: batches are short."""
        self.fill(10)
        done, waits = threading.Event(), []

        def heavy():
            with Job(self.folder / "job") as job:
                block = 1
                while not done.is_set():
                    job.add_finds(self.source.id, [find((block * 250 + i) * 512)
                                                   for i in range(250)])
                    block += 1

        thread = threading.Thread(target=heavy)
        thread.start()
        try:
            for number in range(1, 9):
                began = time.monotonic()
                self.job.reviews.put_in_tray([number])
                waits.append(time.monotonic() - began)
        finally:
            done.set()
            thread.join()
        self.assertEqual(self.job.reviews.tray_size()[0], 8)
        self.assertEqual(len(waits), 8)

    def test_a_find_keeps_its_number_and_what_was_said_of_it(self):
        self.job.add_finds(self.source.id, [find(0, Grade.PARTIAL, thumbnail=b"old")])
        number = self.job.find_ids()[0][0]
        self.job.reviews.put_in_tray([number])
        self.job.reviews.write_note(number, "ask about this one")
        self.job.add_finds(self.source.id, [find(0, Grade.WHOLE, 2000)])
        record = self.job.record(number)
        self.assertEqual((record.row.grade, record.row.size, record.row.in_tray),
                         ("whole", 2000, True))
        self.assertEqual(self.job.reviews.of(number).note, "ask about this one")
        self.assertFalse(record.row.has_thumbnail)
        self.assertEqual(self.job.thumbnail(number), b"", "it showed the older version's picture")

    def test_pictures_go_with_their_find(self):
        broken = find(0, Grade.PARTIAL, 9000)
        inner = find(600, Grade.REMNANT, 500, inside=broken.key, thumbnail=b"inner")
        self.job.add_finds(self.source.id, [broken, inner])
        number = next(r.id for r in self.job.matching() if r.start == 600)
        self.assertTrue(thumbnail_path(self.job.folder, number).exists())
        self.job.add_finds(self.source.id, [find(0, Grade.WHOLE, 9000)])
        self.assertFalse(thumbnail_path(self.job.folder, number).exists())
        self.job.add_finds(self.source.id, [find(1 << 20, thumbnail=b"new")])
        fresh = next(r.id for r in self.job.matching() if r.start == 1 << 20)
        self.assertGreater(fresh, number)

    def test_links_wait_for_what_they_name(self):
        broken = find(0, Grade.PARTIAL, 9000)
        self.job.add_finds(self.source.id, [find(512, inside=broken.key)])
        inner = self.job.find_ids()[0][0]
        self.assertEqual(self.job.links.of(inner, INSIDE), [])
        self.job.add_finds(self.source.id, [broken])
        outer = next(r.id for r in self.job.matching() if r.start == 0)
        self.assertEqual(self.job.links.of(inner, INSIDE), [outer])
        self.job.links.add(inner, outer, TWIN, "same bytes")
        self.job.links.add(inner, outer, JOINED_FROM)
        self.assertEqual(self.job.links.of(outer, TWIN, back=True), [inner])

    def test_where_a_find_breaks_is_kept_for_who_joins(self):
        place = Break(700, "sample", 800)
        self.job.add_finds(self.source.id, [find(0, Grade.PARTIAL, 9000, broken=place),
                                            find(20_000, Grade.WHOLE)])
        self.assertEqual([row[1:] for row in self.job.places.broken(self.source.id)],
                         [("jpeg:0", "jpeg", 700, "sample")])

    def test_a_picture_that_cannot_be_written_is_a_job_error(self):
        with mock.patch("pathlib.Path.write_bytes", side_effect=OSError("full")), self.assertRaises(
                JobError):
            self.job.add_finds(self.source.id, [find(0, thumbnail=b"x")])


class ReviewsTest(JobCase):
    def setUp(self):
        super().setUp()
        self.fill(5)
        self.reviews = self.job.reviews

    def test_each_mark_for_itself(self):
        for field in (TRAY, ASIDE, LATER):
            self.assertEqual(self.reviews.mark(field, [1, 2], True), 2)
            self.assertEqual(self.reviews.mark(field, [2, 3], True), 1)
        said = self.reviews.of(2)
        self.assertTrue(said.tray and said.aside and said.later)
        for field in (TRAY, ASIDE, LATER):
            self.reviews.mark(field, [1, 2, 3], False)
        self.assertEqual(self.reviews.of(2), NOTHING_SAID)
        self.assertEqual(self.job._database.rows("SELECT count(*) FROM reviews"), [(0,)])
        with self.assertRaises(ValueError):
            self.reviews.mark("note; DROP TABLE finds", [1], True)

    def test_undo_takes_back_one_step_at_a_time(self):
        self.reviews.mark(TRAY, [1, 2, 3], True)
        self.reviews.write_note(4, "a holt")
        self.reviews.mark(TRAY, [2], False)
        self.reviews.write_note(4, "another holt")
        self.assertEqual(self.reviews.undo(), (4,))
        self.assertEqual(self.reviews.of(4).note, "a holt")
        self.assertEqual(self.reviews.undo(), (2,))
        self.assertEqual(self.reviews.tray_size()[0], 3)
        self.assertEqual(self.reviews.undo(), (4,))
        self.assertEqual(sorted(self.reviews.undo()), [1, 2, 3])
        self.assertEqual(self.reviews.tray_size(), (0, 0))
        self.assertEqual(self.reviews.undo(), ())

    def test_what_is_gone_never_gets_into_the_tray(self):
        self.job.add_finds(self.source.id, [find(
            999 * 512, Grade.GONE, record=Record(999 * 512, 77), name="x", path="x")])
        gone = next(r.id for r in self.job.matching() if r.grade == "gone")
        self.assertEqual(self.reviews.mark(TRAY, [gone, 4711], True), 0)
        self.assertEqual(self.reviews.mark(LATER, [gone], True), 1)

    def test_notes_have_a_length_and_unknown_finds_none(self):
        self.reviews.write_note(1, "x" * 9000)
        self.assertEqual(len(self.reviews.of(1).note), MAX_NOTE)
        self.reviews.write_note(4711, "nobody")
        self.assertEqual(self.reviews.of(4711), NOTHING_SAID)
        self.reviews.write_note(1, "  ")
        self.assertEqual(self.reviews.of(1), NOTHING_SAID)


class ContentTest(FolderTest):
    data = bytes(range(256)) * 40

    def every(self):
        stored = self.folder / "mended" / "1.jpg"
        stored.parent.mkdir(exist_ok=True)
        stored.write_bytes(self.data[:700])
        import zlib

        packed = zlib.compress(self.data[:4096])
        medium = MemorySource(self.data + packed)
        coded = Coded(((len(self.data), len(packed)),), 4096, "zlib", 4096)
        place = Place(medium, self.folder)
        yield place, Stretches(((256, 100), (None, 5), (0, 3))), (
            self.data[256:356] + bytes(5) + self.data[:3])
        yield place, Packed((coded, (512, 10)), 4106), self.data[:4096] + self.data[512:522]
        yield place, Inline(b"otter", 77), b"otter"
        yield place, Stored("mended/1.jpg", "00" * 32, 700), self.data[:700]
        shelf = FilesShelf([self.folder], "files")
        entry = next(e for e in shelf.entries() if e.path == "mended/1.jpg")
        yield Place(shelf), ShelfObject(entry.key, 700), self.data[:700]

    def test_every_way_opens_measures_and_round_trips(self):
        for place, content, wanted in self.every():
            with self.subTest(type(content).__name__):
                self.assertEqual(content.size, len(wanted))
                with content.open(place) as source:
                    self.assertEqual(source.read_at(0, source.size), wanted)
                self.assertEqual(content_from(content.as_json()), content)
                self.assertTrue(all(length > 0 for _, length in content.spans()))

    def test_what_is_not_at_hand_is_a_source_error(self):
        for _, content, _ in self.every():
            if not isinstance(content, Inline):
                with self.assertRaises(SourceError):
                    content.open(Place())

    def test_a_strange_job_names_no_file_outside_its_folder(self):
        outside = self.image(self.data, "private.txt")
        inside = self.folder / "strange"
        inside.mkdir()
        (inside / "link").symlink_to(outside)
        for file in (str(outside), "../private.txt", "link"):
            with self.subTest(file), self.assertRaises(SourceError):
                Stored(file, "00" * 32, 700).open(Place(None, inside))

    def test_what_no_job_of_ours_holds_is_damage(self):
        for told in ({}, {"kind": "spell"}, {"kind": "inline", "at": 1, "data": "xyz"},
                     {"kind": "stretches", "extents": [[1]]}, {"kind": "packed", "size": 1},
                     {"kind": "stored"}, {"kind": "object", "key": "x", "size": "many"}):
            with self.subTest(told), self.assertRaises(JobError):
                content_from(told)

    def test_keys(self):
        self.assertEqual(key_of("jpeg", 512), "jpeg:512")
        self.assertEqual(key_of("jpeg", 512, "7:a:b"), "jpeg:512:7:a:b")


if __name__ == "__main__":
    unittest.main()
