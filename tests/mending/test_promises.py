"""What is called mended is what it was, apart from the places that are told; levels are right, or
doubted."""

from __future__ import annotations

import io
import random
import struct
import threading
from unittest import mock

import numpy as np
from benchmarks import mending_damage
from benchmarks.mending import FALSE, shown, untold
from PIL import Image

from needlewright.core.formats.registry import formats
from needlewright.core.jobs.mending import wishes_of
from needlewright.core.mending import mend_jpeg, treating
from needlewright.core.mending.base import Change, Choice, Mended, Mender, Patient, Wishes
from needlewright.core.mending.jpeg import guide, levelling, solving
from needlewright.core.mending.jpeg.anatomy import layout_of, read_head
from needlewright.core.mending.jpeg.ends import coded_end
from needlewright.core.sources.files import ImageFile
from tests.mending import damage
from tests.support import FolderTest

KINDS = ("changed", "removed", "inserted", "inserted photo", "zeroed", "doubled", "single bytes")


def solved(data: bytes, places: dict[int, int] | None = None):
    head = read_head(data)
    stop, closed = coded_end(data, head)
    raw = np.frombuffer(data, np.uint8)[head.begin : stop]
    thumbnail = guide.guide_of(head)
    found = solving.solve(raw, layout_of(head), True, closed, lambda: None, thumbnail,
                          places or {})
    return found, thumbnail


class PromisesTest(FolderTest):
    def test_mended_is_never_said_of_what_differs(self):
        said = 0
        for seed in range(4):
            whole = damage.photo(20 + seed, 640, 480)
            truth = shown(whole, False)
            for kind in KINDS:
                with self.subTest(kind, seed=seed):
                    hurt, _ = mending_damage.photo(whole, kind, random.Random(f"{kind} {seed}"))
                    done = damage.mended(self.folder, f"{kind} {seed}.jpg", hurt)
                    if done.grade == "mended":
                        said += 1
                        after = shown(done.output.read_bytes(), False)
                        # A level that is one step off tips a few pixels over.
                        self.assertLess(untold(done, after, truth), 4 * FALSE, done.changes)
        self.assertGreater(said, 5)  # and it is said of some

    def test_levels_behind_a_break_are_right_or_doubted(self):
        for seed in range(6):
            whole = damage.photo(40 + seed, 640, 480)
            at = damage.inside(whole, 0.3 + seed / 12)
            hurt = whole[:at] + whole[at + 700 :]
            found, thumbnail = solved(hurt)
            self.assertTrue(found.placed.breaks)
            solving.by_guide(found, thumbnail)
            off = self.off(found, whole)
            with self.subTest(seed, doubts=found.doubts, off=off):
                self.assertTrue(found.doubts or max(map(abs, off)) <= 2)

    def off(self, found, whole: bytes) -> list[float]:
        """How much brighter each component is at the end than it was."""
        truth, _ = solved(whole)
        layout = truth.canvas.layout
        tail = slice(-2 * layout.per_row, None)
        there = found.canvas.there[tail] & truth.canvas.there[tail]
        both = [guide.means_of(one.canvas)[:, tail][:, there] for one in (found, truth)]
        return [float(v) for v in np.median(both[0] - both[1], axis=1)]

    def test_without_a_thumbnail_only_rows_that_join_make_a_level_sure(self):
        whole = damage.bare(5, 640, 480)
        at = damage.inside(whole, 0.5)
        found, thumbnail = solved(whole[:at] + whole[at + 700 :])
        self.assertIsNone(thumbnail)
        done = levelling.level(found.canvas, found.placed.breaks, None)
        self.assertEqual(done.guided, 0)
        self.assertTrue(all(e > 0 for errors in done.errors for e in errors))

    def test_a_piece_is_put_where_a_person_says(self):
        whole = damage.photo(2, 640, 480)
        at = damage.inside(whole, 0.5)
        hurt = whole[:at] + bytes(600) + whole[at + 600 :]
        found, _ = solved(hurt)
        choices = [c for c in found.placed.choices if c.shifts]
        self.assertTrue(choices and all(isinstance(c, Choice) for c in choices))
        other = choices[0].shifts[0] + found.canvas.layout.per_row
        moved, _ = solved(hurt, {choices[0].number: other})
        self.assertEqual(moved.placed.by_hand, 1)
        self.assertIn("by-hand", moved.doubts)
        self.assertIn(other, [b.shift for b in moved.placed.breaks])
        self.assertFalse(Wishes().any)
        self.assertTrue(Wishes(places={0: 1}).any)

    def test_the_rest_behind_a_break_that_the_decoder_passed_is_put_elsewhere_too(self):
        whole = damage.photo(2, 640, 480)
        at = damage.inside(whole, 0.7)
        hurt = whole[:at] + whole[at + 200 :]
        found, _ = solved(hurt)
        (choice,) = found.placed.choices
        self.assertGreater(len(choice.shifts), 1)
        self.assertEqual(choice.shifts[0], found.placed.breaks[0].shift)
        by = found.canvas.layout.per_row * 2 + 3
        moved, _ = solved(hurt, {choice.number: choice.shifts[0] + by})
        self.assertEqual([b.shift for b in moved.placed.breaks], [choice.shifts[0] + by])
        first = found.placed.breaks[0].place + found.canvas.layout.per_row
        np.testing.assert_array_equal(moved.canvas.coefficients[first + by : -by, :, 1:],
                                      found.canvas.coefficients[first : -2 * by, :, 1:])

    def test_a_run_of_segments_is_put_where_a_person_says(self):
        """Restart markers tell its place but for whole turns of eight."""
        whole = damage.photo(2, 640, 480, restart_rows=1)
        at = damage.inside(whole, 0.3)
        found, _ = solved(whole[:at] + whole[at + 6000 :])
        (choice,) = found.placed.choices
        per_row, rows = found.canvas.layout.per_row, found.canvas.layout.rows
        self.assertEqual({(s - choice.shifts[0]) // per_row for s in choice.shifts[1:]} - {-8, 8},
                         set())
        first = int(np.flatnonzero(~found.canvas.there)[-1]) + 1
        self.assertLess(first, (rows - 2) * per_row)
        by = -per_row  # into the room of what is missing; nothing is put over what stands there
        moved, _ = solved(whole[:at] + whole[at + 6000 :],
                          {choice.number: choice.shifts[0] + by + 3})
        self.assertEqual((moved.placed.by_hand, "by-hand" in moved.doubts), (1, True))
        np.testing.assert_array_equal(moved.canvas.coefficients[first + by : by],
                                      found.canvas.coefficients[first:])

    def test_the_rest_has_the_colour_that_a_person_chooses(self):
        """And what stands before the break keeps its own."""
        whole = damage.photo(2, 640, 480)
        at = damage.inside(whole, 0.5)
        path = self.folder / "BF_0412.JPG"
        path.write_bytes(whole[:at] + whole[at + 200 :])
        told = []
        for wishes in (Wishes(), None):
            if wishes is None:
                (choice,) = [c for c in told[0].choices if c.tones]
                self.assertEqual((choice.tones[0], choice.ways[0]), ((0, 0, 0), "as-it-stands"))
                self.assertGreater(len(choice.tones), 1)
                wishes = Wishes(tones={choice.number: (24.0, 0.0, -9.0)})
            with ImageFile(path) as source:
                walk = formats()["jpeg"].walk(source, 0, source.size)
                told.append(mend_jpeg.mend(Patient(
                    source, path.name, "jpeg", walk, (), threading.Event(), wishes=wishes)))
        pictures = []
        for one in told:
            out = io.BytesIO()
            one.write(out)
            pictures.append(np.asarray(
                Image.open(out).convert("YCbCr").resize((64, 48))).astype(int))
        off = pictures[1] - pictures[0]
        self.assertLess(np.abs(off[:20]).max(), 3)
        self.assertEqual([round(float(np.median(off[34:, :, c]))) for c in (0, 1, 2)], [24, 0, -9])
        self.assertIn("by-hand", told[1].doubts)
        decided = wishes_of(told[1].changes)
        self.assertEqual({n: tuple(t) for n, t in decided.tones.items()}, wishes.tones)


class SizeTest(FolderTest):
    def test_damage_that_ends_as_another_size_does_is_mended_at_the_stated_one(self):
        """A few zeros of many seeds: some decode to the very end, of other MCUs than are stated."""
        found = 0
        for seed in range(12):
            whole = damage.photo(60 + seed, 640, 480)
            at = damage.inside(whole, 0.6)
            hurt = whole[:at] + bytes(512) + whole[at + 512 :]
            done = damage.mended(self.folder, f"{seed}.jpg", hurt)
            if done.output is None:
                continue
            found += 1
            self.assertEqual(shown(done.output.read_bytes(), False).shape, (480, 640, 3))
        self.assertGreater(found, 9)


class OddFileTest(FolderTest):
    def test_what_no_mender_is_prepared_for_ends_nothing(self):
        """Neither where a proposal is made, nor where it is written."""
        def failing(out):
            raise struct.error("argument out of range")

        whole = damage.photo(2)
        for odd in (lambda patient: int("odd"),
                    lambda patient: [Mended(failing, "jpg", (Change("end-added"),))]):
            way = Mender("odd", frozenset(("jpeg",)), odd)
            with mock.patch.object(treating, "menders", lambda way=way: {"odd": way}):
                done = damage.mended(self.folder, "x.jpg", whole[: len(whole) // 2])
            self.assertEqual((done.output, done.why), (None, "fault"))
            self.assertEqual(list((self.folder / "out").iterdir()), [])
