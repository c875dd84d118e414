"""Further extents of removed HFS+ files, in what their tree's nodes do not use (TN1150)."""

import struct
import unittest

from needlewright.core.volumes.hfsplus.reader import stray_extents

BLOCKS = 5000


def record(number: int, first: int, *runs: tuple[int, int], fork: int = 0) -> bytes:
    pairs = [value for run in (*runs, *[(0, 0)] * (8 - len(runs))) for value in run]
    return struct.pack(">HBBII", 10, fork, 0, number, first) + struct.pack(">16I", *pairs)


class OverflowTest(unittest.TestCase):
    def told(self, raw: bytes, start: int = 14) -> list:
        return list(stray_extents(raw, start, BLOCKS))

    def test_records_behind_those_in_use_are_read(self):
        mine = record(31, 90, (700, 4), (900, 8)), record(31, 102, (1200, 60))
        node = bytes(14) + record(20, 8, (40, 9)) + b"\xff" * 3 + mine[0] + b"\1" + mine[1]
        self.assertEqual(self.told(node + bytes(90), 14 + 76), [
            (31, 90, ((700, 4), (900, 8))), (31, 102, ((1200, 60),))])

    def test_what_cannot_be_one_is_left(self):
        for wrong in (record(3, 90, (700, 4)), record(31, 0, (700, 4)), record(31, 90),
                      record(31, 90, (4999, 2)), record(31, 90, (0, 2)),
                      record(31, 90, (700, 4), fork=0xFF)):
            self.assertEqual(self.told(bytes(14) + wrong), [])
        whole = bytes(14) + record(31, 90, (700, 4))
        for length in range(14, len(whole)):
            self.assertEqual(self.told(whole[:length]), [])
        self.assertEqual(len(self.told(whole)), 1)


if __name__ == "__main__":
    unittest.main()
