"""Photographs coded in passes: each is taken up again behind damage, and what is told to be missing
is all that differs."""

from __future__ import annotations

import io
import threading
import unittest

import numpy as np
from benchmarks import mending as bench
from PIL import Image

from needlewright.core.formats.registry import formats
from needlewright.core.jobs.mending import wishes_of
from needlewright.core.mending import mend_jpeg
from needlewright.core.mending.base import Patient, Wishes
from needlewright.core.mending.jpeg import writing
from needlewright.core.mending.jpeg.anatomy import read_head
from needlewright.core.mending.jpeg.blocks import picture_of
from needlewright.core.mending.jpeg.ends import coded_end
from needlewright.core.mending.jpeg.passes import Pass
from needlewright.core.mending.jpeg.scans import scans_of
from needlewright.core.sources.files import ImageFile
from tests.mending import damage
from tests.support import FolderTest, noise


def codes(done) -> list[str]:
    return [change.code for change in done.changes]


def parts(data: bytes) -> list[tuple[int, int]]:
    """(start, stop) of the coded data of each scan."""
    head = read_head(data)
    return [(s.begin, s.begin + s.data.size) for s in scans_of(head, coded_end(data, head)[0])]


class BehindDamageTest(FolderTest):
    whole = damage.photo(3, 1024, 768, progressive=True)

    def mend(self, data: bytes, least: float, doubts: tuple[str, ...] = ()) -> list[str]:
        """Codes of what was done; all that is not told to be missing is as it was."""
        done = damage.mended(self.folder, f"{len(data)}.jpg", data)
        self.assertIsNotNone(done.output, done.why)
        made = done.output.read_bytes()
        self.assertGreater(damage.kept(made, self.whole), least)
        truth, after = bench.shown(self.whole), bench.shown(made)
        self.assertLess(bench.untold(done, after, truth), 0.002)
        self.assertEqual(done.doubts, doubts)
        return codes(done)

    def test_first_scans_are_placed_by_their_end(self):
        for number in (1, 4):
            start, stop = parts(self.whole)[number]
            at = (start + stop) // 2
            for hole in (b"", bytes(500), noise(500, number)):
                changes = self.mend(self.whole[:at] + hole + self.whole[at + 500 :], 0.9)
                self.assertEqual(changes, ["scans-joined", "detail-missing"])

    def test_refining_scans_are_placed_by_what_they_refine(self):
        start, stop = parts(self.whole)[-1]
        for share in (0.2, 0.6):
            at = start + int((stop - start) * share)
            for size, hole in ((700, b""), (0, noise(5000, 3)), (40, noise(40, 4))):
                self.mend(self.whole[:at] + hole + self.whole[at + size :], 0.98)

    def test_levels_behind_a_hole_in_the_first_scan_are_found_again(self):
        start, stop = parts(self.whole)[0]
        at = (start + stop) // 2
        changes = self.mend(self.whole[:at] + noise(200, 6) + self.whole[at + 200 :], 0.9,
                            ("levels-guessed",))  # by a small thumbnail alone
        self.assertIn("blocks-missing", changes)

    def test_the_rest_is_put_where_a_person_says(self):
        start, stop = parts(self.whole)[0]
        at = (start + stop) // 2
        hurt = self.whole[:at] + noise(200, 6) + self.whole[at + 200 :]
        path = self.folder / "BF_0412.JPG"
        path.write_bytes(hurt)
        told = []
        for by in (None, 2):
            wishes = Wishes()
            if by is not None:
                choice = next(c for c in told[0].choices if c.shifts)
                self.assertEqual(choice.shifts[0], 0)
                wishes = Wishes(places={choice.number: by * choice.unit[2]})
            with ImageFile(path) as source:
                told.append(mend_jpeg.mend(Patient(
                    source, path.name, "jpeg", formats()["jpeg"].walk(source, 0, source.size), (),
                    threading.Event(), wishes=wishes)))
        self.assertIn("by-hand", told[1].doubts)
        self.assertEqual(wishes_of(told[1].changes).places, wishes.places)
        seen = []
        for one in told:
            out = io.BytesIO()
            one.write(out)
            seen.append(np.asarray(Image.open(out).convert("L")).astype(int))
        down = 2 * choice.unit[1]
        first = choice.rows[0] + 2 * choice.unit[1]
        moved = seen[1][first + down :] - seen[0][first : -down or None]
        self.assertLess(np.median(np.abs(moved - np.median(moved))), 2)  # but for its level
        before = choice.rows[0] - 32
        np.testing.assert_array_equal(seen[1][:before], seen[0][:before])

    def test_a_wrong_size_is_found_to_the_last_block(self):
        whole = damage.photo(5, 1000, 744, progressive=True)
        at = whole.rfind(b"\xff\xc2\0", 0, parts(whole)[0][0]) + 5
        wrong = whole[:at] + b"\x02\x20\x03\x30" + whole[at + 4 :]
        done = damage.mended(self.folder, "s.jpg", wrong)
        self.assertEqual((done.grade, codes(done)), ("mended", ["size-found"]), done.why)
        self.assertEqual(done.output.read_bytes(), whole)

    def test_a_head_that_is_left_is_used_and_codes_are_never_guessed(self):
        done = damage.mended(self.folder, "z.jpg", bytes(900) + self.whole[900:])
        self.assertEqual((done.grade, codes(done)), ("mended", ["header-left"]), done.why)
        cut = self.whole[parts(self.whole)[0][0] :]
        other = damage.photo(7, 1024, 768, progressive=True)
        lost = damage.mended(self.folder, "c.jpg", cut, other)
        self.assertEqual((lost.output, lost.why), (None, "codes-lost"))

    def test_what_was_cut_off_opens_and_says_that_it_is_less_sharp(self):
        start, stop = parts(self.whole)[-1]
        done = damage.mended(self.folder, "e.jpg", self.whole[: start + (stop - start) // 5])
        self.assertEqual((done.grade, done.doubts), ("partial", ("scans-missing",)))
        self.assertIn("end-added", codes(done))
        self.assertIsNotNone(bench.shown(done.output.read_bytes()))


class PassTest(unittest.TestCase):
    def test_coefficients_are_those_of_the_sequential_picture(self):
        """Pillow's own lossless truth: the same picture saved both ways has the same pixels."""
        for options in ({}, {"subsampling": 0}, {"restart_marker_rows": 2}):
            picture = Image.open(io.BytesIO(damage.bare(8, 333, 217)))
            pair = []
            for progressive in (True, False):
                out = io.BytesIO()
                picture.save(out, "JPEG", quality=85, progressive=progressive, **options)
                pair.append(out.getvalue())
            head = read_head(pair[0])
            done = picture_of(head)
            for scan in scans_of(head, coded_end(pair[0], head)[0]):
                self.assertEqual(Pass(scan, done, True, lambda: None).run().breaks, 0)
            layout = done.layout()
            order = done.order(list(range(len(head.frame.components))))
            made = writing.picture(head, head.frame, np.ascontiguousarray(
                done.blocks[order].reshape(layout.total, -1, 64)), layout.coding.component, 0)
            np.testing.assert_array_equal(bench.shown(made), bench.shown(pair[1]))
