"""A job file with changed bytes: what can be read is listed, the rest is one sentence."""

import contextlib
import io
import random
import shutil
import sqlite3
import threading

from needlewright.cli.program import main
from needlewright.core.errors import JobError
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.jobs.runner import run_search
from needlewright.core.search.plan import Plan
from needlewright.core.search.registry import steps
from tests.support import FolderTest, camera_jpeg, medium

CHANGED = 60  # bytes of each copy


class OddJobTest(FolderTest):
    def setUp(self) -> None:
        super().setUp()
        image = self.folder / "card.img"
        image.write_bytes(medium([(4096 + n * 65_536, camera_jpeg(n, 320, 240))
                                  for n in range(6)], 400_000 + 8192))
        self.whole = self.folder / "job"
        job, row = job_for_image(self.whole, str(image))
        list(run_search(job, row, Plan(tuple(steps())), threading.Event()))
        self.ids = [found.id for found in job.matching()]
        job.close()
        self.assertEqual(len(self.ids), 6)

    def told(self, *arguments: str) -> tuple[int, str, str]:
        out, err = io.StringIO(), io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            code = main([*arguments])
        return code, out.getvalue(), err.getvalue()

    def copy(self) -> tuple[str, sqlite3.Connection]:
        """A copy of the job, and its file opened."""
        place = self.folder / "copy"
        shutil.rmtree(place, ignore_errors=True)
        shutil.copytree(self.whole, place)
        opened = sqlite3.connect(place / "job.sqlite")
        self.addCleanup(opened.close)
        return str(place), opened

    def test_changed_bytes_never_end_in_more_than_a_sentence(self):
        data = (self.whole / "job.sqlite").read_bytes()
        for seed in range(25):
            rng, broken = random.Random(seed), bytearray(data)
            end = len(data) if seed % 2 else 20_000  # the schema stands in front
            for _ in range(CHANGED):
                broken[rng.randrange(end)] = rng.randrange(256)
            place, opened = self.copy()
            opened.close()
            (self.folder / "copy" / "job.sqlite").write_bytes(broken)
            for command in (["finds"], ["tray", "--add", "--kinds", "photo"],
                            ["search", "--steps", "signatures"],
                            ["deliver", "--dry-run", "--kinds", "photo", "--to",
                             str(self.folder / "bag")]):
                with self.subTest(seed=seed, command=command[0]):
                    code, _, err = self.told(command[0], "--job", place, *command[1:])
                    self.assertIn(code, (0, 1, 2))
                    said = [line for line in err.splitlines() if line.startswith("needlewright:")]
                    self.assertLessEqual(len(said), 2, err)

    def test_an_entry_that_makes_no_sense_is_left_out_and_told(self):
        place, opened = self.copy()
        opened.execute("UPDATE finds SET grade = 'wh0le' WHERE id = ?", (self.ids[1],))
        opened.execute("UPDATE checks SET detail = '{oops' WHERE find = ?", (self.ids[2],))
        opened.execute("UPDATE log SET detail = '['")
        opened.commit()
        opened.close()
        code, out, err = self.told("finds", "--job", place)
        self.assertEqual(code, 0)
        self.assertIn("5 finds", out)
        self.assertEqual(err.count("cannot be read"), 1)
        with Job(place) as job:
            self.assertEqual(len(job.matching()), 5)
            self.assertEqual(job.log_lines(), [])
            with self.assertRaises(JobError) as caught:
                job.record(self.ids[2])
            self.assertEqual(caught.exception.code, "job-row-damaged")
            self.assertEqual(job.record(self.ids[3]).row.id, self.ids[3])

    def test_a_schema_that_is_no_text(self):
        place, opened = self.copy()
        opened.close()
        file = self.folder / "copy" / "job.sqlite"
        file.write_bytes(file.read_bytes().replace(b"CREATE TABLE", b"CREATE T\xa3BLE"))
        code, _, err = self.told("finds", "--job", place)
        self.assertEqual((code, len(err.splitlines())), (1, 1))
