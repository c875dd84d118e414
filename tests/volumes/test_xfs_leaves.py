"""Leaves of extent trees that the kernel's XFS driver freed, and which still name every piece."""

from __future__ import annotations

import hashlib
import struct
import unittest

from needlewright.core.sources.pieces import PiecedSource
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
        mine = [leaf for leaf, o in zip(self.leaves, owners, strict=True) if owners.count(o) == 2]
        self.assertEqual(len(mine), 2)
        self.change(mine[1], 0, bytes(BLOCK))
        entry = self.removed()[long["path"]]
        self.assertIn(("runs-missing", {}), entry.doubts)
        kept = [list(e) for e in entry.extents if e[0] is not None]
        self.assertTrue(kept)
        self.assertTrue(all(e in long["extents"] for e in kept))

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
        left = sum(len(lost.pieces(n)) for n in lost.owners())
        self.assertEqual(left, 5 * 3)  # one leaf of one file, two of the other


if __name__ == "__main__":
    unittest.main()
