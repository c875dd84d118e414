"""Lists of blocks that outlive their files on ext2 and ext3: written by mkfs and debugfs, removed,
and their inodes cleared as the kernel's driver does."""

from __future__ import annotations

import hashlib
import subprocess
import threading
import unittest
from shutil import which

from needlewright.core.contents import Place
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.jobs.runner import run_search
from needlewright.core.search.plan import Plan
from needlewright.core.sources.files import ImageFile
from needlewright.core.volumes.ext.lists import LostLists
from needlewright.core.volumes.ext.reader import ExtReader
from tests.media.cameras import CAMERAS, photograph
from tests.support import FolderTest

MIB = 1 << 20


def debugfs(image, *requests: str) -> str:
    done = subprocess.run(["debugfs", "-w", "-f", "-", image], input="\n".join(requests),
                          capture_output=True, text=True, check=True)
    return done.stdout


@unittest.skipUnless(which("debugfs") and which("mkfs.ext2"), "needs e2fsprogs")
class ListsTest(FolderTest):
    def card(self, block: int, files: dict[str, bytes]):
        """(image, name -> blocks) of a volume on which `files` were removed without a trace but
        their lists."""
        image = self.folder / f"card-{block}.img"
        with image.open("wb") as out:
            out.truncate(16 * MIB)
        subprocess.run(["mkfs.ext2", "-q", "-F", "-b", str(block), image], check=True)
        for name, data in files.items():
            (self.folder / name).write_bytes(data)
        debugfs(image, *(f"write {self.folder / name} {name}" for name in files))
        blocks = {name: [int(b) for b in debugfs(image, f"blocks {name}").split("\n")[1].split()]
                  for name in files}
        cleared = [f"sif {name} block[{place}] 0" for name in files for place in (
            *range(12), "IND", "DIND", "TIND")]
        free = [f"freeb {b}" for numbers in blocks.values() for b in numbers]
        debugfs(image, *cleared, *(f"sif {name} size 0" for name in files), *free,
                *(f"unlink {name}" for name in files))
        return image, blocks

    def test_files_come_back_by_their_lists(self):
        # Without long zeros, for which debugfs leaves holes.
        photos = {f"p{n}.jpg": photograph(CAMERAS[n % 2 * 7], n + 1) for n in range(4)}
        for block in (1024, 4096):
            with self.subTest(block):
                image, blocks = self.card(block, photos)
                with ImageFile(image) as source:
                    lists = LostLists(ExtReader(source))
                    told = {entry.record_at // block for entry in lists.entries()}
                self.assertTrue(all(told & set(numbers) for numbers in blocks.values()))
                job, row = job_for_image(self.folder / f"job-{block}", image)
                with job:
                    list(run_search(job, row, Plan(steps=("records",)), threading.Event()))
                    with ImageFile(image) as source:
                        found = set()
                        for find in job.matching():
                            if find.grade == "whole":
                                file = job.record(find.id).content.open(Place(source, job.folder))
                                found.add(hashlib.sha256(file.read_at(0, file.size)).hexdigest())
                self.assertEqual(found, {
                    hashlib.sha256(data).hexdigest() for data in photos.values()})

    def test_what_only_looks_like_a_list_makes_no_find(self):
        image = self.folder / "numbers.img"
        with image.open("wb") as out:
            out.truncate(8 * MIB)
        subprocess.run(["mkfs.ext2", "-q", "-F", "-b", "1024", image], check=True)
        with image.open("r+b") as out:
            for at in range(3000, 3040):  # a table of rising numbers, as databases have
                out.seek(at * 1024)
                out.write(b"".join((at + n).to_bytes(4, "little") for n in range(200)))
        job, row = job_for_image(self.folder / "job", image)
        with job:
            list(run_search(job, row, Plan(steps=("records",)), threading.Event()))
            self.assertEqual(job.matching(), [])
