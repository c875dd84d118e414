"""What mending is said to gain is measured in one way, and nothing that was there is lost."""

import io
import random
import unittest
from dataclasses import replace
from functools import cache

import numpy as np
from benchmarks.families import photograph
from benchmarks.mending import kept, shown
from benchmarks.mending_damage import PICTURE
from benchmarks.mending_damage import picture as damaged
from PIL import Image

from needlewright.core.checks.grading import Grade
from needlewright.core.contents import Stretches
from needlewright.core.finds import Find
from needlewright.core.mending.base import Change, Mended
from needlewright.core.mending.measuring import is_better, measured
from needlewright.core.walks import Check, Facts, Kind, Outcome
from needlewright.wording.changes import change
from tests.media.heic_grids import grid
from tests.mending import damage
from tests.support import FolderTest

FORMS = {"png": "PNG", "tif": "TIFF", "gif": "GIF", "webp": "WEBP", "heic": "HEIF"}


@cache
def whole(form: str) -> bytes:
    picture = photograph(random.Random(f"measured {form}"), 720, 560)
    if form == "heic":
        return grid(picture, 256)
    out = io.BytesIO()
    options = {"compression": "tiff_adobe_deflate"} if form == "tif" else {}
    shown_as = picture.quantize(128) if form == "gif" else picture
    shown_as.save(out, FORMS[form], **options)
    return out.getvalue()


def find(grade: Grade, share: float, refused: bool = False) -> Find:
    decoded = Check("full decode", Outcome.FAIL if refused else Outcome.PASS,
                    "decode-undecodable" if refused else "decode-complete", content=True)
    return Find("png", Kind.PHOTO, "png", Stretches(((0, 9),)), grade, share, ("files",),
                (decoded,), Facts())


def made(share: float, before: float | None = None, code: str = "sums-made") -> Mended:
    return Mended(lambda out: None, "png", (Change(code),), share, share_before=before)


class MeasuringTest(FolderTest):
    def test_a_tone_that_is_only_likely_is_covered_and_not_shown(self):
        before, after = find(Grade.PARTIAL, 0.3), find(Grade.WHOLE, 1.0)
        proposal = replace(made(0.45), area=0.95)
        self.assertEqual((measured(before, proposal, after).after,
                          measured(before, proposal, after).covered), (0.45, 0.95))
        self.assertTrue(is_better(before, replace(made(0.1), area=0.9), after))
        # What was there before is there still.
        self.assertEqual(measured(before, replace(made(0.1), area=0.9), after).after, 0.3)
        self.assertFalse(is_better(before, replace(made(0.1), area=0.2), after))

    def test_a_picture_with_pieces_lost_is_told_no_better_than_it_is(self):
        """Smooth rows join one row as well as the next: the thumbnail says which."""
        told = []
        for seed in range(4):
            truth = damage.photo(80 + seed, 800, 608)
            rng = random.Random(seed)
            broken = truth
            for part in (0.75, 0.5, 0.3):
                at = damage.inside(broken, part + rng.uniform(-0.05, 0.05))
                broken = broken[:at] + broken[at + len(truth) // 120 :]
            done = damage.mended(self.folder, f"lost {seed}.jpg", broken)
            self.assertIsNotNone(done.output, done.why)
            told.append((damage.kept(done.output.read_bytes(), truth), done.share))
        self.assertGreater(np.mean([kept for kept, _ in told]), 0.9, told)
        # Of one picture it is an estimate; of several it promises no more than there is.
        self.assertLessEqual(np.mean([share - kept for kept, share in told]), 0.02, told)
        self.assertTrue(all(share <= kept + 0.1 for kept, share in told), told)

    def test_shares_are_what_a_viewer_shows_and_nothing_is_lost(self):
        for form in FORMS:
            truth = shown(whole(form))
            for kind in PICTURE:
                data, _ = damaged(whole(form), kind, form, random.Random(f"{form} {kind}"))
                with self.subTest(form, kind=kind):
                    done = damage.mended(self.folder, f"{kind}.{form}", data)
                    if done.output is None:
                        self.assertTrue(done.why)
                        continue
                    self.assertTrue(done.changes)
                    self.assertTrue(all(change(one) for one in done.changes))
                    after = kept(shown(done.output.read_bytes()), truth)
                    before = kept(shown(data, patient=True), truth)
                    self.assertGreaterEqual(after, before - 0.02)
                    if form != "webp" or kind == "head lost":  # a loss inside has no place there
                        self.assertLessEqual(done.share, after + 0.05)
                    self.assertGreaterEqual(done.share, done.share_before - 0.02)
                    self.assertIsNotNone(shown(done.output.read_bytes()))

    def test_a_strip_is_kept_up_to_its_damage(self):
        data = bytearray(whole("tif"))
        with Image.open(io.BytesIO(bytes(data))) as opened:
            start, size = opened.tag_v2[273][0], opened.tag_v2[279][0]
        place = (start + size * 3 // 4) // 512 * 512
        data[place : place + 512] = bytes(512)
        done = damage.mended(self.folder, "strip.tif", bytes(data))
        truth = shown(whole("tif"))
        right = (np.abs(shown(done.output.read_bytes()) - truth).max(2) == 0).all(axis=1)
        rows = done.changes[0].values["areas"][0]
        self.assertGreater(rows[0], 0)
        self.assertTrue(right[: rows[0]].all() and right[rows[2] :].all())

    def test_what_is_better(self):
        partial, sound = find(Grade.PARTIAL, 0.5, refused=True), find(Grade.WHOLE, 1.0)
        self.assertTrue(is_better(partial, made(0.9), sound))
        self.assertTrue(is_better(partial, made(0.5), sound))  # it opens everywhere now
        self.assertTrue(is_better(partial, made(0.49), sound))
        self.assertFalse(is_better(partial, made(0.45), sound))
        self.assertFalse(is_better(find(Grade.PARTIAL, 0.5), made(0.49), sound))
        self.assertFalse(is_better(partial, made(0.5, code="preview-taken"), sound))
        self.assertTrue(is_better(partial, made(0.45, before=0.3), sound))
        self.assertFalse(is_better(partial, made(0.9), find(Grade.REMNANT, 0.01)))

    def test_what_no_decoder_opens_is_not_more_than_before(self):
        refused = find(Grade.PARTIAL, 0.9999, refused=True)
        found = measured(find(Grade.PARTIAL, 0.4, refused=True), made(1.0), refused)
        self.assertEqual((found.before, found.after), (0.4, 0.4))
        self.assertFalse(is_better(find(Grade.PARTIAL, 0.4, refused=True), made(1.0), refused))


if __name__ == "__main__":
    unittest.main()
