"""Each kernel against a plain reference or an independent decoder."""

import io
import os
import shutil
import subprocess
import sys
import unittest
from pathlib import Path
from unittest import mock

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from needlewright.core import kernels
from needlewright.core.formats.jpeg import _Walker
from needlewright.core.formats.jpeg_scans import make_grids
from needlewright.core.kernels.continuity import strongest_run
from needlewright.core.kernels.foreign import BLANK, TEXT, sector_looks, surprise
from needlewright.core.kernels.jpeg_baseline import decode_baseline
from needlewright.core.kernels.jpeg_bits import build_huffman, scan_end, unstuff
from needlewright.core.kernels.jpeg_progressive import decode_progressive
from needlewright.core.kernels.signatures import (
    Pattern,
    build_table,
    find_everywhere,
    find_signatures,
)
from needlewright.core.kernels.texture import Texture, classify
from needlewright.core.sources.memory import MemorySource
from tests.examples import examples
from tests.kernels import reference
from tests.support import FolderTest, jpeg, scene

PATTERNS = [Pattern(b"\xff\xd8\xff"), Pattern(b"ab", 4, weak=True), Pattern(b"abcd"),
            Pattern(b"xyz", 9), Pattern(b"\x47\x40\0", 0, b"\xff\xf0\0"), Pattern(b"qa", weak=True)]
TABLE = build_table(PATTERNS)


class CacheTest(FolderTest):
    def test_a_changed_helper_makes_all_kernels_anew(self):
        """Numba compares a kernel's own file only, and would go on with what a helper was."""
        folder = self.folder / "kernels"
        shutil.copytree(Path(kernels.__file__).parent, folder,
                        ignore=shutil.ignore_patterns("__pycache__"))
        self.assertEqual(Path(os.environ["NUMBA_CACHE_DIR"]).name, kernels._state())
        with mock.patch.object(kernels, "__file__", str(folder / "__init__.py")):
            before = kernels._state()
            helper = folder / "jpeg_bits.py"
            text = helper.read_text().replace("SLACK_BYTES = 8", "SLACK_BYTES = 9")
            helper.write_text(text)
            self.assertNotEqual(kernels._state(), before)


class SignatureKernelTest(unittest.TestCase):
    pieces = st.lists(st.sampled_from([b"ab", b"abcd", b"\xff\xd8\xff", b"\0", b"xyz", b"\x47\x41",
                                       bytes(4096), b"q" * 4099]), max_size=40)

    @given(pieces, st.sampled_from([2, 16, 32]))
    def test_as_the_plain_search(self, pieces, step):
        data = b"".join(pieces)
        offsets, which = find_signatures(np.frombuffer(data, np.uint8), step, TABLE)
        want = reference.find_signatures(data, step, PATTERNS)
        self.assertEqual(list(zip(offsets.tolist(), which.tolist())), sorted(want))

    @given(pieces)
    def test_every_byte_with_and_without_wide_instructions(self, pieces):
        data = b"".join(pieces)
        want = reference.find_signatures(data, 1, PATTERNS)
        want = sorted((at, i) for at, i in want if not PATTERNS[i].weak)
        for portable in (False, True):
            offsets, which = find_everywhere(np.frombuffer(data, np.uint8), TABLE, portable)
            self.assertEqual(list(zip(offsets.tolist(), which.tolist())), want)

    def test_sizes_at_the_edges(self):
        for size in (0, 1, 2, 33, 34, 35, 511, 512, 513, 4095, 4096, 4097):
            offsets, _ = find_signatures(np.zeros(size, np.uint8), 512, TABLE)
            self.assertEqual(len(offsets), 0)
            self.assertEqual(len(find_everywhere(np.zeros(size, np.uint8), TABLE)[0]), 0)
        with self.assertRaises(TypeError):
            find_signatures(np.zeros(4, np.int32), 512, TABLE)
        for wrong in (Pattern(b""), Pattern(b"ab", 65), Pattern(b"abc", 0, b"\xff")):
            with self.assertRaises(ValueError):
                build_table([wrong])


class TextureKernelTest(unittest.TestCase):
    def test_classes_of_plain_cases(self):
        rng = np.random.default_rng(1)
        photo = np.frombuffer(jpeg(scene(1, 900, 700), quality=92), np.uint8)
        ramp = np.repeat(np.arange(256, dtype=np.uint8), 16)
        cases = (
            (np.zeros(4096, np.uint8), Texture.BLANK),
            (np.full(4096, 255, np.uint8), Texture.BLANK),
            (np.frombuffer(b"05:58;Reedmouth weir;3;mist\n" * 147, np.uint8)[:4096], Texture.TEXT),
            (rng.integers(0, 256, 4096, dtype=np.uint8), Texture.RANDOM),
            (photo[20_480:24_576], Texture.JPEG),
            (np.sort(ramp)[::-1].copy() // 8, Texture.STRUCTURED))
        for data, want in cases:
            self.assertEqual(list(classify(data)), [want])
        joined = np.concatenate([data for data, _ in cases])
        self.assertEqual(list(classify(joined)), [want for _, want in cases])
        self.assertEqual(list(classify(joined[:5000])), [Texture.BLANK, Texture.BLANK])


class SectorKernelTest(unittest.TestCase):
    """Foreign clusters among samples that continue each other."""

    @given(st.integers(0, 1000), st.sampled_from(["noise", "text", "blank"]))
    def test_looks_and_surprise(self, seed, kind):
        rng = np.random.default_rng(seed)
        rows = np.cumsum(rng.integers(-2, 3, (64, 512)), axis=1) + np.arange(64)[:, None] + 128
        data = (rows % 256).astype(np.uint8).ravel()
        at = int(rng.integers(8, 48)) * 512
        data[at : at + 4096] = {
            "noise": rng.integers(0, 256, 4096), "blank": np.zeros(4096),
            "text": np.resize(np.frombuffer(b"Reedmouth weir; 3 otters, mist\n", np.uint8), 4096),
        }[kind]
        looks = sector_looks(data, 512)[at // 512 : at // 512 + 8]
        self.assertEqual(set(looks.tolist()), {{"noise": 0, "blank": BLANK, "text": TEXT}[kind]})
        far = surprise(data, 512, 1, 1, False, 512)
        if kind != "blank":
            self.assertGreater(far[at // 512 + 1 : at // 512 + 7].min(), 15)
        self.assertLess(np.median(far), 8)


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


class ResumeTest(unittest.TestCase):
    """Decoding goes on from a saved state as if it had never stopped."""

    def test_cut_anywhere_and_continued(self):
        picture = scene(1, 400, 304)
        for options in ({}, {"restart_marker_rows": 1}, {"progressive": True},
                        {"progressive": True, "restart_marker_rows": 2}):
            data = jpeg(picture, quality=90, **options)
            for share in (0.2, 0.55, 0.9):
                with self.subTest(options=options, share=share):
                    self._compare(data, share)

    def _compare(self, data: bytes, share: float) -> None:
        walker = _Walker(MemorySource(data), 0, len(data))
        raws = []
        coded = walker._coded_bytes

        def kept() -> np.ndarray:
            raws.append((coded(), dict(walker.headers.huffman)))  # tables as this scan has them
            return raws[-1][0]

        walker._coded_bytes = kept
        walker.run()
        frame = walker.headers.frame
        straight, again = make_grids(frame), make_grids(frame)
        for scan, (raw, known) in zip(walker.scans, raws):
            cut = max(1, int(raw.size * share))
            _decode_part(walker, known, scan, straight, raw, None)
            first = _decode_part(walker, known, scan, again, raw[:cut], None)
            self.assertNotEqual(first.reason, "complete")
            rest = _decode_part(walker, known, scan, again, raw, first.state)
            self.assertEqual(rest.reason, "complete")
            np.testing.assert_array_equal(straight.dc, again.dc)
            np.testing.assert_array_equal(straight.masks, again.masks)
            np.testing.assert_array_equal(straight.edge1, again.edge1)


def _decode_part(walker, known, scan, grids, raw, state):
    """Decode `raw` as `scan` of a walk with the tables `known`, from `state` on."""
    plan, header = scan.plan, scan.header
    tables = [known[key] for key in sorted(known)]
    interval = plan.restart_interval
    clean = unstuff(np.ascontiguousarray(raw), plan.mcus // interval + 3 if interval else 2)
    places = np.zeros(plan.mcus, np.int64)
    if walker.headers.frame.marker == 0xC2:
        return decode_progressive(clean, plan, tables, header.band, header.high, header.low,
                                  grids.dc, grids.masks, places, state)
    return decode_baseline(clean, plan, tables, grids.dc, grids.edge1, grids.edge2, places, state)


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
    @examples(50)
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
