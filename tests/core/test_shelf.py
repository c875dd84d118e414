"""Files and folders as a source: each file a find with its path, from intake to delivery."""

from __future__ import annotations

import hashlib
import json
import os
import sqlite3
import subprocess
import sys
import threading
from pathlib import Path

from needlewright.core.delivery.bag import deliver, destination_guards
from needlewright.core.errors import JobError, SourceError
from needlewright.core.jobfile.store import Job
from needlewright.core.jobfile.writing import STANDING_ON_SHELF
from needlewright.core.jobs.handwork import Handwork
from needlewright.core.jobs.mending import MendedFind, mend_finds, mendable
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.jobs.runner import run_search
from needlewright.core.search.events import Finished, Progress
from needlewright.core.search.examining import are_files
from needlewright.core.search.plan import Plan
from needlewright.core.search.registry import steps
from needlewright.core.sources.open_folder import FilesShelf, spec_of
from needlewright.core.sources.registry import open_source, short_name, whole_name
from needlewright.core.walks import Kind
from needlewright.wording.activity import search_line
from needlewright.wording.bag import words_for
from tests.mending import damage
from tests.support import FolderTest, png

PROGRAM = Path(sys.executable).parent / "needlewright"


class ShelfTest(FolderTest):
    def setUp(self):
        super().setUp()
        self.client = self.folder / "client"
        whole = damage.photo(2)
        for name, data in {
                "DCIM/BF_1.JPG": damage.photo(3), "DCIM/BF_2.JPG": bytes(900) + whole[900:],
                "DCIM/BF_3.JPG": whole[: len(whole) // 2], "chart.jpg": png(), "empty.jpg": b"",
                "notes.txt": b"three otters\n"}.items():
            path = self.client / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(data)
        os.utime(self.client / "notes.txt", (2e9, 2e9))
        (self.client / "loop").symlink_to(self.client)

    def job(self, *paths: Path) -> Job:
        job, row = job_for_image(self.folder / "job", spec_of(paths or [self.client]))
        self.addCleanup(job.close)
        self.row = row
        return job

    def search(self, job: Job, **plan) -> list:
        return list(run_search(job, self.row, Plan(tuple(steps()), **plan), threading.Event()))

    def grades(self, job: Job) -> dict[str, str]:
        return {row.path: row.grade for row in job.matching() if "mended" not in row.found_by}

    def test_a_text_of_one_byte_proves_nothing(self):
        for name, data in (("one.txt", b"x"), ("line.txt", b"seen at weir 4\n")):
            (self.client / name).write_bytes(data)
        job = self.job()
        self.search(job)
        self.assertEqual((self.grades(job)["one.txt"], self.grades(job)["line.txt"]),
                         ("unproven", "whole"))

    def test_progress_counts_files_and_each_is_looked_up_by_its_path(self):
        job = self.job()
        told = [e for e in self.search(job) if isinstance(e, Progress)]
        self.assertEqual((told[0].files, told[-1].files), ((0, 6), (6, 6)))
        self.assertIn("6 of 6 files", search_line("client", told[-1]))
        with sqlite3.connect(job.folder / "job.sqlite") as opened:
            plan = opened.execute(f"EXPLAIN QUERY PLAN {STANDING_ON_SHELF}", (1, "a", "b"))
            self.assertIn("finds_by_path", str(plan.fetchall()))

    def test_every_file_is_a_find_with_its_path_and_nothing_is_touched(self):
        before = {p: p.stat().st_mtime_ns for p in self.client.rglob("*")}
        job = self.job()
        self.search(job)
        told = {"DCIM/BF_1.JPG": "whole", "DCIM/BF_2.JPG": "remnant", "DCIM/BF_3.JPG": "partial",
                "chart.jpg": "whole", "empty.jpg": "gone", "notes.txt": "whole"}
        self.assertEqual(self.grades(job), told)
        rows = {row.path: row for row in job.matching()}
        self.assertEqual(rows["notes.txt"].modified, "2033-05-18T03:33:20Z")
        self.assertIn("name-promises", [c.code for c in job.record(rows["chart.jpg"].id).checks])
        self.assertEqual(job.places.spans(self.row.id)[0][1], rows["chart.jpg"].start)
        self.search(job)  # again: nothing is told twice
        self.assertEqual(self.grades(job), told)
        self.assertEqual({p: p.stat().st_mtime_ns for p in self.client.rglob("*")}, before)
        with self.assertRaises(JobError):
            Handwork(job, rows["DCIM/BF_3.JPG"].id, threading.Event())

    def test_files_that_came_meanwhile_are_added_under_the_old_numbers(self):
        job = self.job()
        self.search(job, kinds=frozenset({Kind.PHOTO}))
        self.assertNotIn("notes.txt", self.grades(job))
        numbers = {row.path: row.id for row in job.matching()}
        (self.client / "DCIM" / "BF_0.JPG").write_bytes(damage.photo(4))
        (self.client / "DCIM" / "BF_3.JPG").write_bytes(damage.photo(2))
        self.search(job)
        grades = self.grades(job)
        self.assertEqual((grades["DCIM/BF_0.JPG"], grades["DCIM/BF_3.JPG"]), ("whole", "whole"))
        self.assertEqual(numbers, {row.path: row.id for row in job.matching()
                                   if row.path in numbers})

    def test_stopped_it_goes_on_and_a_file_that_went_is_told(self):
        job, stop = self.job(), threading.Event()
        events = []
        for event in run_search(job, self.row, Plan(("files",)), stop):
            stop.set()
            events.append(event)
        self.assertTrue(isinstance(events[-1], Finished) and events[-1].ending == "stopped")
        (self.client / "notes.txt").chmod(0)
        events = self.search(job)
        self.assertEqual(events[-1].ending, "done")
        self.assertGreaterEqual(len(self.grades(job)), 5)

    def test_mended_and_delivered(self):
        job = self.job()
        self.search(job)
        done = [e for e in mend_finds(job, mendable(job), threading.Event())
                if isinstance(e, MendedFind)]
        self.assertEqual(sum(d.kept is not None for d in done), 2)
        self.assertEqual(len(job.links.treated()), len(done))
        rows = job.matching()
        list(deliver(job, rows, self.folder / "bag", words_for(job), threading.Event()))
        listed = json.loads((self.folder / "bag" / "finds.json").read_text())["finds"]
        files = {told["path"]: told["file"] for told in listed if told["mended_from"] is None}
        for path in ("DCIM/BF_1.JPG", "DCIM/BF_2.JPG", "notes.txt"):
            self.assertEqual((self.folder / "bag" / files[path]).read_bytes(),
                             (self.client / path).read_bytes())
        inside = destination_guards(job, rows, self.client / "out")
        self.assertFalse(all(guard.holds for guard in inside))

    def test_what_is_refused(self):
        (self.folder / "bare").mkdir()
        with self.assertRaises(SourceError):
            job_for_image(self.folder / "other", spec_of([self.folder / "bare"]))
        with self.assertRaises(SourceError):
            job_for_image(self.folder / "other", "files:[1]")
        with self.assertRaises(JobError) as told:  # into what the client brought
            job_for_image(self.client / "job", str(self.client))
        self.assertEqual(told.exception.code, "job-in-source")
        job = self.job()
        with self.assertRaises(JobError):
            list(run_search(job, self.row, Plan(("signatures",)), threading.Event()))
        (self.folder / "private.txt").write_text("not the client's")
        shelf = FilesShelf([self.client], "client")
        key = shelf.entries()[0].key.split("/")[0]
        for strange in (f"{key}/../private.txt", "x/notes.txt", f"{key}//etc/hostname", ""):
            with self.subTest(strange), self.assertRaises(SourceError):
                shelf.fetch(strange)

    def test_loose_files_and_what_counts_as_such(self):
        one, two = self.client / "notes.txt", self.client / "DCIM"
        spec = whole_name(spec_of([one, two, two / "BF_1.JPG"]))
        self.assertEqual(short_name(spec), "notes.txt and 2 more")
        with open_source(spec) as shelf:
            self.assertEqual([e.path for e in shelf.entries()], [
                "notes.txt", "DCIM/BF_1.JPG", "DCIM/BF_2.JPG", "DCIM/BF_3.JPG"])
            line = b"".join(shelf.read_at(at, 700) for at in range(0, shelf.size, 700))
            for entry in shelf.entries():
                with shelf.fetch(entry.key) as file:
                    data = file.read_at(0, file.size)
                self.assertEqual(data, entry.file.read_bytes())
                self.assertEqual(line[entry.at : entry.at + entry.size], data)
        (self.folder / "card.img").write_bytes(b"x")
        self.assertTrue(are_files([one, two / "BF_1.JPG"]) or not are_files([one]))
        self.assertTrue(are_files([two, two / "BF_1.JPG"]))
        self.assertFalse(are_files([self.folder / "card.img"]))

    def test_strange_names_and_what_is_no_file(self):
        os.mkfifo(self.client / "pipe.jpg")
        (self.client / "two\nlines.txt").write_text("otters at weir 4")
        (Path(os.fsdecode(os.fsencode(self.client) + b"/\xff.txt"))).write_text("otters at weir 4")
        job = self.job()
        self.search(job)
        grades = self.grades(job)
        self.assertNotIn("pipe.jpg", grades)
        self.assertEqual(grades["two<U+000A>lines.txt"], "whole")
        self.assertEqual(grades["\ufffd.txt"], "whole")
        rows = [row for row in job.matching() if row.path in ("\ufffd.txt",
                                                              "two<U+000A>lines.txt")]
        list(deliver(job, rows, self.folder / "bag", words_for(job), threading.Event()))
        self.assertEqual([p.read_text() for p in (self.folder / "bag" / "data").iterdir()],
                         ["otters at weir 4"] * 2)

    def test_from_the_command_line(self):
        done = subprocess.run(
            [str(PROGRAM), "run", "client/DCIM", "--job", "job", "--to", "bag", "--hash"],
            capture_output=True, text=True, cwd=self.folder, check=False)
        self.assertEqual(done.returncode, 0, done.stderr)
        for command in (("image", "client", "--job", "other"), ("forecast", "client")):
            refused = subprocess.run([str(PROGRAM), *command], capture_output=True, text=True,
                                     cwd=self.folder, check=False)
            self.assertEqual(refused.returncode, 1)
            self.assertIn("is a folder", refused.stderr)
        copied = (self.folder / "bag" / "data" / "BF_2.JPG").read_bytes()
        self.assertEqual(hashlib.sha256(copied).digest(), hashlib.sha256(
            (self.client / "DCIM" / "BF_2.JPG").read_bytes()).digest())
