"""The size of a picture by its rows: found where the stated one is wrong, and nowhere else."""

from __future__ import annotations

import io
import unittest
from dataclasses import replace

import numpy as np
from PIL import Image

from needlewright.core.kernels.jpeg_bits import unstuff
from needlewright.core.kernels.jpeg_coefficients import decode_chain
from needlewright.core.mending.jpeg.anatomy import layout_of, read_head, restated
from needlewright.core.mending.jpeg.ends import coded_end
from needlewright.core.mending.jpeg.sizes import frame_for

WIDE, HIGH = 50, 38  # MCUs


class SizesTest(unittest.TestCase):
    def setUp(self):
        draw = np.random.default_rng(4)
        rough = draw.normal(128, 50, (9, 12, 3)).clip(0, 255).astype(np.uint8)
        picture = Image.fromarray(rough).resize((WIDE * 16, HIGH * 16), Image.Resampling.BICUBIC)
        out = io.BytesIO()
        picture.save(out, "JPEG", quality=85, subsampling="4:2:0")
        self.head = read_head(out.getvalue())
        self.layout = layout_of(self.head)
        stop, _ = coded_end(out.getvalue(), self.head)
        raw = np.frombuffer(out.getvalue(), np.uint8)[self.head.begin : stop]
        clean = unstuff(raw, 2)
        self.chain = decode_chain(clean.clean, 0, clean.size * 8, self.layout.coding,
                                  self.layout.total, absolute=True)
        self.assertEqual(self.chain.size, WIDE * HIGH)

    def found(self, chain, wide=WIDE, high=HIGH):
        frame = replace(self.head.frame, width=wide * 16, height=high * 16)
        told = frame_for(frame, chain, layout_of(restated(self.head, frame)[1]))
        return None if told is None else (told.width // 16, told.height // 16)

    def without(self, first, count):
        rest = np.delete(self.chain.coefficients, slice(first, first + count), axis=0)
        return replace(self.chain, coefficients=rest, mcu_bit=np.zeros(len(rest) + 1, np.int64))

    def test_a_wrong_size_is_found(self):
        for wide, high in ((49, 37), (100, 38), (50, 20)):
            self.assertEqual(self.found(self.chain, wide, high), (WIDE, HIGH))

    def test_the_right_size_is_left(self):
        self.assertIsNone(self.found(self.chain))

    def test_data_that_lacks_a_part_is_not_a_smaller_picture(self):
        # 1,813 MCUs are left: 49 by 37. Their rows still join at 50.
        for first in (30, 400, 900, 1500):
            self.assertIsNone(self.found(self.without(first, WIDE * HIGH - 49 * 37)), first)


if __name__ == "__main__":
    unittest.main()
