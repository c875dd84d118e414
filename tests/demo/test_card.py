"""The stream card is a real FAT32 card, and everything on it that can come back does."""

import fcntl
import hashlib
import json
import shutil
import subprocess
import tempfile
import threading
import unittest
from pathlib import Path
from unittest import mock

from needlewright.core.checks.grading import Grade
from needlewright.core.codes import SeamWord
from needlewright.core.contents import Place
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.jobs.runner import run_search
from needlewright.core.search.engine import search
from needlewright.core.search.events import Found, Rechecked
from needlewright.core.search.plan import Plan
from needlewright.core.search.registry import steps
from needlewright.core.sources.files import ImageFile
from needlewright.demo import card


class CardTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.path = card.build()
        cls.truth = json.loads((cls.path.parent / card.TRUTH).read_text(encoding="utf-8"))

    def test_the_story(self):
        media = [f for f in self.truth["files"] if f["media"]]
        states = [f["state"] for f in media]
        self.assertEqual(len([s for s in states if s != "live"]), 42)
        self.assertEqual(states.count("overwritten_partly"), 4)
        self.assertEqual(states.count("overwritten_fully"), 1)
        self.assertGreaterEqual(len(media), 60)

    def test_it_is_drawn_the_same_everywhere(self):
        """Hashes written down once; a change of the drawing must change card.VERSION too."""
        shot = card.shots()[0]
        self.assertEqual(hashlib.sha256(card.draw_shot(shot)).hexdigest(),
                         self.truth["files"][0]["sha256"])
        drawn = ("jpeg", "png", "csv", "txt", "dat")  # clips are as their encoders are
        names = "".join(f["path"] + f["sha256"] for f in self.truth["files"]
                        if f["kind"] in drawn)
        self.assertEqual(hashlib.sha256(names.encode()).hexdigest()[:16], "42a4635f0e38ef7c")

    def test_it_is_drawn_by_one_process_at_a_time(self):
        def drawn(place, told):
            with (place / ".drawing").open() as other, self.assertRaises(BlockingIOError):
                fcntl.flock(other, fcntl.LOCK_EX | fcntl.LOCK_NB)
            return place / card.CARD

        with tempfile.TemporaryDirectory() as place, mock.patch.object(card, "_draw", drawn):
            for _ in range(2):  # and let go afterwards
                self.assertEqual(card.draw(Path(place, "demo")), Path(place, "demo", card.CARD))

    def test_all_that_is_whole_on_the_medium_comes_back(self):
        with ImageFile(self.path) as source:
            events = search(source, Plan(), threading.Event())
            found = {e.find.start: e.find for e in events if isinstance(e, Found | Rechecked)}
            for file in self.truth["files"]:
                if not file["media"]:
                    continue
                start = file["extents"][0][0]
                find = found.pop(start, None)
                with self.subTest(path=file["path"], state=file["state"]):
                    if len(file["extents"]) > 1:
                        self.assertIsNot(find.grade, Grade.WHOLE)
                    elif file["intact"]:
                        data = source.read_at(start, find.size)
                        self.assertEqual(hashlib.sha256(data).hexdigest(), file["sha256"])
                        plain = file["path"].endswith(".wav")  # whole by its record alone
                        self.assertIs(find.grade, Grade.UNPROVEN if plain else Grade.WHOLE)
                    elif file["state"] == "overwritten_partly":
                        self.assertIs(find.grade, Grade.PARTIAL)
                        self.assertLess(find.share, 1.0)
                        lost = file["lost_ranges"][0][0]
                        if file["kind"] == "jpeg":
                            self.assertLessEqual(abs(find.size - lost), 8192)
                    else:
                        self.assertIsNone(find)
        rescued = [file["extents"][0] for file in self.truth["files"]
                   if file["kind"] == "damaged"]
        self.assertEqual(len(rescued), 3)
        for start, find in found.items():
            if any(first <= start < first + length for first, length in rescued):
                self.assertIsNot(find.grade, Grade.WHOLE)
            else:  # previews of the overwritten ones
                self.assertTrue(find.inside and find.grade is Grade.REMNANT)

    def test_with_every_step_what_lies_in_pieces_comes_back_as_well(self):
        with tempfile.TemporaryDirectory() as scratch:
            job, row = job_for_image(Path(scratch) / "job", self.path)
            with job, ImageFile(self.path) as source:
                list(run_search(job, row, Plan(tuple(steps())), threading.Event()))
                whole = {r.path: job.record(r.id) for r in job.matching() if r.grade == "whole"}
                for file in self.truth["files"]:
                    if not file["media"] or not file["intact"]:
                        continue
                    record = whole[file["path"].lstrip("/")]
                    data = record.content.open(Place(source)).read_at(0, record.row.size)
                    self.assertEqual(hashlib.sha256(data).hexdigest(), file["sha256"],
                                     file["path"])
                stitched = [r for r in whole.values() if r.row.found_by == ("stitching",)]
                self.assertEqual(len(stitched), 4)
                self.assertEqual({s.word for r in stitched for s in r.seams}, {SeamWord.PROVEN})

    @unittest.skipUnless(shutil.which("fsck.fat") and shutil.which("mcopy"),
                         "dosfstools and mtools are not installed")
    def test_other_readers_agree(self):
        offset = self.truth["partition_offset"]
        with tempfile.TemporaryDirectory() as scratch:
            volume = Path(scratch) / "volume.img"
            subprocess.run(["dd", f"if={self.path}", f"of={volume}", "bs=1M", "conv=sparse",
                            f"skip={offset >> 20}"], check=True, capture_output=True)
            told = subprocess.run(["fsck.fat", "-n", str(volume)], capture_output=True, text=True)
            self.assertEqual(told.returncode, 0, told.stdout)
            subprocess.run(["mcopy", "-s", "-i", str(volume), "::/", scratch + "/out"], check=True,
                           capture_output=True)
            live = [f for f in self.truth["files"] if f["state"] == "live"]
            copied = [p for p in Path(scratch, "out").rglob("*") if p.is_file()]
            self.assertEqual(len(copied), len(live))
            for file in live:
                data = Path(scratch, "out", file["path"].lstrip("/")).read_bytes()
                self.assertEqual(hashlib.sha256(data).hexdigest(), file["sha256"])
