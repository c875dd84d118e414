"""Lists of blocks that outlive their files on ext2 and ext3, and leaves of extents on ext4: written
by mkfs and debugfs, removed, and their inodes cleared as the kernel's driver does."""

from __future__ import annotations

import hashlib
import struct
import subprocess
import threading
import unittest
from itertools import pairwise, permutations
from shutil import which

from needlewright.core.contents import Place
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.jobs.runner import run_search
from needlewright.core.search.plan import Plan
from needlewright.core.sources.files import ImageFile
from needlewright.core.volumes.btrfs.reader import EXTENT_DATA, INODE_ITEM, _File, _take
from needlewright.core.volumes.btrfs.tree import Key
from needlewright.core.volumes.ext.leaves import leftover_leaves
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
                self.assertEqual(self.wholes(image), {
                    hashlib.sha256(data).hexdigest() for data in photos.values()})

    def wholes(self, image) -> set[str]:
        """SHA-256 of every find that is whole by records alone."""
        job, row = job_for_image(self.folder / f"job of {image.name}", image)
        with job, ImageFile(image) as source:
            list(run_search(job, row, Plan(steps=("records",)), threading.Event()))
            found = set()
            for find in job.matching():
                if find.grade == "whole":
                    file = job.record(find.id).content.open(Place(source, job.folder))
                    found.add(hashlib.sha256(file.read_at(0, file.size)).hexdigest())
        return found

    def test_a_removed_file_comes_back_by_the_leaf_of_its_tree(self):
        image = self.folder / "leaves.img"
        with image.open("wb") as out:
            out.truncate(16 * MIB)
        subprocess.run(["mkfs.ext4", "-q", "-F", "-b", "1024", "-O", "^has_journal", image],
                       check=True)
        filler = self.folder / "filler"
        filler.write_bytes(b"reeds" * 2000)
        debugfs(image, *(f"write {filler} f{n}" for n in range(40)))
        debugfs(image, *(f"rm f{n}" for n in range(0, 40, 2)))  # room in pieces
        data = photograph(CAMERAS[7], 5)  # without long zeros, which would be holes
        (self.folder / "mine.jpg").write_bytes(data)
        debugfs(image, f"write {self.folder / 'mine.jpg'} mine.jpg")
        numbers = [int(b) for b in debugfs(image, "blocks mine.jpg").split("\n")[1].split()]
        self.assertGreater(sum(b - a != 1 for a, b in pairwise(numbers)), 4)
        debugfs(image, "clri mine.jpg", *(f"freeb {b}" for b in numbers), "unlink mine.jpg")
        with ImageFile(image) as source:
            leaves = leftover_leaves(ExtReader(source))
        self.assertEqual([leaf.first for leaf in leaves], [0])
        self.assertEqual(self.wholes(image), {hashlib.sha256(d).hexdigest() for d in (
            data, filler.read_bytes())})
        with image.open("r+b") as out:  # a leaf whose pieces overlap, or leave the volume, is none
            for entry in ((0, 9, 0, 700), (4, 9, 0, 900)), ((0, 9, 0, 700), (9, 9, 0, 99_999)):
                out.seek(leaves[0].block * 1024)
                out.write(struct.pack("<HHHHI", 0xF30A, 2, 84, 0, 0) + b"".join(
                    struct.pack("<IHHI", *one) for one in entry))
                out.flush()
                with ImageFile(image) as source:
                    self.assertEqual(leftover_leaves(ExtReader(source)), [])

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


class StatesTest(unittest.TestCase):
    def test_the_newest_state_of_one_transaction_counts(self):
        # btrfs writes a node several times in a transaction: its generation does not tell.
        def inode(size: int, changes: int) -> bytes:
            raw = bytearray(160)
            struct.pack_into("<QQQ", raw, 0, 7, 19, size)
            struct.pack_into("<I", raw, 52, 0o100644)
            struct.pack_into("<Q", raw, 72, changes)
            return bytes(raw)

        def extent(length: int) -> bytes:
            return struct.pack("<QQBBHBQQQQ", 19, length, 0, 0, 0, 1, 1 << 20, length, 0, length)

        states = [(INODE_ITEM, inode(4096, 3)), (INODE_ITEM, inode(8192, 4)),
                  (INODE_ITEM, inode(0, 5)),  # emptied on the way to its removal
                  (EXTENT_DATA, extent(4096)),
                  (EXTENT_DATA, extent(8192))]
        for order in permutations(states):
            file = _File()
            for kind, item in order:
                _take(file, Key(259, kind, 0), item, 0, 19)
            self.assertEqual(file.size, 8192)
            self.assertEqual(file.pieces[0][1], extent(8192))
