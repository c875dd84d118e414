"""The thumbnail as a witness, against the picture itself as Pillow decodes it."""

from __future__ import annotations

import io
import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from needlewright.core.formats import jpeg_segments as seg
from needlewright.core.sources.memory import MemorySource
from needlewright.core.stitching.pictures.witness import witness_of
from needlewright.demo import photos
from tests.core.test_stitching import photo
from tests.examples import examples


def witness(data: bytes):
    source = MemorySource(data)
    return witness_of(seg.read_headers(source)[0], source)


def barred(data: bytes) -> bytes:
    """The same photo; its thumbnail shows it between bars."""
    image = Image.open(io.BytesIO(data))
    small = Image.new("RGB", (160, 120))
    small.paste(image.resize((160, 107)), (0, 6))
    out = io.BytesIO()
    small.save(out, "JPEG", quality=80)
    block = photos.exif_block(*image.size, "2031:05:12 05:58:12", out.getvalue(), 100)
    out = io.BytesIO()
    image.save(out, "JPEG", quality=90, exif=block)
    return out.getvalue()


class WitnessTest(unittest.TestCase):
    known = witness(photo(1, (320, 240)))

    def test_it_knows_its_own_rows_from_those_of_others(self):
        """Also where the thumbnail has another shape, or bars above and below."""
        for size, bars in (((640, 480), False), (((900, 600)), False), ((900, 600), True)):
            own, foreign = 0.0, 0.0
            for seed in (1, 2, 3):
                data = barred(photo(seed, size)) if bars else photo(seed, size)
                mine, levels = witness(data), []
                for one in (seed, seed + 20):
                    grey = Image.open(io.BytesIO(photo(one, size))).convert("L")
                    levels.append(np.asarray(grey, np.float32) - 128)
                apart = [10.0, 10.0]
                for row in range(16, size[1], 16):
                    for which, picture in enumerate(levels):
                        edges = picture[row - 8 : row].mean(axis=0).reshape(-1, 4).mean(axis=1)
                        nats, new = mine.judge(row / size[1], 0.0, edges, 1.0, apart[0])
                        if which == 0:
                            own, learnt = own + nats, new
                        else:
                            foreign += nats
                    apart[0] = learnt
            rows = 3 * (size[1] // 16 - 1)
            self.assertGreater(own / rows, -0.7, size)
            self.assertLess(foreign / rows, own / rows - 1.5, size)

    def test_none_where_there_is_none_or_it_is_damaged(self):
        data = bytearray(photo(1))
        out = io.BytesIO()
        Image.open(io.BytesIO(data)).save(out, "JPEG")
        self.assertIsNone(witness(out.getvalue()))
        at = data.find(b"\xff\xd8", 2)
        data[at + 700 : at + 800] = bytes(100)
        self.assertIsNone(witness(bytes(data)))

    @examples(40)
    @given(st.floats(0, 1), st.floats(0, 0.9), st.lists(st.floats(-200, 200), min_size=1),
           st.floats(0, 100))
    def test_any_stretch_has_a_bounded_word(self, row, low, edges, apart):
        mine = self.known
        nats, learnt = mine.judge(row, low, np.array(edges, np.float32), 1.0, apart)
        self.assertTrue(-16 <= nats <= 0 and 0 <= learnt < 500)


if __name__ == "__main__":
    unittest.main()
