"""Small files that ask for a lot: bounded in memory, in steps, and by the signal to stop."""

from __future__ import annotations

import json
import struct
import subprocess
import sys
import threading
import tracemalloc
import unittest
import zlib

from needlewright.core.errors import FormatError
from needlewright.core.formats.registry import formats
from needlewright.core.search.carving import follow
from needlewright.core.sources.budget import FREE_STEPS, Budget
from needlewright.core.sources.memory import MemorySource
from needlewright.core.stopping import Interrupted
from needlewright.core.structures.inflating import Inflater, inflate, unpack_zstd
from needlewright.core.structures.view import View
from needlewright.core.volumes.base import Coded
from needlewright.core.volumes.codings import CODINGS, MAX_MADE, UnpackedSource, lznt1, unpack
from needlewright.core.volumes.f2fs import nodes as f2fs
from needlewright.core.volumes.ntfs.layout import coded_units
from tests.bombs import MOST_BYTES, Vast, claims, cost
from tests.media import of_format, samples

MIB = 1 << 20
LIMITED = """
import json, resource, sys
resource.setrlimit(resource.RLIMIT_AS, (int(sys.argv[1]), int(sys.argv[1])))
from needlewright.core.volumes.codings import CODINGS, unpack
from needlewright.core.errors import FormatError
import zlib, zstandard, imagecodecs
bomb = bytes(512 << 20)
packed = {"zlib": zlib.compress(bomb[: 64 << 20]), "zstd": zstandard.compress(bomb[: 64 << 20])}
del bomb
out = {}
for name, data in packed.items():
    for made in (0, 1, 4096, 16 << 20, 1 << 40):
        try:
            out[f"{name} {made}"] = len(unpack(name, data, made))
        except FormatError:
            out[f"{name} {made}"] = None
peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
print(json.dumps(out))
"""


class InflatingTest(unittest.TestCase):
    def test_never_more_than_asked_for(self):
        bomb = zlib.compress(bytes(200 * MIB), 9)
        tracemalloc.start()
        self.addCleanup(tracemalloc.stop)
        self.assertEqual(inflate(bomb, 1000), bytes(1000))
        inflater = Inflater(3 * MIB)
        made = sum(len(piece) for piece in inflater.feed(bomb))
        self.assertTrue(inflater.too_much)
        self.assertLess(made, 4 * MIB)
        self.assertLess(tracemalloc.get_traced_memory()[1], 8 * MIB)

    def test_nothing_asked_for_makes_nothing(self):
        import zstandard

        for made in (0, -1):
            self.assertEqual(inflate(zlib.compress(b"otter"), made), b"")
            self.assertEqual(unpack_zstd(zstandard.compress(b"otter"), made), b"")

    def test_what_is_no_stream_is_told(self):
        with self.assertRaises(FormatError):
            inflate(b"no stream at all", 100)
        with self.assertRaises(FormatError):
            unpack_zstd(b"no stream at all", 100)

    def test_the_end_and_what_stands_behind_it(self):
        data = b"two otters heading upstream" * 100
        inflater = Inflater(len(data))
        self.assertEqual(b"".join(inflater.feed(zlib.compress(data) + b"behind")), data)
        self.assertTrue(inflater.ended)
        self.assertEqual((inflater.unused, inflater.made, inflater.too_much),
                         (6, len(data), False))

    def test_every_coding_of_volumes_in_little_memory(self):
        done = subprocess.run([sys.executable, "-I", "-c", LIMITED, str(2 << 30)],
                              capture_output=True, text=True, timeout=120)
        self.assertEqual(done.returncode, 0, done.stderr[-500:])
        answer = json.loads(done.stdout)
        for name in ("zlib", "zstd"):
            self.assertIsNone(answer[f"{name} 0"])
            self.assertIsNone(answer[f"{name} {1 << 40}"])
            self.assertEqual(answer[f"{name} 4096"], 4096)
            self.assertEqual(answer[f"{name} {16 << 20}"], 16 << 20)

    def test_sizes_that_no_piece_has_are_refused_by_every_coding(self):
        for name in CODINGS:
            for made in (0, -5, MAX_MADE + 1):
                with self.subTest(name, made=made), self.assertRaises(FormatError):
                    unpack(name, b"x" * 64, made)
        with self.assertRaises(FormatError):
            unpack("unheard-of", b"x", 10)

    def test_pieces_that_promise_too_much_read_as_zeros(self):
        huge = Coded(((0, 64),), 1 << 50, "zlib", 1 << 50)
        source = UnpackedSource(MemorySource(zlib.compress(bytes(9000))), 0, (huge,))
        self.assertEqual(source.read_at(1 << 40, 100), bytes(100))
        self.assertEqual(lznt1(b"\xff" * 40, 0), b"")


class HoleTest(unittest.TestCase):
    """Claimed sizes of which nothing is stored cost nothing."""

    def test_compressed_runs_of_endless_holes(self):
        parts = coded_units([(None, 1 << 60)], 1 << 62, 16, 4096)
        self.assertLess(len(parts), 3)
        self.assertEqual(parts[0][0], None)
        mixed = coded_units([(5, 16), (None, 1 << 40), (9, 4), (None, 12)], (1 << 56), 16, 4096)
        self.assertLess(len(mixed), 6)

    def test_holes_of_a_whole_level_of_lists(self):
        runs = list(f2fs._list(0, 3, 1 << 50, lambda node: b""))
        self.assertEqual(runs, [(f2fs.HOLE, min(1 << 50, f2fs.PER_NODE ** 3))])


class BudgetTest(unittest.TestCase):
    def test_steps_end_where_no_file_is_worth_more(self):
        budget = Budget(0, threading.Event())
        with self.assertRaises(FormatError) as caught:
            for _ in range(FREE_STEPS + 5000):
                budget.step(7)
        self.assertEqual((caught.exception.why, caught.exception.offset), ("too-many-steps", 7))

    def test_steps_grow_with_what_was_read(self):
        budget = Budget(0, threading.Event())
        budget.read(0, 100 * MIB)
        for _ in range(FREE_STEPS + 5000):
            budget.step(7)

    def test_the_same_bytes_again_and_again(self):
        budget = Budget(0, threading.Event())
        with self.assertRaises(FormatError):
            for _ in range(10_000):
                budget.read(4096, MIB)

    def test_both_hear_the_stop(self):
        stop = threading.Event()
        stop.set()
        with self.assertRaises(Interrupted):
            Budget(0, stop).read(0, 1)
        budget = Budget(0, stop)
        with self.assertRaises(Interrupted):
            for _ in range(5000):
                budget.step(0)

    def test_views_of_one_walk_share_it(self):
        source = MemorySource(bytes(4096))
        source.budget = Budget(0, threading.Event())
        one, two = View(source, 0, 4096), View(source, 0, 4096)
        with self.assertRaises(FormatError):
            for _ in range(FREE_STEPS):
                one.take(0, 4)
                two.peek(0, 4)


class FormatsTest(unittest.TestCase):
    def test_every_format_takes_memory_by_what_is_there(self):
        """Each number near a file's ends set to extremes, on a medium of gibibytes."""
        for name in formats():
            smallest = min(of_format(name), key=lambda s: len(s.data), default=None)
            if smallest is None:
                continue
            with self.subTest(name):
                follow(Vast(smallest.data), 0, formats()[name], threading.Event())
                tracemalloc.start()
                try:
                    for data in claims(smallest, every=701):
                        self.assertLess(cost(name, Vast(data))[0], MOST_BYTES + 8 * MIB)
                finally:
                    tracemalloc.stop()

    def test_a_walk_is_deaf_to_no_stop(self):
        stop = threading.Event()
        stop.set()
        for sample in samples():
            with self.subTest(sample.name), self.assertRaises(Interrupted):
                follow(MemorySource(sample.data), 0, formats()[sample.format], stop)

    def test_boxes_that_count_the_rest_of_the_medium(self):
        """Tables of samples whose entries would be whatever lies behind the file."""
        for count in (1 << 20, 1 << 28, (1 << 32) - 1):
            body = struct.pack(">III", 0, 0, count)
            stsz = struct.pack(">I4s", min(8 + len(body) + 4 * count, (1 << 32) - 1), b"stsz")
            clip = bytearray(min((s.data for s in of_format("mp4")), key=len))
            at = clip.find(b"stsz") - 4
            clip[at : at + 20] = stsz + body
            tracemalloc.start()
            taken, _ = cost("mp4", Vast(bytes(clip)))
            tracemalloc.stop()
            self.assertLess(taken, MOST_BYTES)

    def test_extents_of_no_width_end_soon(self):
        meta = _heif_with_endless_items()
        stop = threading.Event()
        with self.assertRaises(FormatError):
            follow(MemorySource(meta), 0, formats()["heif"], stop)


def _box(name: bytes, body: bytes) -> bytes:
    return struct.pack(">I4s", 8 + len(body), name) + body


def _heif_with_endless_items() -> bytes:
    """10,000 items of 65,535 extents each, none of which takes a byte."""
    item = struct.pack(">HHH", 1, 0, 0xFFFF)
    iloc = _box(b"iloc", bytes(4) + b"\0\0" + struct.pack(">H", 10_000) + item * 10_000)
    meta = _box(b"meta", bytes(4) + iloc)
    return _box(b"ftyp", b"heic" + bytes(4) + b"heic" + b"mif1") + meta + _box(b"mdat", bytes(64))
