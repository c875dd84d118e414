"""Broken photographs as cameras write them, with reserved room in their headers: nothing of what is
left is cut off, and what is told of it is what a decoder reaches."""

from __future__ import annotations

import io
import random
import threading
import unittest

import numpy as np
from PIL import Image, ImageFile

from needlewright.core.checks.grading import Grade
from needlewright.core.formats.registry import formats
from needlewright.core.search.carving import claimed_by, follow
from needlewright.core.search.examining import examine
from needlewright.core.sources.memory import MemorySource
from tests.media import samples
from tests.media.cameras import CAMERAS, photograph
from tests.support import FolderTest

STOP = threading.Event()
CLUSTER = 4096


def pixels(data: bytes) -> np.ndarray:
    """What Pillow shows, patiently."""
    ImageFile.LOAD_TRUNCATED_IMAGES = True
    try:
        return np.asarray(Image.open(io.BytesIO(data)).convert("RGB"))
    finally:
        ImageFile.LOAD_TRUNCATED_IMAGES = False


class CarvedTest(unittest.TestCase):
    def test_a_broken_photo_reaches_up_to_its_damage(self):
        rng, jpeg = random.Random(3), formats()["jpeg"]
        for camera in CAMERAS:
            data = photograph(camera, 4)
            at = rng.randrange(len(data) * 2 // 3, len(data) - CLUSTER) // CLUSTER * CLUSTER
            for name, rest in (("noise", rng.randbytes(len(data) - at)), ("zeros", bytes(1 << 16)),
                               ("text", b"05:58;Reedmouth weir;3\n" * 4000)):
                medium = data[:at] + rest + rng.randbytes(CLUSTER)
                with self.subTest(camera.name, behind=name):
                    self.assertTrue(jpeg.accept(data[:64]))
                    walk = follow(MemorySource(medium), 0, jpeg, STOP)
                    self.assertIsNotNone(walk.broken)
                    self.assertGreaterEqual(walk.stop, at * 0.99)
                    self.assertLessEqual(claimed_by(walk, 512), at + CLUSTER)

    def test_another_file_behind_broken_headers_is_still_come_to(self):
        jpeg = formats()["jpeg"]
        data = photograph(CAMERAS[4], 5)  # a segment of zeros follows APP1
        cut = (data.index(b"\xff\xe4") + 9000) // 512 * 512
        walk = follow(MemorySource(data[:cut] + photograph(CAMERAS[0], 6)), 0, jpeg, STOP)
        self.assertLessEqual(claimed_by(walk, 512), cut)
        self.assertLessEqual(walk.stop, cut)


    def test_another_file_in_the_reserved_room_of_a_photo_is_noticed(self):
        """The room holds nothing, and lengths lead over it: whatever lies there, the rest fits."""
        jpeg, seen = formats()["jpeg"], 0
        strangers = (photograph(CAMERAS[0], 6), photograph(CAMERAS[1], 7)[90_112:])
        for camera in CAMERAS:
            for marker, zeros in camera.segments:
                if zeros < 3 * CLUSTER:
                    continue
                data = photograph(camera, 8)
                begin = data.index(bytes((0xFF, marker)))
                at = (begin + 4 + CLUSTER) // CLUSTER * CLUSTER
                for stranger in strangers:
                    seen += 1
                    medium = data[:at] + stranger[:CLUSTER] + data[at + CLUSTER :]
                    with self.subTest(camera.name, marker=marker):
                        walk = follow(MemorySource(medium), 0, jpeg, STOP)
                        self.assertIn("headers-foreign", {c.code for c in walk.checks})
        self.assertGreater(seen, 0)

    def test_reserved_room_of_healthy_photos_is_theirs_wherever_they_lie(self):
        jpeg = formats()["jpeg"]
        for camera in CAMERAS:
            data = photograph(camera, 9)
            for at in (0, 512 * 7):
                walk = follow(MemorySource(bytes(at) + data), at, jpeg, STOP)
                self.assertNotIn("headers-foreign", {c.code for c in walk.checks}, camera.name)


class ToldTest(FolderTest):
    def test_share_and_row_are_what_a_decoder_reaches(self):
        rng, truth, paths = random.Random(6), [], []
        for camera in CAMERAS:
            if camera.progressive:
                continue
            data = photograph(camera, 7)
            intact = pixels(data)
            at = rng.randrange(len(data) // 2, len(data) - CLUSTER) // 512 * 512
            for way, broken in (("sector", data[:at] + bytes(512) + data[at + 512 :]),
                                ("cut", data[:at]), ("byte", data[:-1])):
                paths.append(self.folder / f"{camera.name} {way}.jpg")
                paths[-1].write_bytes(broken)
                differs = (pixels(broken) != intact).any(axis=(1, 2))
                truth.append(np.argmax(differs) / len(intact) if differs.any() else 1.0)
        for path, share, done in zip(paths, truth, examine(paths, STOP)):
            with self.subTest(path.name):
                self.assertAlmostEqual(done.find.share, share, delta=0.02)
                self.assertIs(done.find.grade, Grade.PARTIAL)

    def test_share_grade_and_row_agree_for_every_format(self):
        paths = []
        for number, sample in enumerate(samples()):
            for part in (0.97, 0.7):
                paths.append(self.folder / f"{number} {part}.{sample.variant}")
                paths[-1].write_bytes(sample.data[: int(len(sample.data) * part)])
        for done in examine(paths, STOP):
            find, height = done.find, done.find.facts.height
            with self.subTest(done.path.name):
                self.assertEqual(find.grade is Grade.REMNANT, find.share < 0.02)
                if find.grade is Grade.WHOLE:
                    self.assertEqual(find.share, 1.0)
                progressive = any(c.values.get("scan") not in (None, 1) for c in find.checks)
                if find.damage_row is not None and height and not progressive and (
                        find.format in ("jpeg", "png", "gif")):
                    self.assertAlmostEqual(find.share, find.damage_row / height, delta=0.08)

    def test_what_does_not_say_how_long_it_is_is_measured_where_its_end_is_known(self):
        for sample in samples():
            if len(sample.data) < 9000 or (sample.variant not in ("pdf", "jxl", "ogg", "gif")
                                           and sample.name != "live"):
                continue
            at = len(sample.data) * 7 // 10 // 512 * 512
            path = self.folder / f"{sample.name}.{sample.variant}"
            path.write_bytes(sample.data[:at] + bytes(1024) + sample.data[at + 1024 :])
            (done,) = examine([path], STOP)
            with self.subTest(path.name):
                # A page of Ogg that is struck at its end is lost from its beginning.
                lowest = 0.3 if sample.variant == "ogg" else 0.55
                self.assertTrue(lowest < done.find.share <= 0.75, done.find.share)

    def test_a_clip_that_lost_its_end_plays_up_to_it(self):
        whole = next(s for s in samples() if s.name == "index-first").data
        paths = []
        for part in (0.9, 0.7, 0.55):
            paths.append(self.folder / f"{part}.mp4")
            paths[-1].write_bytes(whole[: int(len(whole) * part)])
        shares = [done.find.share for done in examine(paths, STOP)]
        self.assertEqual(shares, sorted(shares, reverse=True))
        self.assertGreater(shares[-1], 0.3)

    def test_words_for_a_beginning_that_is_there(self):
        lost = [self.folder / "head.jpg", self.folder / "headless.jpg"]
        lost[0].write_bytes(photograph(CAMERAS[1], 1)[:3000])
        lost[1].write_bytes(bytes(3000))
        codes = [done.find.checks[0].code for done in examine(lost, STOP)]
        self.assertNotIn("head-lost", codes[:1])
        self.assertEqual(codes[1], "head-lost")
