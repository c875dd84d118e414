"""Coefficients out of coded data and back, against a plain decoder and Pillow's pixels."""

from __future__ import annotations

import io
import unittest

import numpy as np
from PIL import Image

from needlewright.core.errors import FormatError
from needlewright.core.kernels.jpeg_bits import unstuff
from needlewright.core.kernels.jpeg_coefficients import decode_chain, first_survivor
from needlewright.core.kernels.jpeg_edges import mcu_edges
from needlewright.core.mending.jpeg import writing
from needlewright.core.mending.jpeg.anatomy import layout_of, read_head
from tests.mending import damage
from tests.mending.plain_jpeg import PlainJpeg
from tests.support import jpeg, noise, scene

KINDS = ({}, {"subsampling": 0}, {"subsampling": 1}, {"optimize": True})


def chain_of(data: bytes):
    head = read_head(data)
    layout = layout_of(head)
    stop = data.rfind(b"\xff\xd9")
    clean = unstuff(np.frombuffer(data[head.begin : stop], np.uint8), 1 << 12)
    return head, layout, clean, decode_chain(
        clean.clean, 0, clean.size * 8, layout.coding, layout.total, absolute=True)


class CoefficientsTest(unittest.TestCase):
    def test_the_same_as_a_plain_decoder_finds(self):
        for options in KINDS:
            with self.subTest(options):
                data = jpeg(scene(4, 112, 80), **options)
                _, layout, _, chain = chain_of(data)
                plain = PlainJpeg(data)
                self.assertEqual(chain.reason, "complete")
                self.assertEqual(layout.total, len(plain.mcus))
                self.assertEqual(chain.coefficients.tolist(), plain.mcus)

    def test_written_again_it_shows_the_same_pixels(self):
        for options in (*KINDS, {"quality": 30}, {"quality": 99}):
            for picture in (scene(5, 203, 117), scene(6, 90, 64, "L")):
                with self.subTest(options=options, mode=picture.mode):
                    data = jpeg(picture, **options)
                    head, layout, _, chain = chain_of(data)
                    made = writing.picture(head, head.frame, chain.coefficients,
                                           layout.coding.component, 0)
                    old, new = (np.asarray(Image.open(io.BytesIO(d))) for d in (data, made))
                    self.assertTrue((old == new).all())

    def test_restart_markers_are_written_in_their_order(self):
        data = jpeg(scene(7, 160, 120))
        head, layout, _, chain = chain_of(data)
        for interval in (1, 3, 10, 700):
            made = writing.picture(head, head.frame, chain.coefficients, layout.coding.component,
                                   interval)
            marks = [made[i + 1] - 0xD0 for i in range(len(made) - 1)
                     if made[i] == 0xFF and 0xD0 <= made[i + 1] <= 0xD7]
            self.assertEqual(marks, [n % 8 for n in range((layout.total - 1) // interval)])
            self.assertTrue((damage.seen(made) == damage.seen(data)).all())

    def test_code_lengths_never_exceed_sixteen_bits_and_fill_no_table(self):
        counts = np.zeros(256, np.int64)
        for symbol in range(40):  # such counts make a tree of forty levels
            counts[symbol] = 1 << min(symbol, 60)
        lengths = writing.code_lengths(counts)
        self.assertEqual(set(lengths), set(range(40)))
        self.assertLessEqual(max(lengths.values()), 16)
        self.assertLess(sum(2.0 ** -n for n in lengths.values()), 1)  # all ones stays free
        self.assertEqual(writing.code_lengths(np.zeros(256, np.int64)), {0: 1})

    def test_edges_are_the_outermost_rows_of_the_picture(self):
        picture = scene(8, 160, 128, "L")
        data = jpeg(picture, quality=95)
        _, layout, _, chain = chain_of(data)
        edges = mcu_edges(chain.coefficients, layout.coding.component, layout.dx, layout.dy,
                          layout.quantisers)
        pixels = np.asarray(Image.open(io.BytesIO(data))).astype(float)
        top = edges.top.reshape(layout.rows, -1) + 128
        bottom = edges.bottom.reshape(layout.rows, -1) + 128
        self.assertLess(np.abs(top - pixels[::8]).max(), 1.5)
        self.assertLess(np.abs(bottom - pixels[7::8]).max(), 1.5)
        left = edges.left.reshape(layout.rows, layout.per_row, 8)[:, 3] + 128
        self.assertLess(np.abs(left.ravel() - pixels[:, 24]).max(), 1.5)
        rise = edges.rise_top[:, 0].reshape(layout.rows, layout.per_row)
        true = (pixels[1::8] - pixels[::8]).reshape(layout.rows, layout.per_row, 8).mean(2)
        self.assertLess(np.abs(rise - true).max(), 1.5)

    def test_from_any_bit_behind_the_decoder_falls_into_step(self):
        data = damage.photo(1)
        _, layout, clean, whole = chain_of(data)
        starts = set(whole.mcu_bit.tolist())
        met = 0
        for share in (0.1, 0.3, 0.5, 0.7):
            begin = int(clean.size * share) * 8 + 3
            found = first_survivor(clean.clean, begin, begin + 512, clean.size * 8, layout.coding,
                                   120)
            chain = decode_chain(clean.clean, found, clean.size * 8, layout.coding, 60)
            met += bool(starts & set(chain.mcu_bit[20:].tolist()))
        self.assertEqual(met, 4)

    def test_the_first_survivor_is_the_one_that_trying_each_bit_finds(self):
        for seed, begin in ((1, 4001), (3, 30_000)):
            _, layout, clean, _ = chain_of(damage.photo(seed))
            data = clean.clean.copy()
            data[begin // 8 + 40 : begin // 8 + 90] ^= 0x5A  # chains over it break off
            stop = clean.size * 8
            for need in (2, 9, 60, 150):
                one_by_one = next((bit for bit in range(begin, begin + 900) if decode_chain(
                    data, bit, stop, layout.coding, need).size >= need), None)
                self.assertEqual(first_survivor(data, begin, begin + 900, stop, layout.coding,
                                                need), one_by_one)

    def test_noise_is_no_chain_and_asks_for_no_memory(self):
        _, layout, _, _ = chain_of(jpeg(scene(4, 112, 80)))
        data = np.frombuffer(noise(4096) + bytes(512), np.uint8)
        chain = decode_chain(data, 0, 4096 * 8, layout.coding, 1 << 40)
        self.assertLess(chain.size, 400)
        self.assertIsNone(first_survivor(data, 0, 2048 * 8, 4096 * 8, layout.coding, 4000))

    def test_heads_that_make_no_sense_are_refused(self):
        data = jpeg(scene(4, 112, 80))
        for wrong in (b"", b"\xff\xd8", data[:40], data[:2] + noise(500), b"\xff\xd8" * 300):
            with self.assertRaises(FormatError):
                layout_of(read_head(wrong))
        huge = bytearray(data)
        at = data.find(b"\xff\xc0") + 5
        huge[at : at + 4] = b"\xff\xff\xff\xff"
        with self.assertRaises(FormatError):
            layout_of(read_head(bytes(huge)))
