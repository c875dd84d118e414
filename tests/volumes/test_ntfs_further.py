"""Files of NTFS in more pieces than a record holds, removed by a driver that unmakes lists."""

from __future__ import annotations

import hashlib
import struct
import unittest

from needlewright.core.sources.pieces import PiecedSource
from needlewright.core.volumes.base import Placed
from needlewright.core.volumes.ntfs.further import FurtherRecords, taken_out
from needlewright.core.volumes.ntfs.reader import NtfsReader
from needlewright.core.volumes.ntfs.records import HEAD, NAME, file_name
from tests.support_volumes import FOLDER, load

LISTS = FOLDER.parent / "lists"
SHORT, LONG = "CLIPS/Holt 7.bin", "CLIPS/Alder bend.bin"


class FurtherTest(unittest.TestCase):
    def setUp(self):
        self.source, truth = load("ntfs", LISTS)
        self.files = {file["path"]: file for file in truth["files"]}
        self.reader = NtfsReader(self.source)

    def further(self, sequence_of_file):
        """The further records of removed files whose own record had this sequence."""
        return {ref: others for ref, others in self.reader.further().removed()
                if ref[1] == sequence_of_file}

    def test_a_file_comes_back_by_records_that_its_list_has_lost(self):
        found = [e for e in self.reader.removed() if e.path == SHORT]
        self.assertEqual(len(found), 1)
        entry, file = found[0], self.files[SHORT]
        self.assertEqual([list(e) for e in entry.extents], file["extents"])
        data = PiecedSource(self.source, entry.extents).read_at(0, entry.size)
        self.assertEqual(hashlib.sha256(data).hexdigest(), file["sha256"])
        self.assertEqual((entry.placed, entry.doubts), (Placed.EXACT, ()))

    def test_what_lost_its_beginning_with_its_own_record_is_not_made_up(self):
        # Another file took its record, in which its first clusters stood.
        self.assertEqual([e for e in self.reader.removed() if e.path == LONG and e.extents], [])

    def test_a_file_without_its_own_record_is_told_by_the_others(self):
        others = next(iter(self.further(1).values()))
        records = {n: bytearray(self.reader.record(n)) for n in others}
        for raw in records.values():  # as where the record had no room for the first piece either
            at, used = struct.unpack_from("<H", raw, 20)[0], struct.unpack_from("<I", raw, 24)[0]
            if used > 600 and struct.unpack_from("<Q", raw, at + 16)[0] == 810:
                size = self.files[LONG]["size"] - 810 * 4096
                struct.pack_into("<QQ", raw, at + 16, 0, 1479 - 810 - 1)
                struct.pack_into("<QQQ", raw, at + 40, size, size, size)
        kept = self.reader.record

        class Patched(NtfsReader):
            def record(self, number):
                return bytes(records[number]) if number in records else kept(number)

        entry = next(e for e in Patched(self.source).removed() if e.path == LONG and e.extents)
        place, length = entry.extents[0]
        self.assertTrue(any(o <= place and place + length <= o + n
                            for o, n in self.files[LONG]["extents"]))
        self.assertTrue(entry.removed and entry.doubts)  # its last pieces do not join on

    def test_the_name_that_was_taken_out_last_still_stands(self):
        names = {file_name(a.value).name for n in range(self.reader.records)
                 if (raw := self.reader.record(n)) is not None for a in taken_out(raw)}
        self.assertLessEqual({"Holt 7.bin", "Alder bend.bin"}, names)
        raw = bytearray(1024)
        HEAD.pack_into(raw, 0, b"FILE", 48, 3, 0, 2, 0, 56, 0, 1024, 1024, 0)
        for used in (0, 30, 64, 1020, 1024, 0xFFFF_FFFF):
            struct.pack_into("<I", raw, 24, used)
            raw[56:60] = b"\xff" * 4
            self.assertEqual(taken_out(bytes(raw)), [])
        self.assertTrue(all(a.kind == NAME for n in (69, 79)
                            for a in taken_out(self.reader.record(n))))

    def test_records_of_nobody_name_nobody(self):
        size = self.reader.boot.record_size
        empty = FurtherRecords([(0, bytes(size * 4), [False] * 4)], size)
        self.assertEqual(list(empty.removed()), [])
        self.assertEqual(list(empty.of(0, 0, True)), [])


if __name__ == "__main__":
    unittest.main()
