"""Sources compared with each other, and only what is missing."""

from __future__ import annotations

import io
import json
import os
import threading
import unittest
from datetime import UTC, datetime
from pathlib import Path

from PIL import Image

from needlewright.core.codes import SAME_BYTES, SAME_NAME, SAME_PICTURE
from needlewright.core.jobfile.rows import Filter
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.comparing import Versions, compare, print_of, versions_of
from needlewright.core.search.events import Note
from needlewright.demo import photos
from needlewright.standins.backups import Backed, write_backup
from tests.shelves.support import ShelfTest, write_tree
from tests.support import camera_jpeg, scene

WHEN = datetime(2031, 5, 12, 5, 58, 12, tzinfo=UTC)


def shot(seed: int, moment: str = "2031:05:12 05:58:12", width: int = 640) -> bytes:
    return photos.encode_photo(scene(seed, width, width * 3 // 4), moment, 100, 88)


def smaller(data: bytes, side: int = 200) -> bytes:
    with Image.open(io.BytesIO(data)) as picture:
        facts = picture.getexif().tobytes()
        picture.thumbnail((side, side))
        out = io.BytesIO()
        picture.save(out, "JPEG", quality=70, exif=facts)
        return out.getvalue()


class ComparingTest(ShelfTest):
    def job_of(self, *shelves: dict[str, bytes]) -> Path:
        """A job with a folder, which the client still has, and backups."""
        job = self.folder / "job"
        client = write_tree(self.folder / "client", shelves[0])
        for path in client.rglob("*.*"):
            os.utime(path, (WHEN.timestamp(), WHEN.timestamp()))
        status, _, errors = self.command("search", client, "--job", job)
        self.assertEqual(status, 0, errors)
        for number, held in enumerate(shelves[1:], 1):
            place = self.folder / f"backup {number}"
            write_backup(place, "Reedbank F2", WHEN, [Backed(p, d, WHEN)
                                                      for p, d in held.items()])
            self.brought(f"backup:{place}", job)
        return job

    def compared(self, job: Path) -> tuple[set[tuple[str, str, str]], set[str]]:
        """(names of what is the same, by relation), (names of what is missing), with the source's
        number in front of each."""
        with Job(job) as opened:
            found = [event for event in compare(opened, threading.Event())
                     if isinstance(event, Versions)]
            names = {row.id: f"{row.source}:{row.name}" for row in opened.matching()}
            missing = {names[row.id] for row in opened.matching(Filter(missing_only=True))}
            for event in found:
                self.assertIn((event.other, event.relation), versions_of(opened, event.one))
                self.assertIn((event.one, event.relation), versions_of(opened, event.other))
        return {(names[e.one], names[e.other], e.relation) for e in found}, missing

    def test_bytes_pictures_names(self):
        one, two, three = shot(1), shot(2, "2031:05:12 06:00:00"), shot(3, "2031:05:13 06:00:00")
        job = self.job_of(
            {"a/P1.jpg": one, "a/P2.jpg": smaller(two), "a/notes.txt": b"second\n" * 40},
            {"x/Q1.jpg": one, "x/P2.jpg": two, "x/P3.jpg": three, "x/notes.txt": b"first\n" * 40})
        same, missing = self.compared(job)
        self.assertEqual(same, {("1:P1.jpg", "2:Q1.jpg", SAME_BYTES),
                                ("1:P2.jpg", "2:P2.jpg", SAME_PICTURE),
                                ("1:notes.txt", "2:notes.txt", SAME_NAME)})
        self.assertEqual(missing, {"2:P2.jpg", "2:P3.jpg", "2:notes.txt"})

    def test_a_small_copy_adds_nothing_to_the_original(self):
        one = shot(1)
        _, missing = self.compared(self.job_of({"P1.jpg": one}, {"P1.jpg": smaller(one)}))
        self.assertEqual(missing, set())

    def test_a_burst_is_several_pictures(self):
        """They look alike and were taken in one second; by their looks nobody tells them apart."""
        burst = {f"B{n}.jpg": camera_jpeg(5, 640, 480) + bytes([n]) for n in range(3)}
        frames = {f"C{n}.jpg": smaller(burst["B0.jpg"], 200 + n) for n in range(2)}
        same, _ = self.compared(self.job_of({**burst}, frames))
        self.assertEqual({s for s in same if s[2] == SAME_PICTURE}, set())

    def test_of_two_backups_one_copy_and_the_sound_one(self):
        one, two = shot(1), shot(2, "2031:05:12 06:00:00")
        job = self.job_of({"z.txt": b"reeds\n" * 40}, {"P1.jpg": one, "P2.jpg": two[:9000]},
                          {"P1.jpg": one, "P2.jpg": two})
        _, missing = self.compared(job)
        self.assertEqual(missing, {"2:P1.jpg", "3:P2.jpg"})

    def test_plain_surfaces_are_like_nothing(self):
        for colour in ("white", (10, 20, 30)):
            out = io.BytesIO()
            Image.new("RGB", (64, 48), colour).save(out, "JPEG")
            self.assertIsNone(print_of(out.getvalue()))
        self.assertIsNone(print_of(b"no picture"))

    def test_pictures_in_another_size_are_near(self):
        for seed in range(8):
            whole = shot(seed)
            mine = print_of(whole)
            assert mine is not None
            for side in (120, 333):
                other = print_of(smaller(whole, side))
                assert other is not None
                self.assertLessEqual(sum((a ^ b).bit_count() for a, b in zip(mine, other)), 8)

    def test_only_the_missing_is_fetched_and_delivered(self):
        one, two = shot(1), shot(2, "2031:05:12 06:00:00")
        job = self.job_of({"P1.jpg": one})
        place = self.folder / "backup"
        write_backup(place, "Reedbank F2", WHEN, [
            Backed("DCIM/P1.jpg", one, WHEN), Backed("DCIM/P2.jpg", two, WHEN),
            Backed("DCIM/other name.jpg", one, WHEN)])
        status, _, errors = self.command("run", f"backup:{place}", "--job", job, "--to",
                                         self.folder / "bag", "--missing-only")
        self.assertEqual(status, 0, errors)
        self.assertIn("2 files of it are not in the job yet; 1 are", errors)
        told = json.loads((self.folder / "bag/finds.json").read_text())
        self.assertEqual([f["name"] for f in told["finds"] if f["file"]], ["P2.jpg"])
        _, out, _ = self.command("compare", "--job", job)
        self.assertIn("the same bytes", out)
        self.assertIn("1 find of shelves that the job has nowhere else", out)
        status, out, _ = self.command("deliver", "--job", job, "--to", self.folder / "again",
                                      "--missing-only", "--dry-run")
        self.assertEqual((status, out.count("1 file")), (0, 1), out)
        # Asked for everything afterwards, the rest comes as well.
        events = self.brought(f"backup:{place}", job)
        self.assertEqual([e.code for e in events if isinstance(e, Note)], ["kept-listed"])
        self.assertIn("DCIM/P1.jpg", self.finds(job))


if __name__ == "__main__":
    unittest.main()
