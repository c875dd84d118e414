"""The command line: success and failure, wrong arguments, Ctrl+C, no display."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.opening import job_for_image
from tests.support import FolderTest, camera_jpeg, medium, noise, png, program

PROGRAM = Path(sys.executable).parent / "needlewright"


class CommandTest(FolderTest):
    def call(self, *arguments, **more):
        surroundings = {k: v for k, v in os.environ.items()
                        if k not in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")}
        if not more:
            return program(*arguments, cwd=self.folder, env=surroundings)
        return subprocess.run([str(PROGRAM), *map(str, arguments)], capture_output=True, text=True,
                              timeout=120, env=surroundings, cwd=self.folder, **more)

    def card(self, name="card.img"):
        return self.image(medium([(4096, camera_jpeg(1)), (1 << 19, png())], 1 << 20), name)

    def check(self, done, status, *parts):
        self.assertEqual(done.returncode, status, done.stderr)
        self.assertNotIn("Traceback", done.stderr)
        for part in parts:
            self.assertIn(part, done.stderr + done.stdout)

    def test_what_is_wrong_with_arguments_is_status_2(self):
        self.card()
        job = ("--job", "job", "--to", "bag")
        for arguments, part in (
                (("serach",), "neither a command nor a job folder"),
                (("nowhere at all",), "neither a command"),
                (("job", "another"), "Give one job folder"),
                (("run", "card.img", *job, "--steps", "kept-copies"), "cannot be searched that"),
                (("run", "ptpip://a:b", *job), "no address"),
                (("standin", "x"), "invalid choice"),
                (("run", "card.img", *job, "--steps", ""), "nothing is chosen"),
                (("run", "card.img", *job, "--kinds", ""), "nothing is chosen"),
                (("run", "card.img", *job, "--kinds", "photo,unicorn"), "not one of"),
                (("run", "card.img", *job, "--formats", "docx"), "not one of"),
                (("run", "card.img", *job, "--folder", "NOSUCH"), "No record names"),
                (("run", "card.img", *job, "--folder", "/"), "no folder is named"),
                (("run", "card.img", *job, "--reference", "nofile"), "there is no file"),
                (("run", "card.img", "--job", "job"), "--to"),
                (("run",), "SOURCE"),
                (("search", "--job", "job", "--area", "9:3"), "START:END"),
                (("deliver", "--job", "job", "--to", "bag", "--ids", "x"), "no list"),
                (("deliver", "--job", "job", "--to", "bag", "--grades", "gone"), "not one of"),
                (("demo", "--headless"), "expected one argument")):
            with self.subTest(arguments):
                self.check(self.call(*arguments), 2, part)

    def test_without_a_display_it_says_so(self):
        for arguments in ((), ("demo",)):
            self.check(self.call(*arguments), 1, "no display")

    def test_simulated_things_want_a_display_or_none(self):
        for what in ("phone", "album", "sync"):
            self.check(self.call("standin", what), 1, "give --headless")
        self.check(self.call("standin", "album", "--headless", "--faults", "missing.json"), 1,
                   "missing.json")
        self.check(self.call("standin", "--help"), 0)

    def test_failures_are_one_line(self):
        for arguments, part in (
                (("search", "missing.img", "--job", "job"), "There is no file"),
                (("search", "--job", "nojob"), "There is no job"),
                (("deliver", "--job", "nojob", "--to", "bag"), "There is no job"),
                (("run", ".", "--job", "job", "--to", "bag"), "lies in the folder")):
            with self.subTest(arguments):
                done = self.call(*arguments)
                self.check(done, 1, part)
                self.assertEqual(len(done.stderr.strip().splitlines()), 1)

    def test_a_whole_run_with_every_way_to_deliver(self):
        self.card()
        done = self.call("run", "card.img", "--job", "job", "--to", "bag")
        self.check(done, 0, "2 files")
        listed = json.loads((self.folder / "bag" / "finds.json").read_text())["finds"]
        photo = next(f["id"] for f in listed if f["format"] == "jpeg")
        dry = self.call("deliver", "--job", "job", "--to", "dry", "--ids", str(photo), "--dry-run")
        self.check(dry, 0, "1 file", "nothing was written")
        self.assertFalse((self.folder / "dry").exists())
        self.check(self.call("deliver", "--job", "job", "--to", "one", "--ids", str(photo)), 0,
                   "1 file")
        self.assertEqual(len(list((self.folder / "one" / "data").iterdir())), 1)
        self.check(self.call("deliver", "--job", "job", "--to", "two", "--ids", "4711"), 2,
                   "no find number 4711")
        self.check(self.call("deliver", "--job", "job", "--to", "three", "--grades", "whole",
                             "--removed-only"), 1, "Nothing is chosen")
        self.check(self.call("deliver", "--job", "job", "--to", "four", "--kinds", "photo",
                             "--folder", "DCIM"), 2, "No record names")
        for more in ((), ("--dry-run",)):
            self.check(self.call("deliver", "--job", "job", "--to", "five", *more), 1, "tray")
            self.check(self.call("deliver", "--job", "job", "--to", "six", "--removed-only", *more),
                       1, "Nothing is chosen")
        self.check(self.call("deliver", "--job", "job", "--to", "bag", "--grades", "whole"), 1,
                   "not empty")

    def test_one_unreadable_find_is_counted_and_is_no_failure(self):
        card = self.card()
        self.check(self.call("run", "card.img", "--job", "job", "--to", "bag"), 0)
        with card.open("r+b") as out:
            out.truncate(1 << 19)
        with Job(self.folder / "job") as job:
            job._database.run("UPDATE sources SET size = ?", (1 << 19,))
        done = self.call("deliver", "--job", "job", "--to", "again", "--grades", "whole")
        self.check(done, 0, "1 file", "1 find could not be delivered")

    def test_interrupted_it_keeps_what_it_found(self):
        photo = camera_jpeg(2)
        card = self.image(medium([(1 << 20, photo)], 1 << 20) + photo + noise(120 << 20), "big.img")
        running = subprocess.Popen(
            [str(PROGRAM), "search", str(card), "--job", str(self.folder / "job"), "--steps",
             "signatures", "--every-byte"], stderr=subprocess.PIPE, stdout=subprocess.PIPE,
            text=True)
        until = time.monotonic() + 60
        while time.monotonic() < until and running.poll() is None:
            if (self.folder / "job" / "job.sqlite").exists():
                with Job(self.folder / "job", read_only=True) as job:
                    if job.searched.steps():
                        break
        running.send_signal(signal.SIGINT)
        out, err = running.communicate(timeout=60)
        self.assertNotIn("Traceback", err)
        if running.returncode == 1:
            self.assertIn("interrupted; what was saved is safe", err)
        with Job(self.folder / "job") as job:
            self.assertTrue(job.sources())
        self.check(self.call("search", "--job", "job", "--steps", "signatures", "--every-byte"), 0,
                   "1 find")
        del out

    def test_results_and_progress_go_their_own_ways(self):
        self.card()
        done = self.call("search", "card.img", "--job", "job")
        self.assertIn("2 finds", done.stdout)
        self.assertNotIn("finds", done.stderr)

    def test_a_damaged_job_file_is_one_sentence(self):
        job, _ = job_for_image(self.folder / "job", self.card())
        job.close()
        (self.folder / "job" / "job.sqlite").write_bytes(b"no database at all" * 400)
        for command in (("search", "--job", "job"), ("deliver", "--job", "job", "--to", "b")):
            self.check(self.call(*command), 1, "cannot be read")
