"""Photographs that decode to their end and are of another level from somewhere on."""

from __future__ import annotations

import io
import random
import unittest
from unittest import mock

import numpy as np
from benchmarks.families import photograph
from PIL import Image

from needlewright.core.checks import worker_levels
from needlewright.core.checks.worker_pictures import _compare
from tests.mending import damage
from tests.support import FolderTest

SIZE = 880, 640


def stepped(whole: bytes, least: int) -> tuple[bytes, int]:
    """(the photo with four changed bytes, the row from which on all is `least` to 13 levels off),
    as Pillow shows it, which sees nothing wrong."""
    picture, rng = damage.seen(whole), random.Random(5)
    begin = damage.coded_start(whole)
    for _ in range(400):
        at = begin + int((len(whole) - begin) * rng.uniform(0.3, 0.7))
        changed = whole[:at] + rng.randbytes(4) + whole[at + 4 :]
        other = damage.seen(changed)
        if other is None or b"\xff\xd9" in changed[at - 1 : at + 5]:
            continue
        off = np.median(other - picture, axis=1)
        rows = np.flatnonzero(np.abs(off).max(axis=1) >= least)
        steady = rows.size > 150 and (np.diff(rows) == 1).all() and rows[-1] == len(picture) - 1
        column = np.abs(other - picture)[rows[0] - 16 : rows[0] + 16].max(axis=(0, 2)) if (
            steady) else None
        if column is not None and np.abs(off).max() < 13 and np.ptp(off[rows[4] :], axis=0).max(
                ) < 3 and column.any():
            return changed, int(rows[0])
    raise AssertionError("no such change")


class LevelTest(FolderTest):
    def test_what_is_a_little_brighter_is_not_whole_and_comes_back(self):
        whole = damage.photo(31, *SIZE)
        changed, row = stepped(whole, 4)
        self.assertLess(damage.kept(changed, whole), 0.8)
        done = damage.mended(self.folder, "x.jpg", changed)
        self.assertEqual(done.before.grade, "partial")
        check = next(c for c in done.before.checks if c.code == "thumbnail-level")
        self.assertLessEqual(abs(check.values["row"] - row), 16)
        self.assertAlmostEqual(done.share_before, row / SIZE[1], delta=0.05)
        self.assertIsNotNone(done.output, done.why)
        self.assertGreater(damage.kept(done.output.read_bytes(), whole), 0.985)
        placed = next(c for c in done.changes if c.code == "rows-placed")
        self.assertLessEqual(abs(placed.values["rows"][0] - row), 16)

    def test_a_camera_that_changes_tones_accuses_nobody(self):
        """Also where a horizon lies just between two rows of MCUs."""
        for seed in range(4):
            pixels = np.asarray(photograph(random.Random(seed), *SIZE)).astype(np.float32)
            pixels[320:] = pixels[320:] * 0.8 - 20
            pixels[576:] = (24, 28, 40)  # a caption
            picture = Image.fromarray(pixels.clip(0, 255).astype(np.uint8))
            out = io.BytesIO()
            picture.save(out, "JPEG", quality=90)
            for power in (0.8, 0.9, 1.2):
                small = picture.resize((160, 116)).point(
                    lambda value, by=power: int(255 * (value / 255) ** by))
                shown = io.BytesIO()
                small.save(shown, "JPEG", quality=75)
                data = out.getvalue() + shown.getvalue()
                with self.subTest(seed=seed, power=power):
                    answer = _compare(picture, data, [len(out.getvalue()), len(data)])
                    self.assertIsNone(answer["level_row"])


class NoRoomTest(unittest.TestCase):
    def test_what_cannot_be_looked_at_more_closely_is_compared_all_the_same(self):
        """As where there is no room for all pixels: the bands still tell."""
        picture = photograph(random.Random(1), *SIZE)
        data, shown = io.BytesIO(), io.BytesIO()
        picture.save(data, "JPEG")
        picture.resize((160, 116)).save(shown, "JPEG")
        whole = data.getvalue() + shown.getvalue()
        with mock.patch.object(worker_levels, "candidates", side_effect=MemoryError):
            answer = _compare(picture, whole, [len(data.getvalue()), len(whole)])
        self.assertEqual((answer["preview"], answer.get("level_row")), ("compared", None))
        self.assertLess(max(answer["rows"]), 14)


class FirstRowTest(FolderTest):
    def test_a_piece_that_begins_in_the_first_row_has_a_place(self):
        whole = damage.photo(32, *SIZE)
        at = damage.coded_start(whole) + 400
        later = damage.inside(whole, 0.5)
        done = damage.mended(self.folder, "x.jpg", whole[:at] + bytes(400) + whole[at + 400 : later]
                             + bytes(900) + whole[later + 900 :])
        self.assertNotIn("data-left-out", [change.code for change in done.changes])
        self.assertGreater(damage.kept(done.output.read_bytes(), whole), 0.85)


if __name__ == "__main__":
    unittest.main()
