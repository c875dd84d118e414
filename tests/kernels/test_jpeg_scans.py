"""Coefficients of progressive scans against a plain reading of the standard, and scans taken up in
their middle."""

from __future__ import annotations

import io
import random
import unittest

import numpy as np
from PIL import Image

from needlewright.core.kernels import jpeg_scans as kernels
from needlewright.core.kernels.jpeg_baseline import COMPLETE, stack_tables
from needlewright.core.kernels.jpeg_bits import build_huffman, unstuff
from needlewright.core.mending.jpeg.anatomy import read_head
from needlewright.core.mending.jpeg.blocks import Picture, picture_of
from needlewright.core.mending.jpeg.ends import coded_end
from needlewright.core.mending.jpeg.passes import Pass, _stretches
from needlewright.core.mending.jpeg.refining import Refining
from needlewright.core.mending.jpeg.scans import scans_of
from tests.mending import damage

BAND = (1, 63)


class Writer:
    """Bits, the highest first."""

    def __init__(self) -> None:
        self.bits: list[int] = []

    def put(self, value: int, length: int) -> None:
        self.bits += [value >> i & 1 for i in range(length - 1, -1, -1)]

    def data(self) -> bytes:
        bits = self.bits + [1] * (-len(self.bits) % 8)
        return bytes(int("".join(map(str, bits[i : i + 8])), 2) for i in range(0, len(bits), 8))


def stuffed(data: bytes) -> bytes:
    return data.replace(b"\xff", b"\xff\0")


class PlainCoder:
    """Codes blocks as annex G says, one symbol after another, with codes of eight bits each."""

    #: 255 symbols of 8 bits: the code of a symbol is its place among them
    SYMBOLS = bytes(sorted({run << 4 | size for run in range(16) for size in range(11)}))

    def __init__(self) -> None:
        counts = bytes((0,) * 7 + (len(self.SYMBOLS),) + (0,) * 8)
        self.table = build_huffman(counts, self.SYMBOLS)
        self.out = Writer()

    def symbol(self, value: int) -> None:
        self.out.put(self.SYMBOLS.index(value), 8)

    def first(self, block: np.ndarray, low: int) -> None:
        """G.1.2.2 without runs of empty blocks."""
        run = 0
        for k in range(BAND[0], BAND[1] + 1):
            value = int(abs(block[k])) >> low
            if value == 0:
                run += 1
                continue
            while run > 15:
                self.symbol(0xF0)
                run -= 16
            size = value.bit_length()
            self.symbol(run << 4 | size)
            self.out.put(value if block[k] > 0 else (1 << size) - 1 - value, size)
            run = 0
        if run:
            self.symbol(0)

    def refine(self, block: np.ndarray, low: int) -> None:
        """G.1.2.3: bits of what is known wait for the symbol before them."""
        last = max((k for k in range(1, 64) if abs(int(block[k])) >> low == 1), default=0)
        run, waiting = 0, []
        for k in range(BAND[0], BAND[1] + 1):
            value = int(abs(block[k])) >> low
            if value > 1:
                waiting.append(value & 1)
                continue
            if value == 0 or k > last:
                run += 1
                if run == 16 and k < last:
                    self.symbol(0xF0)
                    for bit in waiting:
                        self.out.put(bit, 1)
                    run, waiting = 0, []
                continue
            self.symbol(run << 4 | 1)
            self.out.put(int(block[k] > 0), 1)
            for bit in waiting:
                self.out.put(bit, 1)
            run, waiting = 0, []
        if run or waiting:
            self.symbol(0)
            for bit in waiting:
                self.out.put(bit, 1)


def blocks(count: int, seed: int) -> np.ndarray:
    rng = np.random.default_rng(seed)
    values = rng.integers(-40, 41, (count, 64)) * (rng.random((count, 64)) < 0.2)
    values[:, 0] = 0
    return values.astype(np.int16)


class PlainTest(unittest.TestCase):
    def decode(self, kernel: str, coder: PlainCoder, out: np.ndarray, low: int) -> tuple:
        clean = unstuff(np.frombuffer(stuffed(coder.out.data()), np.uint8), 4)
        order = np.arange(len(out), dtype=np.int64)
        bit_at = np.zeros(len(out) + 1, np.int64)
        tables = stack_tables([coder.table])
        if kernel == "first":
            limit = np.full(64, 2000)
            return kernels.ac_first(clean.clean, 0, clean.size * 8, 0, len(out), *BAND, low, limit,
                                    0, *tables, order, out, bit_at)
        fresh = np.zeros(len(out), np.uint8)
        told = kernels.ac_refine(clean.clean, 0, clean.size * 8, 0, len(out), *BAND, low, 0,
                                 *tables, order, out, bit_at, fresh)
        return (*told, fresh)

    def test_first_and_refining_scans_bring_back_what_was_coded(self):
        for seed in range(6):
            whole = blocks(50, seed)
            out = np.zeros_like(whole)
            coder = PlainCoder()
            for block in whole:
                coder.first(block, 2)
            unit, _, left, reason = self.decode("first", coder, out, 2)
            self.assertEqual((unit, left, reason), (50, 0, COMPLETE))
            np.testing.assert_array_equal(out, np.sign(whole) * (np.abs(whole) >> 2 << 2))
            for low in (1, 0):
                coder = PlainCoder()
                for block in whole:
                    coder.refine(block, low)
                before = (out != 0).sum(axis=1)
                unit, _, left, reason, fresh = self.decode("refine", coder, out, low)
                self.assertEqual((unit, left, reason), (50, 0, COMPLETE))
                np.testing.assert_array_equal(out, np.sign(whole) * (np.abs(whole) >> low << low))
                np.testing.assert_array_equal(fresh, (out != 0).sum(axis=1) - before)

    def test_masks_are_the_coefficients_that_are_not_zero(self):
        whole = blocks(20, 9)
        order = np.array(random.Random(1).sample(range(20), 12), np.int64)
        masks = kernels.masks_of(whole, order)
        for mask, place in zip(masks.tolist(), order.tolist()):
            self.assertEqual({k for k in range(64) if mask >> k & 1},
                             set(np.flatnonzero(whole[place]).tolist()))
        busy = kernels.busy_of(masks, 3, 40)
        np.testing.assert_array_equal(busy, (whole[order][:, 3:41] != 0).sum(axis=1))

    def test_a_block_that_fails_stays_as_it_was(self):
        whole = blocks(3, 4)
        coder = PlainCoder()
        for block in whole:
            coder.refine(block, 0)
        coder.out.bits = coder.out.bits[:-40]  # the last block is cut
        out = (np.sign(whole) * (np.abs(whole) >> 1 << 1)).astype(np.int16)
        before = out.copy()
        unit, *_ = self.decode("refine", coder, out, 0)
        self.assertLess(unit, 3)
        np.testing.assert_array_equal(out[unit:], before[unit:])


class TakenUpTest(unittest.TestCase):
    """The parts of taking a scan up, on a picture whose truth is known."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.whole = damage.photo(21, 1024, 768, progressive=True)
        cls.head = read_head(cls.whole)
        cls.scans = scans_of(cls.head, coded_end(cls.whole, cls.head)[0])

    def before(self, number: int) -> tuple[Picture, Pass]:
        """The picture before scan `number`, and that scan at work on it."""
        picture = picture_of(self.head)
        for scan in self.scans[:number]:
            Pass(scan, picture, True, lambda: None).run()
        return picture, Pass(self.scans[number], picture, True, lambda: None)

    def test_scans_are_all_found_with_their_bits(self):
        told = [(s.dc, s.first, s.header.low) for s in self.scans]
        self.assertEqual((told[0], told[-1]), ((True, True, 1), (False, False, 0)))
        lost = bytearray(self.whole)  # what looks like a marker within damage begins no scan
        at = self.scans[-1].begin + 5000
        lost[at : at + 12] = b"\xff\xda\x00\x08\x01\x77\x00\x00\x00\x00\xff\xc4"
        again = scans_of(read_head(bytes(lost)), len(lost) - 2)
        self.assertEqual([s.begin for s in again], [s.begin for s in self.scans])
        self.assertFalse(any((s.data[:-1] == 0xFF).any() and (
            s.data[1:][s.data[:-1] == 0xFF] != 0).any() for s in again))

    def test_a_refining_scan_is_found_at_its_unit_and_nowhere_else(self):
        picture, one = self.before(len(self.scans) - 1)
        masks = kernels.masks_of(picture.blocks, one.order)
        one.run()
        bits = one._bit_at.copy()
        refining = Refining(one._clean, masks, BAND, int(one._table[0]), one._tables, lambda: None)
        none = np.zeros(one.units, np.bool_)
        stop = one._size * 8
        for unit in (one.units // 3, one.units // 2):
            found = refining.taken_up(unit, int(bits[unit - 40]), stop, one.units, none)
            self.assertIsNotNone(found)
            self.assertLess(found[0] - unit, 200)
            near = np.abs(bits[found[0] : found[0] + 60] - found[1]).min()
            self.assertLess(near, 4000)
        wrong = np.random.default_rng(1).permutation(masks)  # nothing hangs together
        astray = Refining(one._clean, wrong, BAND, int(one._table[0]), one._tables, lambda: None)
        self.assertIsNone(astray.taken_up(one.units // 2, int(bits[one.units // 2]), stop,
                                          one.units, none))

    def test_segments_have_their_places_by_their_numbers(self):
        starts, numbers = np.array([0, 10, 20, 30]), np.array([-1, 0, 1, 2])
        told = [(s.first, s.last) for s in _stretches(starts, numbers, 40, 5, 18)]
        self.assertEqual(told, [(0, 5), (5, 10), (10, 15), (15, 18)])
        told = [(s.first, s.last) for s in _stretches(starts[:3], np.array([-1, 0, 2]), 30, 5, 18)]
        self.assertEqual(told, [(0, 5), (5, 10), (15, 18)])  # one is lost

    def test_blocks_of_a_component_lie_within_the_picture(self):
        picture = Image.new("RGB", (333, 217), (90, 120, 60))
        out = io.BytesIO()
        picture.save(out, "JPEG", progressive=True)  # 4:2:0: more blocks in MCUs than in pixels
        made = picture_of(read_head(out.getvalue()))
        self.assertEqual(made.order([0]).size, 42 * 28)
        every = made.order([0, 1, 2])
        self.assertEqual(sorted(every.tolist()), list(range(made.blocks.shape[0])))
        self.assertEqual(made.layout().total, 21 * 14)
