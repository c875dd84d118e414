"""Where objects meet: who closes, what a limit means, what happens in between."""

from __future__ import annotations

import contextlib
import errno
import io
import json
import logging
import os
import shutil
import sqlite3
import subprocess
import threading
import unittest
from pathlib import Path
from unittest import mock

import av
import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image, ImageChops, ImageStat

from needlewright.cli.program import main
from needlewright.core import kept_open
from needlewright.core.checks import worker_clips
from needlewright.core.delivery import bag
from needlewright.core.delivery.guards import MARKER
from needlewright.core.delivery.readback import ReadBack
from needlewright.core.errors import DeliveryError, JobError, SourceError
from needlewright.core.imaging import reader
from needlewright.core.jobfile import database, migrations
from needlewright.core.jobfile import folder as on_disk
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs import comparing
from needlewright.core.jobs.anew import copy_job
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.jobs.runner import run_search
from needlewright.core.mending import treating
from needlewright.core.phones.phone import Phone
from needlewright.core.search.keeping import by_path
from needlewright.core.search.plan import Plan
from needlewright.core.shelves.backups import finding
from needlewright.demo.clips import encode
from needlewright.wording.bag import words_for
from tests.examples import examples
from tests.support import FolderTest, camera_jpeg, medium, png

CARD = medium([(4096, camera_jpeg(1, 320, 240)), (65_536, png())], 400_000)


class ClipTimesTest(unittest.TestCase):
    def test_a_stream_that_begins_anywhere_is_shown_by_its_own_seconds(self):
        data = encode("mpegts", seed=91, frames=120, coder={"g": "10"})
        with av.open(io.BytesIO(data)) as clip:
            shift = av.open(out := io.BytesIO(), "w", "mpegts", options={"output_ts_offset": "100"})
            copies = {s.index: shift.add_stream_from_template(s) for s in clip.streams}
            for packet in clip.demux():
                if packet.dts is not None:
                    packet.stream = copies[packet.stream.index]
                    shift.mux(packet)
            shift.close()
        shown = {}
        for name, whole in (("plain", data), ("shifted", out.getvalue())):
            with av.open(io.BytesIO(whole)) as clip:
                begins = clip.start_time / 1_000_000
            self.assertEqual(begins > 90, name == "shifted")
            for second in (0.0, 2.0, 4.0):
                answer, pictures = worker_clips.still(io.BytesIO(whole), {
                    "seconds": second, "side": 200}, lambda: None)
                self.assertAlmostEqual(answer["at"], second, delta=0.3)
                shown[name, second] = Image.open(io.BytesIO(pictures[0])).convert("RGB")

        def apart(one, other):
            return sum(ImageStat.Stat(ImageChops.difference(shown[one], shown[other])).mean)

        for second in (0.0, 2.0, 4.0):
            self.assertLess(apart(("plain", second), ("shifted", second)), 12)
        self.assertGreater(apart(("shifted", 0.0), ("shifted", 4.0)), 12)


class DeliveryMeetingsTest(FolderTest):
    def job(self):
        job, source = job_for_image(self.folder / "job", self.image(CARD))
        self.addCleanup(job.close)
        list(run_search(job, source, Plan(), threading.Event()))
        return job

    def test_whatever_ends_the_comparing_is_told(self):
        path = self.image(b"kept")
        back = ReadBack(threading.Event())
        with mock.patch.object(ReadBack, "_compare", side_effect=MemoryError("no room")):
            back.add(path, "data/kept", "")
            back.close()
            while not back.ended(0.1):
                pass
        with self.assertRaises(MemoryError):
            back.check()

    def test_what_came_between_the_guards_and_the_lock_is_not_cleared(self):
        job = self.job()
        to = self.folder / "bag"
        (to / "data").mkdir(parents=True)
        (to / "data" / "theirs.txt").write_text("another's")
        with mock.patch.object(bag, "refuse"), self.assertRaises(DeliveryError) as caught:
            list(bag.deliver(job, job.matching(), to, words_for(job), threading.Event()))
        self.assertEqual(caught.exception.code, "to-not-empty")
        self.assertEqual((to / "data" / "theirs.txt").read_text(), "another's")
        self.assertFalse((to / MARKER).exists())


def zero_page(file, table):
    """Zero the first page of a table of a job file."""
    with contextlib.closing(sqlite3.connect(file)) as store:
        ((page,),) = store.execute("SELECT rootpage FROM sqlite_master WHERE name = ?", (table,))
    data = bytearray(file.read_bytes())
    size = int.from_bytes(data[16:18], "big")
    data[(page - 1) * size : page * size] = bytes(size)
    file.write_bytes(data)


class JobFileTest(FolderTest):
    def setUp(self):
        super().setUp()
        job, self.source = job_for_image(self.folder / "job", self.image(CARD))
        list(run_search(job, self.source, Plan(), threading.Event()))
        self.count = len(job.matching())
        job.close()
        self.file = self.folder / "job" / on_disk.DATABASE

    def test_a_job_with_zeroed_pages_is_told_listed_and_not_searched(self):
        zero_page(self.file, "checks")
        with Job(self.folder / "job") as job:
            self.assertIsNotNone(job.damage)
            with self.assertRaises(JobError) as caught:
                list(run_search(job, self.source, Plan(), threading.Event()))
            self.assertEqual(caught.exception.code, "job-damaged-searched")
        told = io.StringIO()
        with contextlib.redirect_stderr(told), contextlib.redirect_stdout(io.StringIO()):
            main(["finds", "--job", str(self.folder / "job")])
        self.assertEqual(told.getvalue().count("cannot be read"), 1)

    def test_what_can_be_read_of_a_damaged_job_is_copied_and_searched_again(self):
        folder, to = self.folder / "job", self.folder / "new"
        with Job(folder) as job:
            before = {r.id: job.record(r.id) for r in job.matching()}
            job.reviews.write_note(max(before), "the weir at dusk")
            job.labels.put("class", dict.fromkeys(before, "icon"))
        data = bytearray(self.file.read_bytes())
        page = int.from_bytes(data[16:18], "big")
        told = io.StringIO()
        for lost in range(page, len(data), page):  # whatever page it is
            with self.subTest(lost // page), contextlib.redirect_stderr(io.StringIO()):
                self.file.write_bytes(data[:lost] + bytes(page) + data[lost + page:])
                shutil.rmtree(to, ignore_errors=True)
                try:
                    done = copy_job(folder, to, threading.Event())
                except JobError as error:
                    self.assertEqual(error.code, "job-damaged")
                    continue
                with Job(to) as job:
                    self.assertIsNone(job.damage)
                    kept = {r.id: job.record(r.id) for r in job.matching()}
                    self.assertEqual(len(kept), done.finds)
                    for number, record in kept.items():
                        self.assertEqual(record.row.start, before[number].row.start)
                        self.assertEqual((record.content, record.checks),
                                         (before[number].content, before[number].checks))
                        self.assertEqual(job.thumbnail(number) == b"",
                                         not before[number].row.has_thumbnail)
                    self.assertEqual(sum(t.finds for t in job.tally()), len(kept))
                    if job.sources():
                        list(run_search(job, job.sources()[0], Plan(), threading.Event()))
                        self.assertEqual(
                            {(r.start, r.size, r.grade) for r in job.matching()},
                            {(r.row.start, r.row.size, r.row.grade) for r in before.values()})
                        found_again = {r.id for r in job.matching()} - set(kept)
                        self.assertTrue(all(n > max(before) for n in found_again))
                        self.assertTrue(all(job.thumbnail(n) for n in found_again))
        with contextlib.redirect_stdout(told):
            self.file.write_bytes(data)
            main(["copy-job", "--job", str(folder), "--to", str(self.folder / "again")])
        self.assertIn(f"{self.count} finds copied to", told.getvalue())
        with Job(self.folder / "again") as job:
            self.assertEqual(job.reviews.of(max(before)).note, "the weir at dusk")
            self.assertEqual(job.labels.all("class"), dict.fromkeys(before, "icon"))
            self.assertEqual({n: job.record(n) for n in before}, before)
        for wrong, code in ((folder, "job-copy-within"), (folder / "x", "job-copy-within"),
                            (self.folder / "again", "job-copy-taken"),
                            (self.folder, "job-not-ours")):
            with self.subTest(wrong), self.assertRaises(JobError) as caught:
                copy_job(folder, wrong, threading.Event())
            self.assertEqual(caught.exception.code, code)

    def test_a_copy_of_a_job_reads_on_behind_bad_files_and_keeps_off_sources(self):
        folder, plain = self.folder / "job", shutil.copy2
        (folder / "mended").mkdir()
        for name in ("a.jpg", "b.jpg"):
            (folder / "mended" / name).write_bytes(b"otter")
        (folder / "mended" / "elsewhere").symlink_to(self.folder)
        os.mkfifo(folder / "mended" / "pipe")

        def failing(number):
            def copy(path, to):
                if path.name == "a.jpg":
                    raise OSError(number, os.strerror(number))
                return plain(path, to)
            return mock.patch.object(shutil, "copy2", copy)

        with failing(errno.EIO):
            done = copy_job(folder, self.folder / "some", threading.Event())
        self.assertEqual((done.finds, done.missed), (self.count, 1))
        self.assertEqual([p.name for p in (done.folder / "mended").iterdir()], ["b.jpg"])
        with failing(errno.ENOSPC), self.assertRaises(JobError) as caught:
            copy_job(folder, self.folder / "full", threading.Event())
        self.assertEqual(caught.exception.code, "job-not-written")
        shelf = self.folder / "shelf"
        shelf.mkdir()
        (shelf / "otter.jpg").write_bytes(camera_jpeg(3))
        job, _ = job_for_image(self.folder / "of a shelf", shelf)
        job.close()
        with self.assertRaises(JobError) as caught:
            copy_job(job.folder, shelf / "new", threading.Event())
        self.assertEqual(caught.exception.code, "job-in-source")
        self.assertFalse((shelf / "new").exists())

    def test_what_stands_in_the_log_alone_is_seen_where_nothing_may_be_written(self):
        writing = Job(self.folder / "job")
        self.addCleanup(writing.close)
        if writing._database.row("PRAGMA journal_mode")[0] != "wal":
            self.skipTest("no log on this file system")
        writing.set_meta("title", "written last")
        self.assertTrue(Path(f"{self.file}-wal").stat().st_size)
        real = os.access
        with mock.patch.object(database.os, "access", lambda path, mode: (
                False if Path(path) == self.folder / "job" and mode == os.W_OK
                else real(path, mode))), Job(self.folder / "job", read_only=True) as job:
            self.assertEqual(job.title, "written last")
            self.assertEqual(len(job.matching()), self.count)

    def test_two_programs_bring_one_file_up_to_date_once(self):
        path = self.folder / "old.sqlite"

        class Interrupted:
            """Lets another program do the same just before it begins."""

            def __init__(self):
                self.real = sqlite3.connect(path, isolation_level=None)
                self.done = False

            def execute(self, sql, *values):
                if sql == "BEGIN IMMEDIATE" and not self.done:
                    self.done = True
                    migrations.migrate(sqlite3.connect(path, isolation_level=None), "")
                return self.real.execute(sql, *values)

            def __getattr__(self, name):
                return getattr(self.real, name)

        one = Interrupted()
        migrations.migrate(one, "")
        version = one.execute("PRAGMA user_version").fetchone()[0]
        self.assertEqual(version, len(migrations.MIGRATIONS))

    def test_what_is_undone_keeps_its_pictures(self):
        with Job(self.folder / "job") as job:
            number = next(r.id for r in job.matching() if r.has_thumbnail)
            path = on_disk.thumbnail_path(job.folder, number)

            def fails():
                job._writer._drop_pictures(number)
                raise JobError("job-not-written", path="", reason="full")

            with self.assertRaises(JobError):
                job._database.write(fails)
            job.set_meta("title", "something else")
            self.assertTrue(path.exists())
            job._database.write(lambda: job._writer._drop_pictures(number))
            self.assertFalse(path.exists())


class ManyTest(FolderTest):
    @examples(60)
    @given(st.lists(st.lists(st.sampled_from("ab"), max_size=4).map(
        lambda names: "".join(f"{n}/" for n in names)), max_size=5),
        st.lists(st.sampled_from(("a", "b", "ab")), min_size=1, max_size=5).map("/".join))
    def test_hidden_folders_are_those_that_the_path_begins_with(self, hidden, path):
        told = by_path(path, set(hidden))
        self.assertEqual(told is not None, any(path.startswith(folder) for folder in hidden))

    def test_equal_files_are_tied_to_one_of_each_other_source(self):
        rows = [mock.Mock(id=n, source=1 + n % 3, grade="whole" if n > 5 else "partial")
                for n in range(600)]
        pairs = [(v.one, v.other) for v in comparing._all_the_same(rows)]
        self.assertEqual(len(pairs), len(set(pairs)))
        self.assertLess(len(pairs), 3 * len(rows))
        tied = {n for pair in pairs for n in pair}
        self.assertEqual(tied, set(range(600)))
        best = {n for n in range(600) if sum(n in p for p in pairs) > 10}
        self.assertTrue(best and all(n > 5 for n in best), "a sound one stands for its source")

    def test_near_prints_are_the_same_in_parts_as_in_one(self):
        rng = np.random.default_rng(5)
        every = rng.integers(0, 1 << 63, (70, 2), dtype=np.uint64)
        every[40:] = every[:30] ^ np.uint64(0b1011)
        plain = {(i, j) for i in range(70) for j in range(70) if i != j and sum(
            (int(every[i, k]) ^ int(every[j, k])).bit_count() for k in range(2))
            <= comparing.NEAR}
        with mock.patch.object(comparing, "ACROSS", 16), mock.patch.object(comparing, "AT_ONCE", 9):
            found = {pair for begin in range(0, 70, 9) for pair in comparing._near(every, begin)}
        self.assertEqual(found, plain)
        self.assertGreater(len(plain), 50)

    def test_more_places_than_are_looked_at_is_said(self):
        for number in range(30):
            (self.folder / f"place {number}").mkdir()
        with mock.patch.object(finding, "MOST_PLACES", 10):
            found = list(finding.find_backups([self.folder], threading.Event()))
        self.assertEqual(found[-1].problem.code, "backups-not-all")


class EndingTest(FolderTest):
    def test_a_reader_that_ends_before_its_first_word_is_an_error_and_leaves_nothing(self):
        before = len(os.listdir("/proc/self/fd"))
        with mock.patch.object(reader.processes, "start", lambda *args, **named: subprocess.Popen(
                ["/bin/true"], stdin=subprocess.PIPE, stdout=subprocess.PIPE)), (
                    self.assertRaises(SourceError)) as caught:
            reader.ReaderProcess("card.img")
        self.assertEqual(caught.exception.code, "reader-ended")
        process = reader.ReaderProcess(str(self.image(CARD)))
        process.abandon()
        self.assertTrue(process._shared.closed)
        self.assertLessEqual(len(os.listdir("/proc/self/fd")), before)

    def test_of_two_that_are_kept_at_once_the_first_is_ended(self):
        ended = []
        things = [mock.Mock(end=lambda n=n: ended.append(n)) for n in range(2)]
        for thing in things:
            kept_open.keep("test:there", thing)
        self.assertEqual(ended, [0])
        self.assertIs(kept_open.take("test:there"), things[1])

    def test_a_killed_process_that_hangs_is_not_waited_for(self):
        waits = []

        def wait(seconds=None):
            waits.append(seconds)
            if seconds is not None:
                raise subprocess.TimeoutExpired("child", seconds)

        phone = Phone("ptpip://127.0.0.1:1")
        phone._process = mock.Mock(wait=wait)
        phone.close()
        self.assertIsNotNone(waits[0])

    def test_a_fault_of_ours_leaves_its_trace(self):
        broken = self.folder / "a.jpg"
        data = camera_jpeg(1, 320, 240)
        broken.write_bytes(data[: len(data) // 2])
        with mock.patch.object(treating, "_proposals", side_effect=AssertionError("ours")), (
                self.assertLogs(treating.FAULT_LOG, logging.ERROR)) as kept:
            done = list(treating.treat([broken], self.folder / "to", [], threading.Event()))
        self.assertEqual(done[0].why, "fault")
        self.assertIn("AssertionError: ours", kept.output[0])


class ListingTest(FolderTest):
    def run_check(self, where):
        script = Path(os.sys.executable).parent / "needlewright"
        photo = self.image(camera_jpeg(1, 320, 240), "a.jpg")
        return subprocess.run([str(script), "check", str(photo), "--json", where],
                              capture_output=True, text=True, timeout=120)

    def test_a_list_goes_to_standard_output_and_to_devices(self):
        for where in ("-", "/dev/stdout"):
            done = self.run_check(where)
            self.assertEqual(done.returncode, 0, done.stderr)
            self.assertEqual(json.loads(done.stdout)["files"][0]["grade"], "whole")
            self.assertIn("1 whole", done.stderr)
        done = self.run_check("/dev/null")
        self.assertEqual((done.returncode, "1 whole" in done.stdout), (0, True), done.stderr)
        again = self.run_check(str(self.folder / "a.jpg"))
        self.assertNotEqual(again.returncode, 0)
