"""The camera's own preview, where the picture itself is lost."""

from __future__ import annotations

import io
import struct

from PIL import Image

from tests.mending import damage
from tests.support import FolderTest, noise, scene


def raw_like(preview: bytes) -> bytes:
    """A TIFF as Pillow writes it, with a preview behind its strips."""
    out = io.BytesIO()
    scene(5, 320, 240).save(out, "TIFF")
    return out.getvalue() + bytes(-len(out.getvalue()) % 512) + preview


class PreviewTest(FolderTest):
    def setUp(self):
        super().setUp()
        self.preview = damage.bare(6, 640, 480)
        self.whole = raw_like(self.preview)

    def test_taken_byte_for_byte_where_the_rest_is_lost(self):
        at = self.whole.find(self.preview)
        for name, data in (("gone.tif", bytes(4096) + self.whole[4096:]),
                           ("lost.dng", noise(at // 2) + self.whole[at // 2 :])):
            with self.subTest(name):
                done = damage.mended(self.folder, name, data)
                self.assertIsNotNone(done.output, done.why)
                self.assertEqual(done.output.read_bytes(), self.preview)
                self.assertEqual(done.output.suffix, ".jpg")
                self.assertEqual((done.grade, done.doubts), ("partial", ("preview",)))
                self.assertEqual(Image.open(io.BytesIO(self.preview)).size, (640, 480))

    def test_not_in_the_place_of_what_is_better(self):
        photo = damage.photo(2)
        torn = photo[: len(photo) * 3 // 4]
        done = damage.mended(self.folder, "torn.jpg", torn + noise(300) + damage.bare(7, 160, 128))
        self.assertNotIn("preview-taken", [c.code for c in done.changes])

    def test_a_damaged_preview_or_a_tiny_one_is_none(self):
        tiny = damage.bare(7, 96, 64)
        for name, preview in (("torn.dng", self.preview[:3000]), ("tiny.dng", tiny)):
            data = noise(9000) + preview + struct.pack(">I", 7) * 40
            with self.subTest(name):
                self.assertIsNone(damage.mended(self.folder, name, data).output)
