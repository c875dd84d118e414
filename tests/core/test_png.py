"""The PNG walk: chunks, CRCs, the first spoiled row, hostile input."""

import random
import struct
import unittest
import zlib

from needlewright.core.errors import FormatError
from needlewright.core.formats.png import MAGIC, walk
from needlewright.core.sources.memory import MemorySource
from tests.support import noise, png, scene, splice

CHART = png(scene(2, 400, 300))


def walked(data):
    return walk(MemorySource(data), 0, len(data))


def chunk(kind: bytes, body: bytes) -> bytes:
    return struct.pack(">I", len(body)) + kind + body + struct.pack(">I", zlib.crc32(kind + body))


class PngTest(unittest.TestCase):
    def test_ends_at_its_last_byte(self):
        for data in (CHART, png(scene(3, 64, 48, "L")), png(scene(3, 64, 48, "P")),
                     png(scene(3, 64, 48, "RGBA")), png(scene(3, 33, 17, "1"))):
            found = walked(data + noise(5000))
            self.assertEqual((found.stop, found.ended, found.broken), (len(data), True, None))

    def test_no_truncation_is_complete(self):
        small = png(scene(3, 24, 20))
        for length in range(8, len(small)):
            try:
                found = walked(small[:length])
            except FormatError:
                continue
            self.assertIsNotNone(found.broken)

    def test_an_overwritten_cluster_is_placed(self):
        at = len(CHART) // 2 // 4096 * 4096
        found = walked(splice(CHART, at, noise(4096)))
        self.assertFalse(found.ended)
        self.assertTrue(0.2 < found.share < 0.8)
        self.assertAlmostEqual(found.broken.row / 300, found.share, delta=0.01)
        self.assertTrue(at - 70_000 <= found.broken.offset <= at + 8192)
        self.assertFalse(walked(splice(CHART, at, bytes(4096))).ended)

    def test_flips_and_nonsense(self):
        rng = random.Random(3)
        small = png(scene(3, 24, 20))
        for _ in range(400):
            spoiled = bytearray(small)
            spoiled[rng.randrange(8, len(small))] ^= 1 << rng.randrange(8)
            try:
                found = walked(bytes(spoiled))
            except FormatError:
                continue
            self.assertIsNotNone(found.broken)

    def test_data_that_inflates_without_end(self):
        bomb = zlib.compress(bytes(50_000_000), 9)
        header = struct.pack(">IIBBBBB", 10, 10, 8, 2, 0, 0, 0)
        data = MAGIC + chunk(b"IHDR", header) + chunk(b"IDAT", bomb)[:-4] + b"xxxx"
        self.assertLessEqual(walked(data).share, 1.0)

    def test_dimensions(self):
        header = struct.pack(">IIBBBBB", 2_000_000, 2_000_000, 8, 2, 0, 0, 0)
        data = MAGIC + chunk(b"IHDR", header) + chunk(b"IDAT", b"") + chunk(b"IEND", b"")
        self.assertIn("dimensions-implausible", {c.code for c in walked(data).checks})
