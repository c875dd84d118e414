"""Leaves of extent trees that the kernel's XFS driver freed, and which still name every piece."""

from __future__ import annotations

import hashlib
import struct
import threading
import unittest

from needlewright.core.sources.pieces import PiecedSource
from needlewright.core.stopping import Interrupted
from needlewright.core.volumes.xfs.leaves import HEAD, MAGIC, LostLeaves
from needlewright.core.volumes.xfs.reader import XfsReader
from tests.support_volumes import BLOCK, FOLDER, load

LISTS = FOLDER.parent / "lists"


class LeavesTest(unittest.TestCase):
    def setUp(self):
        source, self.truth = load("xfs", LISTS)
        self.source = source.overlaid()
        self.leaves = [i * BLOCK for i, b in source._blocks.items()
                       if b[:4] == MAGIC and b[24:32] == (i * 8).to_bytes(8, "big")]
        self.files = {file["path"]: file for file in self.truth["files"]}

    def removed(self):
        return {e.path: e for e in XfsReader(self.source).removed() if e.extents}

    def change(self, leaf, at, data):
        self.source.write(leaf + at, data)

    def test_files_in_many_pieces_come_back_under_their_names(self):
        found = self.removed()
        for path, file in self.files.items():
            entry = found[path]
            self.assertEqual([list(e) for e in entry.extents], file["extents"])
            data = PiecedSource(self.source, entry.extents).read_at(0, entry.size)
            self.assertEqual(hashlib.sha256(data).hexdigest(), file["sha256"])
            self.assertEqual((entry.loose, entry.doubts), (0, ()))

    def test_a_lost_leaf_leaves_a_gap_that_is_told(self):
        long = next(f for f in self.files.values() if len(f["extents"]) > 251)
        owners = [struct.unpack(">Q", self.source.read_at(leaf + 56, 8))[0] for leaf in self.leaves]
        number = next(o for o in owners if owners.count(o) == 2)
        mine = [leaf for leaf, o in zip(self.leaves, owners, strict=True) if o == number]
        lost = LostLeaves(XfsReader(self.source))
        self.assertEqual((len(lost.pieces(number)[0]), lost.pieces(number)[1]), (273, True))
        for leaf in mine:
            self.setUp()
            self.change(leaf, 0, bytes(BLOCK))
            pieces, whole = LostLeaves(XfsReader(self.source)).pieces(number)
            self.assertFalse(whole)
            self.assertTrue(pieces)
            self.assertTrue(all([at, n * BLOCK] in long["extents"] for _, n, at, _ in pieces[:-1]))

    def test_what_the_volume_lost_is_taken_from_the_log(self):
        for leaf in self.leaves:
            self.change(leaf, 0, bytes(BLOCK))
        self.assertFalse(LostLeaves(XfsReader(self.source)).owners())
        self.test_files_in_many_pieces_come_back_under_their_names()

    def test_a_stop_is_heard_while_free_space_is_looked_through(self):
        reader = XfsReader(self.source)
        for _ in reader.live():
            pass
        reader.stop = threading.Event()
        reader.stop.set()
        with self.assertRaises(Interrupted):
            next(iter(reader.removed()))

    def test_a_number_that_served_two_files_is_told_of_the_last(self):
        first, second, other = (self.leaf(place, 7 + place) for place in range(3))
        tables = XfsReader(self.source)
        lost = LostLeaves(tables)
        lost._leaves.clear()
        link = {0: (None, 1), 1: (0, None), 2: (None, None)}
        for place, (leaf, sequence) in enumerate(((first, 5), (second, 6), (other, 4))):
            left, right = (b"\xff" * 8 if n is None else struct.pack(">Q", 100 + n)
                           for n in link[place])
            raw = leaf[:8] + left + right + leaf[24:]
            lost._take((100 + place) * BLOCK, raw, sequence)
        pieces, whole = lost.pieces(99)
        self.assertEqual([(p[0], p[1]) for p in pieces], [(0, 10), (10, 10)])
        self.assertTrue(whole)

    def leaf(self, place, at):
        """A leaf of inode 99 of one entry, in block 100 + place."""
        uuid = XfsReader(self.source).geometry.metadata_id
        head = MAGIC + struct.pack(">HHQQQQ", 0, 1, 0, 0, (100 + place) * BLOCK // 512, 0)
        entry = (place % 2 * 10) << 73 | (200 + at) << 21 | 10
        return (head + uuid + struct.pack(">QQ", 99, 0) + entry.to_bytes(16, "big")).ljust(
            BLOCK, b"\0")

    def test_a_leaf_of_another_volume_or_place_is_none_of_ours(self):
        for at in (24, 40):  # where it says it lies; of which volume
            for leaf in self.leaves:
                self.change(leaf, at, bytes(range(8)))
            self.assertFalse(LostLeaves(XfsReader(self.source)).owners())
            self.setUp()

    def test_entries_that_lead_nowhere_end_a_leaf(self):
        for leaf in self.leaves:
            self.change(leaf, HEAD + 16 * 5, b"\xff" * 16)  # outside the volume
            self.change(leaf, 6, b"\xff\xff")  # more entries than there is room for
        self.assertFalse(LostLeaves(XfsReader(self.source)).owners())
        for leaf in self.leaves:
            self.change(leaf, 6, b"\x00\x08")
        lost = LostLeaves(XfsReader(self.source))
        left = sum(len(lost.pieces(n)[0]) for n in lost.owners())
        self.assertEqual(left, 5 * 3)  # one leaf of one file, two of the other


if __name__ == "__main__":
    unittest.main()
