"""The job file: kept through closing, killing and searching again; clear about strangers."""

import os
import signal
import sqlite3
import subprocess
import sys
import threading
import time
import unittest
from unittest import mock

from needlewright.core.checks.grading import Grade
from needlewright.core.contents import Stretches
from needlewright.core.errors import JobError
from needlewright.core.finds import Find
from needlewright.core.jobfile.folder import DATABASE
from needlewright.core.jobfile.migrations import MIGRATIONS
from needlewright.core.jobfile.rows import Filter
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.opening import hash_source, job_for_image
from needlewright.core.jobs.runner import FindsKept, run_search
from needlewright.core.search.events import Found, Progress
from needlewright.core.search.plan import Plan
from needlewright.core.walks import Check, Facts, Kind, Outcome, Part
from tests.support import FolderTest, camera_jpeg, medium, noise

PHOTO = camera_jpeg(1)


def made_up(start: int, grade: Grade = Grade.WHOLE, **facts: object) -> Find:
    return Find("jpeg", Kind.PHOTO, "jpg", Stretches(((start, 1000),)), grade, 0.5, ("signatures",),
                (Check("structure", Outcome.PASS, "structure-ok", {"parts": 3}),),
                Facts(**{"width": 4, "height": 3, **facts}), (Part("EXIF", start, start + 9),),
                thumbnail=b"thumb")


class StoreTest(FolderTest):
    def job(self, **options: object) -> Job:
        job = Job(self.folder / "job", **{"create": True, **options})
        self.addCleanup(job.close)
        return job

    def filled(self) -> tuple[Job, int]:
        job, source = job_for_image(self.folder / "job", self.image(noise(5000)))
        self.addCleanup(job.close)
        job.add_finds(source.id, [
            made_up(512 * i, Grade.PARTIAL if i % 5 == 0 else Grade.WHOLE,
                    taken=f"2031-05-{1 + i % 28:02d}T05:58:12", camera="Brackenfield TC-4")
            for i in range(100)])
        return job, source.id

    def test_labels_stay_with_finds_and_go_with_them(self):
        job, source = self.filled()
        first, second, *_, last = (n for n, *_ in job.find_ids(order="found"))
        job.labels.put("class", {first: "screenshot", second: "icon", last + 1: "icon"})
        job.labels.put("class", {second: "from the camera"})
        job.labels.put("stack", {first: "3"})
        self.assertEqual(job.labels.of(first), {"class": "screenshot", "stack": "3"})
        self.assertEqual(job.labels.all("class"), {first: "screenshot", second: "from the camera"})
        better = made_up(job.rows([first])[0].start, Grade.WHOLE, camera="another")
        self.assertEqual(job.add_finds(source, [better]), [first])
        self.assertEqual(job.labels.of(first), {"class": "screenshot", "stack": "3"})
        with sqlite3.connect(job.folder / DATABASE) as store:
            store.execute("PRAGMA foreign_keys = ON")
            store.execute("DELETE FROM finds WHERE id = ?", (first,))
        store.close()
        self.assertEqual((job.labels.of(first), job.labels.all("stack")), ({}, {}))
        job.labels.replace("class", {last: "icon"})
        self.assertEqual(job.labels.all("class"), {last: "icon"})

    def test_everything_comes_back_after_closing(self):
        job, source = self.filled()
        first = job.find_ids()[0][0]
        job.reviews.put_in_tray([first])
        job.log("job-made", {"a": 1})
        record = job.record(first)
        job.close()
        again = self.job(create=False)
        self.assertEqual(again.record(first), job_record_in_tray(record, again, first))
        self.assertEqual(again.thumbnail(first), b"thumb")
        self.assertEqual(again.reviews.tray_size(), (1, 1000))
        self.assertEqual(again.log_lines()[-1][1:], ("job-made", {"a": 1}))
        self.assertEqual([r.sha256 for r in again.sources()], [None])
        self.assertEqual(len(hash_source(again, again.sources()[0])), 64)
        self.assertEqual(source, again.sources()[0].id)

    def test_searching_again_takes_nothing_away(self):
        job, source = self.filled()
        before = [job.record(i[0]) for i in job.find_ids()]
        self.assertEqual(job.add_finds(source, [made_up(512), made_up(10**6)]), [101])
        self.assertEqual([job.record(i[0]) for i in job.find_ids()][:100], before)
        self.assertEqual(sum(t.finds for t in job.tally()), 101)

    def test_filters_and_orders(self):
        job, _ = self.filled()
        partial = job.matching(Filter(grades=frozenset({"partial"})))
        self.assertEqual(len(partial), 20)
        self.assertEqual(len(job.find_ids(Filter(text="2031-05-03 tc-4"))), 4)
        self.assertEqual(job.find_ids(Filter(text="100%")), [])
        self.assertEqual(job.find_ids(Filter(kinds=frozenset({"audio"}))), [])
        starts = [i[4] for i in job.find_ids(order="origin")]
        self.assertEqual(starts, sorted(starts))
        for order in ("found", "size", "taken", "grade"):
            self.assertEqual(len(job.find_ids(order=order)), 100)

    def test_strangers_are_refused_and_left_alone(self):
        stranger = self.folder / "stranger"
        stranger.mkdir()
        (stranger / "letter.txt").write_text("dear otter")
        other = self.folder / "other"
        other.mkdir()
        with sqlite3.connect(other / DATABASE) as database:
            database.execute("CREATE TABLE mine (x)")
        broken = self.folder / "broken"
        broken.mkdir()
        (broken / DATABASE).write_bytes(noise(9000))
        cases = ((stranger, "job-not-ours"), (other, "job-not-ours"), (broken, "job-damaged"),
                 (stranger / "letter.txt", "job-not-a-folder"))
        for folder, code in cases:
            with self.subTest(code=code), self.assertRaises(JobError) as caught:
                Job(folder, create=True)
            self.assertEqual(caught.exception.code, code)
        with self.assertRaises(JobError) as caught:
            Job(self.folder / "none")
        self.assertEqual(caught.exception.code, "job-missing")
        self.assertEqual([p.name for p in stranger.iterdir()], ["letter.txt"])

    def test_a_newer_schema_is_refused_politely(self):
        self.filled()[0].close()
        with sqlite3.connect(self.folder / "job" / DATABASE) as database:
            database.execute(f"PRAGMA user_version = {len(MIGRATIONS) + 1}")
        with self.assertRaises(JobError) as caught:
            self.job()
        self.assertEqual(caught.exception.code, "job-newer")

    @unittest.skipIf(os.geteuid() == 0, "root may write everywhere")
    def test_read_only(self):
        self.filled()[0].close()
        (self.folder / "job" / DATABASE).chmod(0o444)
        with self.assertRaises(JobError) as caught:
            self.job()
        self.assertEqual(caught.exception.code, "job-read-only")

    def test_an_exchanged_source_is_noticed(self):
        self.filled()
        self.image(noise(6000))
        with self.assertRaises(JobError) as caught:
            job_for_image(self.folder / "job", self.folder / "card.img")
        self.assertEqual(caught.exception.code, "source-changed")

    def test_twenty_thousand_finds_page_quickly_enough_to_use(self):
        job, source = job_for_image(self.folder / "job", self.image(noise(5000)))
        self.addCleanup(job.close)
        for batch in range(20):
            job.add_finds(source.id, [made_up(512 * (1000 * batch + i)) for i in range(1000)])
        items = job.find_ids()
        self.assertEqual(len(items), 20_000)
        self.assertEqual([r.id for r in job.rows([i[0] for i in items[9000:9700]])],
                         [i[0] for i in items[9000:9700]])


def job_record_in_tray(record, job, number):
    """`record` as it must read now that its find is in the tray."""
    import dataclasses

    return dataclasses.replace(record, row=job.rows([number])[0])


class RunnerTest(FolderTest):
    def card(self):
        pieces = [(i * 400_384, PHOTO) for i in range(20)]
        return self.image(medium(pieces, 9_000_000))

    def run_all(self, job, source, stop=None):
        return list(run_search(job, source, Plan(), stop or threading.Event()))

    def test_a_search_is_kept_and_continues(self):
        job, source = job_for_image(self.folder / "job", self.card())
        self.addCleanup(job.close)
        stop = threading.Event()
        for event in run_search(job, source, Plan(), stop):
            if isinstance(event, Progress) and event.done > 3_000_000:
                stop.set()
        kept = len(job.find_ids())
        self.assertLess(kept, 20)
        self.assertEqual(job.searched.steps()[0].ending, "stopped")
        events = self.run_all(job, source)
        self.assertEqual(len(job.find_ids()), 20)
        self.assertEqual(sum(len(e.ids) for e in events if isinstance(e, FindsKept)), 20 - kept)
        self.assertGreaterEqual(sum(isinstance(e, Found) for e in events), 20 - kept)
        self.assertEqual(job.searched.steps()[0].ending, "done")

    def test_killed_at_any_moment_it_reopens(self):
        card = self.card()
        for delay in (0.6, 1.2, 2.0):
            child = subprocess.Popen(
                [sys.executable, "-m", "needlewright", "search", str(card), "--job",
                 str(self.folder / "job")], stderr=subprocess.DEVNULL, stdout=subprocess.DEVNULL)
            time.sleep(delay)  # not for waiting: the moment of death
            child.send_signal(signal.SIGKILL)
            child.wait()
        job, source = job_for_image(self.folder / "job", card)
        self.addCleanup(job.close)
        self.run_all(job, source)
        self.assertEqual([i[4] for i in job.find_ids()], [i * 400_384 for i in range(20)])
        self.assertTrue(all(job.thumbnail(i[0]) for i in job.find_ids()))


class JournalTest(FolderTest):
    def test_shared_file_systems_get_a_rollback_journal(self):
        for kind, mode in (("nfs4", "delete"), ("ext4", "wal"), ("fuse.sshfs", "delete")):
            with mock.patch("needlewright.core.jobfile.folder.file_system_of", return_value=kind):
                job = Job(self.folder / kind, create=True)
            self.assertEqual(job._database.rows("PRAGMA journal_mode")[0][0], mode)
            job.close()
