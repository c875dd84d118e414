"""Mended finds in a job: beside the damaged ones, with what was changed, into the delivery and its
lists.
"""

from __future__ import annotations

import hashlib
import json
import subprocess
import sys
import threading
import unittest
from pathlib import Path

from needlewright.core.codes import Reason
from needlewright.core.delivery.bag import Delivered, deliver
from needlewright.core.finds import MENDED_FROM
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.mending import MendedFind, mend_finds, mendable
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.jobs.rechecking import decode_all
from needlewright.core.jobs.runner import run_search
from needlewright.core.search.plan import Plan
from needlewright.wording import changes
from needlewright.wording import checks as check_words
from needlewright.wording import mending as words
from needlewright.wording.bag import words_for
from tests.mending import damage
from tests.support import FolderTest, medium, noise

PROGRAM = Path(sys.executable).parent / "needlewright"
CORE = Path(changes.__file__).resolve().parents[1] / "core"


class InJobTest(FolderTest):
    def setUp(self):
        super().setUp()
        self.whole = damage.photo(2)
        at = damage.inside(self.whole, 0.5)
        torn = self.whole[:at] + noise(700) + self.whole[at + 700 :]
        clip = damage.clip()
        image = medium([(4096, torn), (1 << 19, damage.photo(3)), (1 << 20, clip),
                        (3 << 19, damage.clip(seed=71, frames=30)[:90_000])], 2 << 20)
        path = self.image(image)
        self.before = hashlib.sha256(path.read_bytes()).hexdigest()
        self.path = path
        job, row = job_for_image(self.folder / "job", path)
        with job:
            list(run_search(job, row, Plan(("signatures",)), threading.Event()))

    def mended(self, job: Job) -> list[MendedFind]:
        return [event for event in mend_finds(job, mendable(job), threading.Event())
                if isinstance(event, MendedFind)]

    def test_kept_beside_what_was_found(self):
        with Job(self.folder / "job") as job:
            was = {row.id: (row.grade, row.size, row.share) for row in job.matching()}
            done = self.mended(job)
            kept = {d.find: d.kept for d in done if d.kept is not None}
            self.assertTrue(kept)
            for number, (grade, size, share) in was.items():
                row = job.record(number).row
                self.assertEqual((row.grade, row.size, row.share), (grade, size, share))
            for origin, number in kept.items():
                record = job.record(number)
                self.assertEqual(record.mended_from, origin)
                self.assertTrue(record.changes)
                self.assertEqual(record.extents, ())
                self.assertEqual(record.row.start, job.record(origin).row.start)
                self.assertIn(record.row.grade, ("mended", "partial"))
                doubts = [c for c in record.checks if c.name == "mending"]
                if record.row.grade == "mended":
                    self.assertEqual(doubts, [])
                for check in doubts:  # what a person reads where it is not called mended
                    self.assertNotIn("-", check_words.reason(check))
                    self.assertIn(check_words.reason(doubts[0]),
                                  words.mended_line(record.row, record.checks))
                self.assertNotIn(number, mendable(job))
            again = {d.find: d.kept for d in self.mended(job) if d.kept is not None}
            self.assertEqual(again, kept)  # under the same numbers
            self.assertTrue(decode_all(job, next(iter(kept.values())), threading.Event()))
            self.assertNotEqual(job.record(next(iter(kept.values()))).row.grade, "whole")
        self.assertEqual(hashlib.sha256(self.path.read_bytes()).hexdigest(), self.before)

    def test_delivered_with_its_recipe(self):
        with Job(self.folder / "job") as job:
            self.mended(job)
            rows = [r for r in job.matching() if job.record(r.id).mended_from is not None]
            events = list(deliver(job, rows, self.folder / "bag", words_for(job),
                                  threading.Event()))
            self.assertIsInstance(events[-1], Delivered)
            listed = json.loads((self.folder / "bag" / "finds.json").read_text())["finds"]
            self.assertEqual(sum(1 for told in listed if told["file"]), len(rows))
            for told in (t for t in listed if t["file"]):
                origin = job.links.of(told["id"], MENDED_FROM)
                self.assertEqual([told["mended_from"]], origin)
                self.assertTrue(all(c["code"] and c["detail"] for c in told["changes"]))
                data = (self.folder / "bag" / told["file"]).read_bytes()
                self.assertEqual(hashlib.sha256(data).hexdigest(), told["sha256"])
            photo = next(t for t in listed if t["format"] == "jpeg" and t["file"])
            made = (self.folder / "bag" / photo["file"]).read_bytes()
            self.assertGreater(damage.kept(made, self.whole), 0.9)
            self.assertIn("in-line", [c["code"] for c in photo["changes"]])

    def test_stopped_it_keeps_what_is_done(self):
        stop = threading.Event()
        with Job(self.folder / "job") as job:
            seen = []
            for event in mend_finds(job, mendable(job), stop):
                seen.append(event)
                if isinstance(event, MendedFind):
                    stop.set()
            self.assertEqual(sum(isinstance(e, MendedFind) for e in seen), 1)
            left = [p.name for p in (self.folder / "job" / "mended").iterdir()]
            self.assertFalse([name for name in left if name.startswith(".")])

    def test_from_the_command_line(self):
        done = subprocess.run([str(PROGRAM), "mend", "--job", "job", "--json", "list.json"],
                              capture_output=True, text=True, cwd=self.folder, check=False)
        self.assertEqual(done.returncode, 0, done.stderr)
        listed = json.loads((self.folder / "list.json").read_text())["finds"]
        self.assertTrue(any(f["mended"] and f["changes"] for f in listed))
        self.assertIn("mended", done.stdout.splitlines()[-1])


class WordsTest(unittest.TestCase):
    def test_every_code_has_a_sentence_and_every_sentence_a_code(self):
        text = "".join(path.read_text(encoding="utf-8")
                       for path in (*(CORE / "mending").rglob("*.py"), CORE / "jobs/mending.py"))
        for table in (changes.CHANGES, changes.DOUBTS, changes.NOTHING):
            for code in table:
                self.assertTrue(f'"{code}"' in text or code == "stopped", code)
        for code in changes.CHANGES:
            self.assertNotEqual(changes.change(Reason(code, {
                "reference": "BF_0188.JPG", "width": 4000, "height": 3000, "bytes": 512, "at": 9000,
                "rows": [96] if code == "rows-placed" else 9, "breaks": 1, "parts": 2,
                "share": 0.014, "areas": [[96, 0, 112, 640]], "blocks": 80, "samples": 40,
                "seconds": [[1.0, 2.5]], "count": 3, "total": 90, "times": 2, "row": 812})),
                code.replace("-", " "), code)
        self.assertEqual(changes.why_not("data-ends"), changes.why_not("data-ends").strip())


class RunTest(FolderTest):
    def test_run_with_a_reference_mends_on_the_way(self):
        whole = damage.photo(2)
        at = damage.inside(whole, 0.5)
        self.image(medium([(4096, whole[:at] + noise(600) + whole[at + 600 :])], 1 << 20))
        (self.folder / "sound.jpg").write_bytes(damage.photo(3))
        done = subprocess.run(
            [str(PROGRAM), "run", "card.img", "--job", "job", "--to", "bag", "--reference",
             "sound.jpg"], capture_output=True, text=True, cwd=self.folder, check=False)
        self.assertEqual(done.returncode, 0, done.stderr)
        listed = json.loads((self.folder / "bag" / "finds.json").read_text())["finds"]
        self.assertTrue(any(f["mended_from"] and f["file"] and f["changes"] for f in listed))
