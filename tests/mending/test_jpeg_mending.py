"""Damaged photographs mended: what is there comes back, what is not is told, and nothing is made
up."""

from __future__ import annotations

import random
import struct
import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from needlewright.core.mending.jpeg.anatomy import read_head
from needlewright.core.mending.jpeg.doubled import doubled
from needlewright.core.mending.jpeg.ends import coded_end
from needlewright.core.mending.jpeg.scoring import FLOOR, medians, typicals
from needlewright.core.mending.jpeg.segments import numbered
from needlewright.demo import photos, scenes
from tests.examples import examples
from tests.mending import damage
from tests.support import FolderTest, noise


def codes(done) -> list[str]:
    return [change.code for change in done.changes]


class HeadTest(FolderTest):
    """Headers that are lost, in part or wholly."""

    def test_a_sibling_lends_what_decoding_needs_and_nothing_else(self):
        whole, sibling = damage.photo(2), damage.photo(3)
        begin = damage.coded_start(whole)
        for name, data in (("cut.jpg", whole[begin:]),
                           ("zeroed.jpg", bytes(begin) + whole[begin:])):
            with self.subTest(name):
                done = damage.mended(self.folder, name, data, sibling)
                self.assertEqual(done.grade, "mended", (done.why, done.changes))
                self.assertIn("header-lent", codes(done))
                made = done.output.read_bytes()
                self.assertEqual(damage.kept(made, whole), 1.0)
                # its own is lost, and another's is none of its
                self.assertNotIn(b"2031:05:12", made)

    def test_what_the_picture_needs_may_still_be_there(self):
        whole = damage.photo(2)
        done = damage.mended(self.folder, "x.jpg", bytes(512) + whole[512:])
        self.assertEqual((done.grade, codes(done)), ("mended", ["header-left"]))
        self.assertEqual(damage.kept(done.output.read_bytes(), whole), 1.0)

    def test_the_right_one_of_several_siblings_is_taken(self):
        whole = damage.photo(2)
        others = [damage.photo(3, 640, 480), damage.bare(4, 528, 720, quality=40, optimize=True),
                  damage.photo(5)]
        done = damage.mended(self.folder, "x.jpg", whole[damage.coded_start(whole):], *others)
        self.assertEqual(done.grade, "mended")
        self.assertTrue(done.reference.endswith("sibling 2.jpg"))

    def test_a_sibling_of_another_sampling_lends_its_tables(self):
        whole = damage.bare(2, subsampling="4:2:2")
        for sampling in ("4:2:0", "4:4:4"):
            done = damage.mended(self.folder, f"{sampling[2:].replace(':', '')}.jpg",
                                 whole[damage.coded_start(whole):],
                                 damage.bare(4, subsampling=sampling))
            self.assertEqual(done.grade, "mended", done.why)
            self.assertEqual(damage.kept(done.output.read_bytes(), whole), 1.0)

    def test_a_reference_of_another_camera_is_refused_and_said_so(self):
        whole = damage.bare(2, optimize=True)
        other = damage.bare(9, 400, 304, quality=35, optimize=True, subsampling=0)
        begin = damage.coded_start(whole)
        done = damage.mended(self.folder, "x.jpg", whole[begin:], other)
        self.assertIsNone(done.output)
        self.assertIn(done.why, ("reference-other", "no-better", "nothing-decodes"))
        done = damage.mended(self.folder, "y.jpg", whole[begin:], other[:300])
        self.assertIsNone(done.output)
        self.assertEqual(damage.mended(self.folder, "z.jpg", whole[begin:]).why,
                         "reference-missing")

    def test_a_wrong_size_is_found_by_the_rows(self):
        whole = damage.photo(6)
        at = whole.rfind(b"\xff\xc0", 0, damage.coded_start(whole)) + 5
        within = damage.seen(whole).shape[1] - 9  # of the last column of blocks: as Exif says
        for size in ((304, 1254), (65_535, 65_535), (528, 736), (1, 1), (2575, within)):
            with self.subTest(size):
                wrong = whole[:at] + struct.pack(">HH", *size) + whole[at + 4 :]
                done = damage.mended(self.folder, f"{size[0]}.jpg", wrong)
                if size[0] == 65_535:  # no decoder could hold it
                    continue
                self.assertEqual(done.grade, "mended", done.why)
                picture = damage.seen(done.output.read_bytes())
                original = damage.seen(whole)
                self.assertEqual(picture.shape, original.shape)
                self.assertTrue((picture == original).all())


class CodedTest(FolderTest):
    """Coded data that is damaged, without restart markers."""

    def check(self, name: str, data: bytes, whole: bytes, possible: float, grade: str = "mended"):
        done = damage.mended(self.folder, f"{name}.jpg", data)
        self.assertIsNotNone(done.output, (name, done.why))
        made = done.output.read_bytes()
        self.assertGreaterEqual(damage.kept(made, whole), possible, (name, done.changes))
        self.assertGreaterEqual(damage.kept(made, whole) + 0.004,
                                damage.kept(data, whole, patient=True))
        if grade:
            self.assertEqual(done.grade, grade, (name, done.changes, done.doubts))
        return done

    def test_zeros_become_neutral_and_the_rest_finds_its_place(self):
        whole = damage.photo(11)
        at = damage.inside(whole, 0.45)
        done = self.check("zeros", whole[:at] + bytes(2048) + whole[at + 2048 :], whole, 0.9, "")
        missing = next(c for c in done.changes if c.code == "blocks-missing")
        self.assertLess(missing.values["share"], 0.1)
        picture = damage.seen(done.output.read_bytes())
        top, _, _, right = missing.values["areas"][0]
        block = picture[top + 4 : top + 8, right - 12 : right - 4]
        self.assertLess(np.abs(block - 128).max(), 3)  # grey, not what anybody would guess

    def test_bytes_that_were_inserted_are_passed_over(self):
        whole = damage.photo(12)
        at = damage.inside(whole, 0.4)
        for size in (100, 4096, 20_000):
            done = self.check(f"insert {size}", whole[:at] + noise(size) + whole[at:], whole, 0.985,
                              "")
            self.assertIn(done.doubts, ((), ("levels-guessed",)))  # one row tells little

    def test_a_stretch_that_stands_twice_is_taken_out_byte_for_byte(self):
        whole = damage.photo(13)
        at = damage.inside(whole, 0.3)
        done = self.check("twice", whole[: at + 4096] + whole[at:], whole, 1.0)
        self.assertEqual(done.output.read_bytes(), whole)
        self.assertEqual(codes(done), ["double-removed"])

    def test_bytes_that_are_missing_or_changed(self):
        whole = damage.photo(14)
        at = damage.inside(whole, 0.5)
        self.check("removed", whole[:at] + whole[at + 700 :], whole, 0.9, "")
        self.check("changed", whole[:at] + noise(32) + whole[at + 32 :], whole, 0.95, "")

    def test_several_breaks_in_one_file(self):
        whole = damage.photo(15, 1200, 900)
        data = bytearray(whole)
        for share in (0.25, 0.5, 0.75):
            at = damage.inside(whole, share)
            data[at : at + 48] = noise(48, at)
        self.check("often", bytes(data), whole, 0.85, "")

    def test_a_file_that_was_cut_off_is_closed_and_says_what_is_missing(self):
        whole = damage.photo(16)
        data = whole[: damage.inside(whole, 0.7)]
        self.assertIsNone(damage.seen(data))
        done = self.check("cut", data, whole, 0.6, "")
        self.assertIn("end-added", codes(done))
        self.assertLess(done.share, 0.8)
        done = damage.mended(self.folder, "no end.jpg", whole[:-2])
        self.assertEqual(done.output.read_bytes(), whole)

    def test_dates_and_the_appended_picture_stay(self):
        whole = damage.photo(17) + damage.bare(18, 160, 112)
        at = damage.inside(damage.photo(17), 0.5)
        done = damage.mended(self.folder, "x.jpg", whole[:at] + noise(900) + whole[at + 900 :])
        made = done.output.read_bytes()
        self.assertIn(b"2031:05:12", made)
        self.assertTrue(made.endswith(damage.bare(18, 160, 112)))

    def test_without_a_thumbnail_several_breaks_are_never_called_mended(self):
        whole = damage.bare(19, 1000, 752)
        data = bytearray(whole)
        for share in (0.3, 0.6):
            at = damage.inside(whole, share)
            data[at : at + 48] = noise(48, at)
        done = damage.mended(self.folder, "x.jpg", bytes(data))
        self.assertNotEqual(done.grade, "mended")

    def test_edges_of_the_picture_are_no_breaks_where_all_decodes_to_its_end(self):
        """The demo's caption bar is one: of a file that only lacks its header nothing else
        changes."""
        whole = photos.encode_photo(scenes.draw_photo(7, 1024, 768, "Alder bend"), damage.TAKEN, 90,
                                    88)
        done = damage.mended(self.folder, "x.jpg", whole[damage.coded_start(whole):], whole)
        self.assertEqual((done.grade, done.share, codes(done)), ("mended", 1.0, ["header-lent"]))
        self.assertEqual(damage.kept(done.output.read_bytes(), whole), 1.0)

    def test_nothing_is_done_to_what_is_whole(self):
        whole = damage.photo(20)
        done = damage.mended(self.folder, "x.jpg", whole)
        self.assertEqual((done.output, done.why), (None, "whole"))
        self.assertEqual(list((self.folder / "out").iterdir()), [])

    def test_line_ends_of_a_transfer_are_put_back(self):
        whole = damage.photo(21)
        done = damage.mended(self.folder, "x.jpg", whole.replace(b"\n", b"\r\n"))
        self.assertEqual((done.output.read_bytes(), codes(done)), (whole, ["line-ends"]))


class RestartTest(FolderTest):
    """With restart markers damage stays where it is."""

    def test_segments_go_where_their_numbers_say(self):
        whole = damage.photo(30, restart_rows=1)
        at = damage.inside(whole, 0.5)
        for name, data, possible in (
                ("changed", whole[:at] + noise(60) + whole[at + 60 :], 0.96),
                ("removed", whole[:at] + whole[at + 5000 :], 0.85),
                ("inserted", whole[:at] + noise(3000) + whole[at:], 0.94),
                ("zeros", whole[:at] + bytes(2048) + whole[at + 2048 :], 0.9)):
            with self.subTest(name):
                done = damage.mended(self.folder, f"{name}.jpg", data)
                self.assertIsNotNone(done.output, done.why)
                self.assertGreaterEqual(damage.kept(done.output.read_bytes(), whole), possible)

    def test_numbers_count_modulo_eight_and_from_both_ends(self):
        whole = [-1, *(n % 8 for n in range(19))]
        sound = [True] * 20
        self.assertEqual(numbered(whole, sound, 20, True, True), list(range(20)))
        lost = whole[:5] + whole[8:]
        self.assertEqual(numbered(lost, sound[3:], 20, True, True),
                         [*range(5), *range(8, 20)])
        chance = [*whole[:6], 1, *whole[6:]]
        fine = [*sound[:6], False, *sound[6:]]
        self.assertEqual(numbered(chance, fine, 20, True, True),
                         [*range(6), None, *range(6, 20)])
        self.assertEqual(numbered(whole[:7], sound[:7], 20, True, False), list(range(7)))
        swapped = [*range(5), *range(9, 12), *range(5, 9), *range(12, 20)]  # runs of 3 and 4
        self.assertEqual(numbered([whole[n] for n in swapped], sound, 20, True, True), swapped)


class ProgressiveTest(FolderTest):
    def test_what_stands_twice_is_taken_out(self):
        whole = damage.photo(2, progressive=True)
        for share, size in ((0.2, 700), (0.7, 4096)):
            at = damage.inside(whole, share)
            done = damage.mended(self.folder, f"{size}.jpg",
                                 whole[: at + size] + whole[at : at + size] + whole[at + size :])
            self.assertEqual((done.grade, codes(done)), ("mended", ["double-removed"]), done.why)
            self.assertEqual(done.output.read_bytes(), whole)

    def test_later_scans_are_not_thrown_away(self):
        whole = damage.photo(3, progressive=True)
        at = damage.inside(whole, 0.3)
        struck = whole[:at] + bytes(900) + whole[at + 900 :]
        done = damage.mended(self.folder, "x.jpg", struck)
        self.assertGreater(damage.kept(done.output.read_bytes(), whole),
                           damage.kept(struck, whole, True) + 0.02)
        cut = damage.mended(self.folder, "y.jpg", whole[:-2])
        self.assertGreater(damage.kept(cut.output.read_bytes(), whole), 0.99)


class PartsTest(unittest.TestCase):
    def test_doubled_finds_what_follows_itself(self):
        rng = random.Random(3)
        data = rng.randbytes(40_000)
        for start, size in ((9000, 512), (12_345, 4096), (300, 20_000)):
            raw = data[: start + size] + data[start : start + size] + data[start + size :]
            found = doubled(np.frombuffer(raw, np.uint8))
            self.assertEqual(found, (start + size, start + 2 * size))
        self.assertIsNone(doubled(np.frombuffer(data, np.uint8)))
        self.assertIsNone(doubled(np.zeros(50_000, np.uint8)))

    def test_an_end_mark_counts_where_what_follows_is_known(self):
        whole = damage.photo(40)
        head = read_head(whole)
        self.assertEqual(coded_end(whole, head), (len(whole) - 2, True))
        self.assertEqual(coded_end(whole[:-2], head), (len(whole) - 2, False))
        at = damage.inside(whole, 0.5)
        chance = whole[:at] + b"\xff\xd9" + whole[at:]
        self.assertEqual(coded_end(chance, head), (len(chance) - 2, True))
        padded = whole + bytes(4096)
        self.assertEqual(coded_end(padded, head), (len(whole) - 2, True))
        twice = whole + damage.bare(18, 160, 112)
        self.assertEqual(coded_end(twice, head), (len(whole) - 2, True))
        self.assertEqual(coded_end(whole[:-2] + bytes(4096), head)[1], False)


class HostileTest(FolderTest):
    def test_nonsense_is_told_and_never_raised(self):
        whole = damage.photo(41, 320, 240)
        rng = random.Random(5)
        cases = [b"\xff", b"\xff\xd8", b"\xff\xd8\xff", noise(3000), bytes(5000),
                 whole[:200] + noise(3000), whole[: damage.coded_start(whole)],
                 b"\xff\xd8" + b"\xff\xe0\0\2" * 5000]
        for _ in range(10):
            data = bytearray(whole)
            for _ in range(rng.randrange(1, 60)):
                data[rng.randrange(len(data))] = rng.randrange(256)
            start = rng.randrange(len(data))
            del data[start : start + rng.randrange(300)]
            cases.append(bytes(data))
        for number, data in enumerate(cases):
            done = damage.mended(self.folder, f"{number}.jpg", data, whole)
            self.assertTrue(done.output or done.why or done.error, number)
            if done.output is not None:
                self.assertIsNotNone(damage.seen(done.output.read_bytes()), number)
        self.assertFalse([p for p in (self.folder / "out").iterdir() if p.name.startswith(".")])


class ScoringTest(unittest.TestCase):
    """Many places at once, against a plain reading of one."""

    @examples(60)
    @given(st.integers(1, 6), st.integers(1, 40), st.integers(0, 1 << 30))
    def test_medians_and_means_of_rows(self, rows, count, seed):
        rng = np.random.default_rng(seed)
        values = rng.normal(0, 5, (rows, count)).astype(np.float32)
        values[rng.random((rows, count)) < 0.3] = np.nan
        numbers = (~np.isnan(values)).sum(axis=1)
        found, means = medians(values, numbers), typicals(np.abs(values), numbers)
        for row, wanted, middle, mean in zip(values, numbers, found, means, strict=True):
            there = row[~np.isnan(row)]
            if not wanted:
                self.assertEqual((middle, mean), (0, np.inf))
                continue
            self.assertAlmostEqual(middle, np.median(there), places=4)
            cost = np.abs(there)
            self.assertAlmostEqual(mean, np.minimum(cost, 3 * np.median(cost) + FLOOR).mean(),
                                   places=3)
