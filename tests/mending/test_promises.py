"""What is called mended is what it was, apart from the places that are told; levels are right, or
doubted."""

from __future__ import annotations

import random
import struct
from unittest import mock

import numpy as np
from benchmarks import mending_damage
from benchmarks.mending import FALSE, shown, untold

from needlewright.core.mending import treating
from needlewright.core.mending.base import Change, Choice, Mended, Mender, Wishes
from needlewright.core.mending.jpeg import guide, levelling, solving
from needlewright.core.mending.jpeg.anatomy import layout_of, read_head
from needlewright.core.mending.jpeg.ends import coded_end
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
        self.assertGreater(said, 8)  # and it is said of many

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
