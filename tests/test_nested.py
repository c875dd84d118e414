"""An image of a card kept as a file on another drive: its contents are told once, as they are."""

from __future__ import annotations

import os
import shutil
import subprocess
import threading
import unittest

from needlewright.core.finds import INSIDE
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.jobs.runner import run_search
from needlewright.core.search.plan import Plan
from needlewright.core.search.registry import steps
from tests.support import FolderTest, camera_jpeg

PATH = os.environ.get("PATH", "") + ":/usr/sbin:/sbin"
TOOLS = ("mkfs.vfat", "mkfs.ext4", "mcopy", "mdel", "mmd")
PHOTOS = {f"BF_{number:04}.JPG": camera_jpeg(number) for number in range(1, 7)}


@unittest.skipUnless(all(shutil.which(t, path=PATH) for t in TOOLS), "formatters are not here")
class NestedTest(FolderTest):
    def run_tool(self, *words):
        subprocess.run([str(w) for w in words], check=True, capture_output=True,
                       env={**os.environ, "PATH": PATH})

    def volume(self, name, mib, *options):
        path = self.folder / name
        with path.open("wb") as out:
            out.truncate(mib << 20)
        self.run_tool("mkfs.vfat", *options, path)
        return path

    def copy_in(self, volume, *names):
        for name in names:
            if name in PHOTOS:
                (self.folder / name).write_bytes(PHOTOS[name])
            self.run_tool("mcopy", "-i", volume, self.folder / name, f"::{name}")

    def card(self):
        """A card of four photos, one of them removed."""
        card = self.volume("card.img", 16)
        self.copy_in(card, *list(PHOTOS)[:4])
        self.run_tool("mdel", "-i", card, "::BF_0002.JPG")
        return card

    def search(self, image):
        job, source = job_for_image(self.folder / "job", image)
        self.addCleanup(job.close)
        for _ in run_search(job, source, Plan(tuple(steps())), threading.Event()):
            pass
        self.image = image.read_bytes()
        return job, {row.name: row for row in job.matching()}

    def bytes_of(self, job, row):
        return b"".join(self.image[o : o + n] for o, n in job.record(row.id).extents)

    def told_once(self, job, rows, base):
        self.assertEqual(len(rows), len(job.matching()), "each once")
        self.assertFalse([r for r in rows.values() if r.grade == "gone"])
        for name in list(PHOTOS)[:4]:
            row = rows[name]
            self.assertEqual((row.grade, row.removed, row.former, row.volume),
                             ("whole", name == "BF_0002.JPG", False, base), name)
            self.assertEqual(self.bytes_of(job, row), PHOTOS[name])
            self.assertEqual(job.links.of(row.id, INSIDE), [rows["card.img"].id])
        self.assertTrue(any(code == "volume-in-file" for _, code, _ in job.log_lines()))

    def test_on_fat(self):
        outer, _ = self.volume("drive.img", 64, "-F", "32"), self.card()
        self.copy_in(outer, "BF_0005.JPG", "card.img", "BF_0006.JPG")
        job, rows = self.search(outer)
        self.told_once(job, rows, rows["card.img"].start)
        self.assertEqual(job.links.of(rows["BF_0005.JPG"].id, INSIDE), [])

    def test_in_pieces_its_photos_are_told_once_and_nothing_is_made_up(self):
        """An ext4 formatter stores no blank blocks, so the card's own records lie apart."""
        self.card()
        kept = self.folder / "kept"
        kept.mkdir()
        shutil.copy(self.folder / "card.img", kept)
        (kept / "BF_0005.JPG").write_bytes(PHOTOS["BF_0005.JPG"])
        outer = self.folder / "drive.img"
        with outer.open("wb") as out:
            out.truncate(96 << 20)
        self.run_tool("mkfs.ext4", "-q", "-d", kept, outer)
        job, rows = self.search(outer)
        self.assertEqual(set(rows), {"card.img", "BF_0005.JPG", None})
        whole = [self.bytes_of(job, r) for r in job.matching() if r.grade == "whole"]
        # The first photo shares a block with the card's records, and so is in pieces itself.
        self.assertEqual(sorted(whole), sorted(list(PHOTOS.values())[1:5]))
        self.assertFalse([r for r in job.matching() if r.grade == "gone"])
        self.assertTrue(any(code == "volume-in-pieces" for _, code, _ in job.log_lines()))

    def test_of_a_removed_image_file_everything_counts_as_removed(self):
        outer, _ = self.volume("drive.img", 64, "-F", "32"), self.card()
        self.copy_in(outer, "card.img", "BF_0005.JPG")
        self.run_tool("mdel", "-i", outer, "::card.img")
        job, rows = self.search(outer)
        for name in ("BF_0001.JPG", "BF_0002.JPG", "BF_0003.JPG", "BF_0004.JPG"):
            self.assertEqual((rows[name].grade, rows[name].removed), ("whole", True), name)
            self.assertEqual(self.bytes_of(job, rows[name]), PHOTOS[name])


if __name__ == "__main__":
    unittest.main()
