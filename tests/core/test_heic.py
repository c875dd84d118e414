"""HEIC pictures by FFmpeg's decoder and our own assembly, against libheif."""

import io
import unittest
import unittest.mock

import numpy as np
import pillow_heif
from PIL import Image

from needlewright.core.checks import worker_heic
from needlewright.core.checks.worker_pictures import decode_picture
from tests.media.heic_grids import grid
from tests.media.pictures import saved
from tests.support import scene

pillow_heif.register_heif_opener()
ASKED = {"format": "HEIF", "side": 180, "turn": 1}


def shown(blob):
    return np.asarray(Image.open(io.BytesIO(blob)).convert("RGB"), float)


class HeicTest(unittest.TestCase):
    def agree(self, data, other_decoder=False):
        """The answer, once it is the same as that of the decoder of all HEIF files."""
        with unittest.mock.patch.object(worker_heic, "decode_picture") as other:
            other.side_effect = decode_picture
            answer, blobs = worker_heic.decode_heif(data, ASKED)
        self.assertEqual(other.called, other_decoder)
        theirs, their_blobs = decode_picture(data, ASKED)
        self.assertTrue(answer["ok"], answer)
        self.assertEqual((answer["width"], answer["height"]), (theirs["width"], theirs["height"]))
        ours, libheif = shown(blobs[0]), shown(their_blobs[0])
        self.assertLess(np.abs(np.subtract(ours.shape, libheif.shape)).max(), 3)
        high, wide = (min(a, b) for a, b in zip(ours.shape, libheif.shape[:2]))
        self.assertLess(np.abs(ours[:high, :wide] - libheif[:high, :wide]).mean(), 6)
        return answer

    def test_single_pictures(self):
        self.agree(saved(scene(60, 400, 302), "HEIF", quality=80))
        self.agree(saved(scene(61, 450, 600), "HEIF", quality=50, chroma=444))
        self.agree(saved(scene(62, 320, 240).convert("L"), "HEIF", quality=80))
        self.agree(saved(scene(60, 401, 301), "HEIF", quality=80), other_decoder=True)

    def test_thumbnails_are_witnesses(self):
        data = saved(scene(63, 800, 600), "HEIF", quality=70, thumbnails=[160])
        answer = self.agree(data)
        self.assertEqual(answer["preview"], "compared")
        self.assertGreater(answer["correlation"], 0.98)

    def test_tiles_turned_and_mirrored(self):
        picture = scene(64, 300, 210)
        for turn, mirror in ((0, None), (1, None), (3, None), (2, 0), (0, 1), (1, 0)):
            with self.subTest(turn=turn, mirror=mirror):
                self.agree(grid(picture, 128, turn, mirror))

    def test_other_kinds_are_left_to_the_other_decoder(self):
        glass = scene(65, 300, 200).convert("RGBA")
        glass.putalpha(120)
        self.agree(saved(glass, "HEIF", quality=80), other_decoder=True)
        several = io.BytesIO()
        scene(66, 300, 200).save(several, "HEIF", save_all=True, append_images=[
            scene(67, 300, 200)])
        self.agree(several.getvalue(), other_decoder=True)

    def test_damage_is_noticed_and_what_is_left_is_shown(self):
        rng = np.random.default_rng(4)
        data = bytearray(grid(scene(68, 512, 384), 128))
        at = data.index(b"mdat") + 4
        middle = at + (len(data) - at) // 2
        data[middle : middle + 16384] = rng.bytes(16384)
        answer, _ = worker_heic.decode_heif(bytes(data), ASKED)
        self.assertEqual((answer["ok"], answer["error"]), (False, "undecodable"))

    def test_a_turn_that_says_nothing_is_left_to_the_other_decoder(self):
        whole = grid(scene(64, 150, 100), 64, turn=1)
        at = whole.index(b"irot") - 4
        data = whole[:at] + b"\0\0\0\x08irot\x01" + whole[at + 9 :]
        answer, blobs = worker_heic.decode_heif(data, ASKED)
        self.assertEqual((type(answer["ok"]), len(blobs)), (bool, 2))

    def test_nonsense_in_the_index_ends_in_an_answer(self):
        rng = np.random.default_rng(5)
        whole = grid(scene(69, 150, 100), 64)
        for _ in range(60):
            data = bytearray(whole)
            for at in rng.integers(0, whole.index(b"mdat"), 3):
                data[at] = rng.integers(0, 256)
            answer, blobs = worker_heic.decode_heif(bytes(data), ASKED)
            self.assertEqual(len(blobs), 2)
            self.assertIn(answer["error"], (None, "undecodable", "memory", "too-large"))


if __name__ == "__main__":
    unittest.main()
