"""Sizes of records are believed as far as something is stored; every loop hears the stop."""

from __future__ import annotations

import random
import struct
import threading
import unittest
from unittest import mock

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from needlewright.core.search.placing import is_blank
from needlewright.core.search.rivals import Rivals
from needlewright.core.sources.memory import MemorySource
from needlewright.core.sources.pieces import PiecedSource
from needlewright.core.sources.source import Span
from needlewright.core.stopping import Interrupted
from needlewright.core.volumes.allocation import Allocation
from needlewright.core.volumes.base import (
    SMALL_HOLE,
    SPARSE_TIMES,
    Coded,
    Entry,
    Placed,
    believed,
)
from needlewright.core.volumes.ext.inodes import (
    USES_EXTENTS,
    Inode,
    dir_entries,
    file_extents,
    read_inode,
)
from needlewright.core.volumes.former.leftovers import Medium
from needlewright.core.volumes.former.ntfs_folders import FolderNames, IndexCollector
from needlewright.core.volumes.ntfs.reader import NtfsReader
from needlewright.core.volumes.ntfs.records import (
    LOST_PARENT,
    file_name,
    stray_names,
    stray_tails,
)
from tests.examples import examples

ROOM = 64 << 20


def entry(extents, removed=True, size=None, **more):
    total = sum(n for _, n in extents)
    return Entry("a.jpg", total if size is None else size, 512, removed, extents=tuple(extents),
                 **more)


class BelievedTest(unittest.TestCase):
    def test_a_removed_file_of_holes_lay_nowhere(self):
        found = believed(entry([(None, 1 << 57)]), ROOM)
        self.assertEqual((found.placed, found.extents), (Placed.NONE, ()))

    def test_no_file_is_longer_than_what_is_stored_of_it(self):
        found = believed(entry([(0, 4096), (None, 33 << 20)]), ROOM)
        self.assertEqual((found.size, found.extents), (4096, ((0, 4096),)))
        self.assertEqual(found.doubts[0][0], "size-wrong")

    def test_small_holes_and_holes_inside_stay(self):
        for extents in ([(0, 4096), (None, SMALL_HOLE - 1)], [(None, 4096), (8192, 8192)],
                        [(0, 1 << 20), (None, 1 << 19), (1 << 21, 1 << 20)]):
            before = entry(extents)
            self.assertEqual(believed(before, ROOM), before)

    def test_more_hole_than_file_in_the_middle_is_no_file(self):
        found = believed(entry([(0, 4096), (None, 1 << 40), (8192, 4096)]), ROOM)
        self.assertEqual((found.placed, found.extents), (Placed.NONE, ()))

    def test_live_files_may_be_sparse_within_reason(self):
        sparse = entry([(0, 4096), (None, ROOM * 4)], removed=False)
        self.assertEqual(believed(sparse, ROOM), sparse)
        absurd = entry([(0, 4096), (None, ROOM * SPARSE_TIMES * 2)], removed=False)
        self.assertEqual(believed(absurd, ROOM).size, 4096)

    def test_more_stored_than_the_volume_holds(self):
        found = believed(entry([(0, ROOM)] * 3), ROOM)
        self.assertEqual(found.placed, Placed.NONE)

    def test_packed_files_and_resident_ones(self):
        coded = Coded(((4096, 512),), 4096, "zlib", 4096)
        packed = Entry("a", 1 << 50, 1, True, coded=(coded, (None, 1 << 50)))
        self.assertEqual((believed(packed, ROOM).size, believed(packed, ROOM).coded),
                         (4096, (coded,)))
        self.assertEqual(believed(Entry("a", 1 << 40, 1, True, data=b"otter"), ROOM).size, 5)
        self.assertEqual(believed(Entry("a", 10, 1, True, first=512), ROOM).size, 10)

    @examples(200)
    @given(st.lists(st.tuples(st.one_of(st.none(), st.integers(0, ROOM)),
                              st.integers(1, 1 << 60)), max_size=6), st.booleans())
    def test_whatever_is_believed_fits(self, extents, removed):
        found = believed(entry(extents, removed), ROOM)
        stored = sum(n for o, n in found.extents if o is not None)
        holes = sum(n for o, n in found.extents if o is None)
        self.assertLessEqual(stored, ROOM)
        if removed:
            self.assertLessEqual(holes, max(stored, SMALL_HOLE))
        if found.extents:
            self.assertEqual(found.size, stored + holes)


class BlankTest(unittest.TestCase):
    def file(self, extents, data):
        return PiecedSource(MemorySource(data), extents)

    def test_holes_are_not_read(self):
        endless = self.file(((None, 1 << 57), (0, 4096), (None, 1 << 50)), bytes(8192))
        self.assertTrue(is_blank(endless, threading.Event()))
        written = self.file(((None, 1 << 57), (0, 4096)), bytes(4000) + b"otter" + bytes(4096))
        self.assertFalse(is_blank(written, threading.Event()))

    def test_it_hears_the_stop(self):
        stop = threading.Event()
        stop.set()
        with self.assertRaises(Interrupted):
            is_blank(self.file(((0, 8 << 20),), bytes(8 << 20)), stop)

    def test_of_one_value_and_of_several(self):
        stop = threading.Event()
        self.assertTrue(is_blank(self.file(((0, 9000),), b"\xff" * 9000), stop))
        self.assertFalse(is_blank(self.file(((0, 9000),), b"\x07" * 9000), stop))
        self.assertFalse(is_blank(self.file(((0, 9000),), bytes(8999) + b"x"), stop))


class RivalsTest(unittest.TestCase):
    def rivals(self, count=200, unit=512):
        return Rivals(Allocation(unit, 0, count, np.zeros(-(-count // 8), np.uint8)))

    def test_the_same_claim_twice_is_one_file(self):
        rivals = self.rivals()
        rivals.add(((0, 4096),))
        rivals.add(((0, 4096),))
        self.assertFalse(rivals.contested(((0, 4096),)))
        rivals.add(((2048, 4096),))
        self.assertTrue(rivals.contested(((0, 4096),)))
        self.assertFalse(rivals.contested(((16384, 512),)))

    @examples(60)
    @given(st.lists(st.tuples(st.integers(0, 90), st.integers(1, 20)), max_size=8,
                    unique=True))
    def test_against_counting_by_hand(self, claims):
        rivals, counts = self.rivals(), np.zeros(200, int)
        for first, number in claims:
            rivals.add(((first * 512, number * 512),))
            counts[first : first + number] += 1
        for first, number in claims:
            several = bool((counts[first : first + number] > 1).any())
            if several:
                self.assertTrue(rivals.contested(((first * 512, number * 512),)))
        alone = np.flatnonzero(counts == 0)
        for cluster in alone[:5].tolist():
            self.assertFalse(rivals.contested(((cluster * 512, 512),)))


class ExtTest(unittest.TestCase):
    def inode(self, size, flags=0, pointers=()):
        return Inode(0x8000, size, 1, flags, 1, 8, 0,
                     struct.pack("<15I", *([*pointers, *[0] * 15][:15])), ((0, 0),) * 3, b"")

    def test_a_map_of_nothing_ends_at_once(self):
        extents, _ = file_extents(self.inode(1 << 57), 2048, 1 << 15, lambda block: b"")
        self.assertEqual(extents, ())
        header = struct.pack("<HHHHI", 0xF30A, 0, 4, 0, 0)
        endless = Inode(0x8000, 1 << 57, 1, USES_EXTENTS, 1, 0, 0, header.ljust(60, b"\0"),
                        ((0, 0),) * 3, b"")
        extents, _ = file_extents(endless, 4096, 1 << 15, lambda block: b"")
        self.assertEqual(believed(entry(list(extents)), ROOM).extents, ())

    def test_lists_that_lead_back_into_themselves(self):
        blocks = {7: struct.pack("<512I", *[7] * 512)}
        inode = self.inode(1 << 24, pointers=[0] * 12 + [7, 7, 7])
        extents, _ = file_extents(inode, 2048, 1 << 15, lambda b: blocks.get(b, b""))
        self.assertLessEqual(sum(n for _, n in extents), 1 << 24)

    @examples(80)
    @given(st.binary(min_size=128, max_size=256))
    def test_any_bytes_as_an_inode(self, raw):
        inode = read_inode(raw)
        if inode is not None:
            extents, _ = file_extents(inode, 1024, 5000, lambda block: raw.ljust(1024, b"\0"))
            for offset, length in extents:
                self.assertGreater(length, 0)
                self.assertTrue(offset is None or 0 <= offset < 5000 * 1024)

    @examples(80)
    @given(st.binary(max_size=1024))
    def test_any_bytes_as_a_folder(self, raw):
        for found in dir_entries(raw, 1000, slack=True):
            self.assertTrue(0 < found.inode <= 1000)
            self.assertTrue(found.name)


def index_entry(name, parent=40, size=1234, ref=77):
    text = name.encode("utf-16-le")
    value = struct.pack("<QQQQQQQIIBB", parent | 1 << 48, *[130_000_000_000_000_000] * 4, 4096,
                        size, 32, 0, len(name), 1) + text
    length = (16 + len(value) + 7) // 8 * 8
    return (struct.pack("<QHHI", ref | 3 << 48, length, len(value), 0) + value).ljust(length, b"\0")


class StrayNamesTest(unittest.TestCase):
    def test_whole_leftovers(self):
        raw = index_entry("BF_0201.JPG") + index_entry("выдра.jpg", ref=78)
        found = list(stray_names(raw, 0, len(raw)))
        self.assertEqual([(r, n.name, n.size, n.parent) for r, _, n, _ in found],
                         [(77, "BF_0201.JPG", 1234, 40), (78, "выдра.jpg", 1234, 40)])

    def test_heads_that_end_marks_were_written_over(self):
        marks = {"record": (16, b"\xff" * 4), "index": (16, struct.pack("<HHI", 16, 0, 2)),
                 "head": (0, struct.pack("<QHHI", 0, 16, 0, 2))}
        for name, (at, mark) in marks.items():
            with self.subTest(name):
                raw = bytearray(index_entry("dawn at Reedmouth weir.jpg"))
                raw[at : at + len(mark)] = mark
                found = list(stray_names(bytes(raw), 0, len(raw)))
                self.assertEqual([n.name for _, _, n, _ in found], ["dawn at Reedmouth weir.jpg"])
                if at:
                    self.assertEqual(found[0][2].parent, LOST_PARENT)

    def test_ends_that_other_leftovers_were_shifted_over(self):
        whole = index_entry("dawn at Reedmouth weir.jpg", size=4000)
        spoilt = index_entry("Sichtung Füßchen.txt")[:56] + whole[56:]
        self.assertEqual([(n.name, n.size, n.parent) for n, _ in
                          stray_tails(spoilt, 0, len(spoilt), 4096)],
                         [("dawn at Reedmouth weir.jpg", 4000, LOST_PARENT)])
        for at, wrong in ((56, b"\1"), (64, b"\0\0"), (72, b"\x40"), (76, b"\1"), (81, b"\4"),
                          (80, b"\0"), (82, b"\1\0"), (82, b"?\0")):
            raw = spoilt[:at] + wrong + spoilt[at + len(wrong) :]
            self.assertEqual(list(stray_tails(raw, 0, len(raw), 4096)), [], (at, wrong))

    def test_index_blocks_that_no_folder_holds(self):
        headless = index_entry("dawn.jpg", size=77)
        headless = headless[:16] + struct.pack("<HHI", 16, 0, 2) + headless[24:]
        entries = (index_entry("BF_0201.JPG", parent=66, ref=90) + headless
                   + index_entry("BF_0202.JPG", parent=66, ref=91)
                   + index_entry("BF_0203.JPG", parent=66, ref=92)
                   + struct.pack("<QHHI", 0, 16, 0, 2))
        block = bytearray((struct.pack("<4sHHQQIII", b"INDX", 40, 9, 0, 0, 40, 40 + len(entries),
                                       4072).ljust(64, b"\0") + entries).ljust(4096, b"\0"))
        for sector in range(1, 9):
            block[40 + 2 * sector : 42 + 2 * sector] = block[sector * 512 - 2 : sector * 512]
            block[sector * 512 - 2 : sector * 512] = b"\1\0"
        block[40:42] = b"\1\0"
        kept = IndexCollector()
        kept.look(np.frombuffer(bytes(8192) + bytes(block), np.uint8).reshape(-1, 512), 0)
        self.assertEqual(kept.blocks, [8192])
        reader = mock.Mock(spec=NtfsReader)
        reader.facts, reader.boot = mock.Mock(size=1 << 20), mock.Mock(cluster_size=4096)
        # 91 has a record with another name: renamed. 92's own record tells its name itself.
        reader.told_names.return_value = [(91, file_name(index_entry("new.jpg", 66)[16:])),
                                          (92, file_name(index_entry("BF_0203.JPG", 66)[16:]))]
        reader.tells.side_effect = lambda number, sequence: number == 91
        reader.folder.return_value = ("lost folder 66", True)
        medium = Medium(MemorySource(bytes(8192) + bytes(block)))
        volume = mock.Mock(span=Span(0, 1 << 20))
        found = list(FolderNames(medium, volume, reader, kept.blocks).removed())
        self.assertEqual([(e.path, e.size, e.removed) for e in found],
                         [("lost folder 66/BF_0201.JPG", 1234, True),
                          ("lost folder 66/dawn.jpg", 77, True)])
        reader.folder.assert_called_with(66, 1)
        spoilt = MemorySource(bytes(8192) + bytes(block[:510]) + b"xx" + bytes(block[512:]))
        names = FolderNames(Medium(spoilt), volume, reader, [8192, 1 << 30])
        self.assertEqual(list(names.removed()), [])

    def test_noise_holds_no_names(self):
        noise = random.Random(4).randbytes(1 << 16)
        self.assertEqual(list(stray_names(noise, 0, len(noise))), [])
        self.assertEqual(list(stray_tails(noise, 0, len(noise), 512)), [])
        self.assertEqual(list(stray_tails(bytes(5000), 0, 5000, 512)), [])


if __name__ == "__main__":
    unittest.main()
