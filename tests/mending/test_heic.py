"""HEIC: an index lent by another picture, tiles that do not decode, against what libheif shows."""

from __future__ import annotations

import io
import struct
import unittest

import numpy as np
import pillow_heif
from PIL import Image

from tests.media.heic_grids import grid
from tests.media.pictures import saved
from tests.mending import damage
from tests.mending.test_other_pictures import noise, scene
from tests.support import FolderTest

SIZE, TILE = (512, 384), 128


def shown(data: bytes) -> np.ndarray:
    """The primary picture."""
    every = pillow_heif.open_heif(io.BytesIO(data))
    return np.asarray(every[every.primary_index].to_pillow().convert("RGB")).astype(int)


def tiles(seed: int, size: tuple[int, int] = SIZE, turn: int = 0) -> bytes:
    return grid(scene(seed, *size).convert("RGB"), TILE, turn)


def same(made: bytes, whole: bytes) -> np.ndarray:
    """bool[rows, columns] of tiles that are shown as they were."""
    rows, columns = SIZE[1] // TILE, SIZE[0] // TILE
    off = np.abs(shown(made) - shown(whole)).max(axis=2)
    return (off.reshape(rows, TILE, columns, TILE) <= 3).mean(axis=(1, 3)) > 0.99


class HeicTest(FolderTest):
    def setUp(self):
        super().setUp()
        self.whole, self.sibling = tiles(68), tiles(69)
        self.data = self.whole.index(b"mdat") + 4

    def told(self, done) -> dict:
        return {change.code: change.values for change in done.changes}

    def test_an_index_lent_by_another_picture(self):
        for name, front in (("zeroed", bytes(self.data)), ("noise", noise(self.data, 3)), (
                "cut off", b"")):
            with self.subTest(name):
                done = damage.mended(self.folder, f"{name}.heic", front + self.whole[self.data :],
                                     self.sibling)
                self.assertIsNotNone(done.output, done.why)
                self.assertTrue(same(done.output.read_bytes(), self.whole).all())
                self.assertEqual(self.told(done)["index-of-picture"]["reference"],
                                 "sibling 0.heic")

    def test_what_is_not_there_becomes_grey_and_is_told(self):
        """Tiles lost with the index, tiles that do not decode, and a file that is cut off."""
        hurt = {
            "front": bytes(self.data + 15_000) + self.whole[self.data + 15_000 :],
            "middle": self.whole[:40_000] + noise(5000, 4) + self.whole[45_000:],
            "end": self.whole[: len(self.whole) * 3 // 4],
        }
        for name, data in hurt.items():
            with self.subTest(name):
                done = damage.mended(self.folder, f"{name}.heic", data, self.sibling)
                self.assertIsNotNone(done.output, done.why)
                made = done.output.read_bytes()
                right = same(made, self.whole)
                areas = self.told(done)["blocks-missing"]["areas"]
                for top, left, _, _ in areas:
                    self.assertFalse(right[top // TILE, left // TILE])
                    grey = shown(made)[top : top + TILE, left : left + TILE]
                    self.assertLess(np.abs(grey - 128).max(), 4)
                self.assertGreaterEqual(int(right.sum()), right.size - len(areas) - 1)
                # In front of what stands elsewhere, a tile decodes that bytes were added to.
                struck = len(self.told(done).get("blocks-doubted", {}).get("areas", ()))
                self.assertLessEqual(struck, 1)
                self.assertEqual(done.grade, "partial")
                self.assertAlmostEqual(
                    done.share, 1 - (len(areas) + struck) / right.size, delta=0.0002)

    def test_tiles_behind_bytes_that_were_added_or_lost(self):
        cut = self.data + 30_000
        for name, data in (("added", self.whole[:cut] + noise(700, 5) + self.whole[cut:]),
                           ("lost", self.whole[:cut] + self.whole[cut + 900 :])):
            with self.subTest(name):
                done = damage.mended(self.folder, f"{name}.heic", data)
                self.assertIsNotNone(done.output, done.why)
                told = self.told(done)
                self.assertGreater(told["tiles-put-back"]["parts"], 3)
                right = same(done.output.read_bytes(), self.whole)
                missing = len(told.get("blocks-missing", {}).get("areas", ()))
                self.assertLessEqual(int((~right).sum()), missing + 1)  # decoders notice little
                self.assertGreater(done.share, 0.8)
                self.assertLessEqual(done.share, right.mean() + 0.001)

    def test_exif_and_turning_are_the_pictures_own(self):
        exif = Image.Exif()
        exif[274], exif[306] = 6, "2031:05:12 10:59:47"
        turned, other = tiles(68, turn=1), tiles(69, turn=3)
        block = b"\0\0\0\6Exif\0\0" + exif.tobytes().removeprefix(b"Exif\0\0")
        at = turned.index(b"mdat") + 4
        done = damage.mended(self.folder, "own.heic", bytes(at) + turned[at:] + block, other)
        made = done.output.read_bytes()
        self.assertEqual(made[made.index(b"irot") + 4], 3)  # as its orientation says
        done = damage.mended(self.folder, "none.heic", bytes(at) + turned[at:], other)
        made = done.output.read_bytes()
        self.assertEqual(made[made.index(b"irot") + 4], 0)  # not that of the other picture

    def test_one_picture_with_exif_and_a_thumbnail(self):
        exif = Image.Exif()
        exif[306] = "2031:05:12 10:59:47"
        whole, other = (saved(scene(n, 640, 480), "HEIF", quality=70, thumbnails=[160],
                              exif=exif.tobytes()) for n in (63, 64))
        at = whole.index(b"mdat") + 4
        done = damage.mended(self.folder, "one.heic", bytes(at) + whole[at:], other)
        made = done.output.read_bytes()
        np.testing.assert_array_equal(shown(made), shown(whole))
        self.assertEqual(dict(Image.open(io.BytesIO(made)).getexif())[306], exif[306])

    def test_what_cannot_be_lent(self):
        lost = bytes(self.data) + self.whole[self.data :]
        cases = ((lost, (), "index-picture-missing"),
                 (lost, (tiles(7, (256, 128)),), "index-picture-other"),
                 (lost, (b"no picture" * 99,), "index-picture-other"),
                 (bytes(9000), (self.sibling,), "index-lost"),
                 (self.whole, (), "nothing-found"))
        for number, (data, others, why) in enumerate(cases):
            with self.subTest(why, number=number):
                done = damage.mended(self.folder, f"{number}.heic", data, *others)
                self.assertIsNone(done.output)
                if why != "index-picture-other" or len(others[0]) > 2000:
                    self.assertEqual(done.why, why)
        # Lengths that lie, in the data and in the index that is lent.
        rng = np.random.default_rng(8)
        for number in range(12):
            data, other = bytearray(lost), bytearray(self.sibling)
            for at in rng.integers(self.data, len(data) - 8, 3):
                data[at : at + 4] = struct.pack(">I", int(rng.integers(0, 1 << 32)))
            for at in rng.integers(0, self.data, 3):
                other[at] = int(rng.integers(0, 256))
            damage.mended(self.folder, f"lies {number}.heic", bytes(data), bytes(other))


class AvifTest(FolderTest):
    """Pictures of AV1 against what libavif shows."""

    def saved(self, picture: Image.Image, **options) -> bytes:
        return saved(picture, "AVIF", **options)

    def test_one_picture_says_all_of_itself(self):
        exif = Image.Exif()
        exif[306] = "2031:05:12 10:59:47"
        picture = scene(63, 640, 470).convert("RGB")
        veiled = picture.copy()
        veiled.putalpha(Image.linear_gradient("L").resize(picture.size))
        cases = {"plain": (picture, {}), "fine": (picture, {"subsampling": "4:4:4"}),
                 "rough": (picture, {"subsampling": "4:2:2", "quality": 30}),
                 "dated": (picture, {"exif": exif.tobytes()}), "veiled": (veiled, {}),
                 "grey": (picture.convert("L"), {})}
        for name, (drawn, options) in cases.items():
            whole = self.saved(drawn, **options)
            at = whole.index(b"mdat") + 4
            for front in (bytes(at), b"", noise(at, 3)):
                with self.subTest(name, front=len(front)):
                    done = damage.mended(self.folder, f"{name}.avif", front + whole[at:])
                    self.assertEqual([c.code for c in done.changes], ["index-by-data"], done.why)
                    made = Image.open(io.BytesIO(done.output.read_bytes()))
                    truth = Image.open(io.BytesIO(whole))
                    self.assertEqual((made.mode, made.size), (truth.mode, truth.size))
                    np.testing.assert_array_equal(np.asarray(made), np.asarray(truth))
                    self.assertEqual(dict(made.getexif()), dict(truth.getexif()))

    def test_tiles_by_another_picture_and_those_that_are_lost(self):
        whole, other = (grid(scene(n, *SIZE).convert("RGB"), TILE, form="AVIF") for n in (68, 69))
        at = whole.index(b"mdat") + 4
        alone = damage.mended(self.folder, "alone.avif", bytes(at) + whole[at:])
        self.assertEqual((alone.output, alone.why), (None, "index-picture-missing"))
        hole = at + (len(whole) - at) // 2
        for name, data, lost in (
                ("index", bytes(at) + whole[at:], 0),
                ("front", bytes(at + 9000) + whole[at + 9000 :], 1),
                ("hole", whole[:hole] + bytes(900) + whole[hole + 900 :], 1)):
            with self.subTest(name):
                done = damage.mended(self.folder, f"{name}.avif", data, other)
                self.assertIsNotNone(done.output, done.why)
                seen, truth = (np.asarray(Image.open(io.BytesIO(d)).convert("RGB")).astype(int)
                               for d in (done.output.read_bytes(), whole))
                told = [c for c in done.changes if c.code == "blocks-missing"]
                self.assertEqual(bool(told), bool(lost))
                for top, left, bottom, right in told[0].values["areas"] if told else ():
                    inner = seen[top + 2 : bottom - 2, left + 2 : right - 2]
                    self.assertLess(np.abs(inner - 128).max(), 4)
                    beside = (slice(max(0, top - 2), bottom + 2),
                              slice(max(0, left - 2), right + 2))
                    seen[beside] = truth[beside]  # colours are spread over borders of tiles
                np.testing.assert_array_equal(seen, truth)

    def test_headers_that_lie(self):
        whole = self.saved(scene(63, 320, 240).convert("RGB"))
        at = whole.index(b"mdat") + 4
        rng = np.random.default_rng(9)
        for number in range(40):
            data = bytearray(bytes(at) + whole[at:])
            for place in rng.integers(at, at + 24, 3):
                data[place] = int(rng.integers(0, 256))
            damage.mended(self.folder, f"lies {number}.avif", bytes(data))


if __name__ == "__main__":
    unittest.main()
