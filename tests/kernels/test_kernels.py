"""Each kernel against a plain reference or an independent decoder."""

import io
import os
import subprocess
import sys
import unittest
from pathlib import Path

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

from needlewright.core.formats.jpeg import _Walker
from needlewright.core.kernels.continuity import strongest_run
from needlewright.core.kernels.jpeg_bits import build_huffman, scan_end, unstuff
from needlewright.core.kernels.signatures import build_table, find_signatures
from needlewright.core.sources.memory import MemorySource
from tests.kernels import reference
from tests.support import jpeg, scene

SIGNATURES = [(b"\xff\xd8\xff", 0), (b"ab", 4), (b"abcd", 0), (b"\0", 9), (b"ab", 0)]


class SignatureKernelTest(unittest.TestCase):
    @given(st.lists(st.sampled_from([b"ab", b"abcd", b"\xff\xd8\xff", b"\0", b"xy", b"zzzz"]),
                    max_size=60), st.sampled_from([1, 2, 16, 32]))
    def test_as_the_plain_search(self, pieces, step):
        data = b"".join(pieces)
        table = build_table(SIGNATURES)
        offsets, which = find_signatures(np.frombuffer(data, np.uint8), step, table)
        want = reference.find_signatures(data, step, SIGNATURES)
        self.assertEqual(sorted(zip(offsets.tolist(), which.tolist())), sorted(want))

    def test_sizes_at_the_edges(self):
        table = build_table(SIGNATURES)
        for size in (0, 1, 2, 511, 512, 513):
            offsets, _ = find_signatures(np.zeros(size, np.uint8), 512, table)
            self.assertLessEqual(len(offsets), 2)
        with self.assertRaises(TypeError):
            find_signatures(np.zeros(4, np.int32), 512, table)
        with self.assertRaises(ValueError):
            build_table([(b"", 0)])


class BitKernelTest(unittest.TestCase):
    @given(st.lists(st.sampled_from([b"\xff\0", b"\xff\xff", b"\xff\xd0", b"\x12", b"\0", b"\xd9"]),
                    max_size=700))
    def test_unstuffing(self, pieces):
        raw = b"".join(pieces).rstrip(b"\xff") + b"\x11"
        clean = unstuff(np.frombuffer(raw, np.uint8), 1000)
        self.assertEqual(bytes(clean.clean[: clean.size]), reference.unstuff(raw))
        for at in range(0, clean.size, 97):
            place = int(clean.raw_offsets(np.array([at]))[0])
            exact = len(raw) - len(raw[place:])
            self.assertLessEqual(abs(len(reference.unstuff(raw[:exact])) - at), 256)

    def test_the_end_of_a_scan(self):
        for raw, want in ((b"\x01\xff\0\xff\xd3\x05\xff\xd9", 6), (b"\xff\xff\xff\xd9", 2),
                          (b"\x01\x02", 2), (b"\xff", 1), (b"", 0)):
            self.assertEqual(scan_end(np.frombuffer(raw, np.uint8)), want)

    def test_over_full_tables_are_refused(self):
        with self.assertRaises(ValueError):
            build_huffman(bytes([3] + [0] * 15), b"\1\2\3")


class EntropyKernelTest(unittest.TestCase):
    """The DC values of a picture are its block means: an independent decoder must agree."""

    def check(self, mode: str, **options: object) -> None:
        picture = scene(3, 217, 131, mode)
        data = jpeg(picture, quality=92, **options)
        walker = _Walker(MemorySource(data), 0, len(data))
        walker.run()
        self.assertIsNone(walker.damage)
        headers = walker.headers
        quantiser = headers.quantisers[headers.frame.components[0].quantiser][0]
        ours = walker.grids.component_dc(0)[:16, :27] * quantiser / 8 + 128
        path = MemorySource(data)
        decoded = Image.open(io.BytesIO(path.read_at(0, path.size)))
        decoded.draft("L", decoded.size)
        luma = np.asarray(decoded.convert("L"), np.float64)[:128, :216]
        means = luma.reshape(16, 8, 27, 8).mean((1, 3))
        difference = np.abs(means - ours)
        self.assertLess(float(np.median(difference)), 1.0)
        self.assertLess(float(difference.max()), 14.0)  # clipping at black and white

    def test_every_layout_that_encoders_write(self):
        for mode in ("RGB", "L"):
            for progressive in (False, True):
                for subsampling in (0, 1, 2):
                    for restart in (0, 1):
                        with self.subTest(mode=mode, progressive=progressive,
                                          subsampling=subsampling, restart=restart):
                            options = {"restart_marker_blocks": 7} if restart else {}
                            self.check(mode, progressive=progressive, subsampling=subsampling,
                                       **options)


class RunTest(unittest.TestCase):
    @settings(max_examples=50)
    @given(st.lists(st.floats(-3, 3, width=32), max_size=25))
    def test_strongest_run(self, scores):
        start, stop, weight = strongest_run(np.array(scores, np.float32))
        self.assertAlmostEqual(weight, max(0.0, reference.strongest_run(scores)), 3)
        self.assertAlmostEqual(sum(scores[start:stop]), weight, 3)


class UncompiledTest(unittest.TestCase):
    def test_no_kernel_reads_or_writes_outside_its_arrays(self):
        """Run as plain Python, where an index out of bounds raises instead of passing unseen."""
        script = (
            "import random, sys, warnings\n"
            "warnings.simplefilter('ignore')\n"
            "sys.path.insert(0, '.')\n"
            "from tests.support import jpeg, noise, scene, splice\n"
            "from needlewright.core.errors import FormatError\n"
            "from needlewright.core.formats.jpeg import walk\n"
            "from needlewright.core.sources.memory import MemorySource\n"
            "rng, picture = random.Random(2), scene(8, 40, 24)\n"
            "for progressive in (False, True):\n"
            "    whole = jpeg(picture, progressive=progressive)\n"
            "    cases = [whole, whole[:-40]] + [\n"
            "        splice(whole, rng.randrange(300, len(whole)), noise(40, i))\n"
            "        for i in range(12)]\n"
            "    for data in cases:\n"
            "        try:\n"
            "            walk(MemorySource(data), 0, len(data))\n"
            "        except FormatError:\n"
            "            pass\n"
            "print('all')\n")
        done = subprocess.run(
            [sys.executable, "-c", script], capture_output=True, text=True,
            env={**os.environ, "NUMBA_DISABLE_JIT": "1"}, cwd=Path(__file__).parents[2])
        self.assertEqual(done.stdout.strip(), "all", done.stderr[-2000:])
