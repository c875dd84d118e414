"""Where files go: planned first, no two in one place, nothing longer than the destination takes."""

from __future__ import annotations

import unicodedata
import unittest
from pathlib import Path, PurePosixPath

from hypothesis import given
from hypothesis import strategies as st

from needlewright.core.contents import Stretches
from needlewright.core.delivery.tree import Room, Tops, path_of, plan, room_at, volume_of
from needlewright.core.finds import Record
from needlewright.core.jobfile.rows import FindRecord, FindRow, SourceRow
from needlewright.core.names import MAX_NAME_BYTES, Names, harmless, one_line, safe_name
from needlewright.core.search.events import VolumeSeen
from tests.examples import examples

NO_TOPS = Tops((), {}, ())


def find(number, path, source=1, volume=0, kept="", original=None, recorded=True):
    name = path.rpartition("/")[2] if path else None
    row = FindRow(number, source, "photo", "jpeg", "jpg", number * 4096, 10, "whole", 1.0, name,
                  path, True, 4, 3, None, None, 1, None, ("records",), False, False, kept=kept)
    record = Record(512, kept=kept, original=original, volume=volume) if recorded else None
    return FindRecord(row, Stretches(((number * 4096, 10),)), (), (), {}, None, None, record)


def places(records, room=None, tops=NO_TOPS):
    planned = plan(records, tops, room or Room(), lambda row: f"photo {row.id}.jpg")
    return [str(p.place) for p in planned], planned


class PlanTest(unittest.TestCase):
    def test_a_file_beside_a_folder_of_its_name(self):
        for order in ((("a", "a/b.jpg")), (("a/b.jpg", "a")), ("A", "a/B", "a/b/c")):
            with self.subTest(order):
                made, _ = places([find(i, path) for i, path in enumerate(order, 1)])
                self.check(made)

    def check(self, made):
        keys = [unicodedata.normalize("NFKD", place).casefold() for place in made]
        self.assertEqual(len(set(keys)), len(keys), made)
        folders = {str(upper) for place in keys for upper in PurePosixPath(place).parents}
        self.assertFalse(folders & set(keys), made)

    part = st.sampled_from(["a", "A", "b", "á", "á", "con", "x.jpg", "X.JPG", "x (2).jpg", "ß"])

    @examples(150)
    @given(st.lists(st.lists(part, min_size=1, max_size=4), min_size=1, max_size=14))
    def test_no_place_is_given_twice_nor_needed_as_a_folder(self, paths):
        made, _ = places([find(i, "/".join(p)) for i, p in enumerate(paths, 1)])
        self.check(made)
        self.assertEqual(len(made), len(paths))

    @examples(60)
    @given(st.lists(st.text(min_size=1, max_size=400), min_size=1, max_size=40))
    def test_nothing_is_longer_than_fits(self, parts):
        room = Room(60, 300)
        made, planned = places([find(1, "/".join(parts))], room)
        for piece in PurePosixPath(made[0]).parts:
            self.assertLessEqual(len(piece.encode()), 60 + len(".extension") + 8)
        self.assertLessEqual(len(made[0].encode()), 300 + 20)
        self.assertFalse(made[0].startswith("/"))
        self.assertNotIn("..", PurePosixPath(made[0]).parts)
        del planned

    def test_what_was_shortened_is_told(self):
        long = "/".join(["folder of one spring morning"] * 40) + "/otter.jpg"
        made, planned = places([find(1, long), find(2, "short.jpg")], Room(80, 400))
        self.assertEqual([p.shortened for p in planned], [True, False])
        self.assertTrue(made[0].endswith("/otter.jpg"))
        self.assertTrue(made[0].startswith("folder of one spring morning/"))
        _, planned = places([find(1, "n" * 300 + ".jpg")])
        self.assertTrue(planned[0].shortened)

    def test_trash_goes_back_to_where_it_was(self):
        record = find(1, ".Trash/files/x.jpg", kept="trash", original="DCIM/BF_0201.JPG")
        self.assertEqual(path_of(record), "DCIM/BF_0201.JPG")
        hidden = find(1, "private/x.jpg", kept="hidden", original="DCIM/y.JPG")
        self.assertEqual(path_of(hidden), "private/x.jpg")

    def test_finds_without_a_name_are_called_by_their_place(self):
        made, _ = places([find(3, None, recorded=False), find(4, None, recorded=False)])
        self.assertEqual(made, ["photo 3.jpg", "photo 4.jpg"])


class TopsTest(unittest.TestCase):
    sources = (SourceRow(1, "stream card.img", "/c", 10, 512, None),
               SourceRow(2, "field phone.img", "/p", 10, 512, None))

    @staticmethod
    def volume(start, label, kind="fat32"):
        return VolumeSeen(start, 1000, kind, label, 4096, "sound", "mbr")

    def tops(self, *records, volumes=None):
        return Tops(self.sources, volumes or {1: (self.volume(0, "FERN"), self.volume(4096, ""))},
                    [(r.row.source, volume_of(r)) for r in records])

    def test_one_volume_needs_no_folder(self):
        records = [find(1, "DCIM/a.jpg"), find(2, "DCIM/b.jpg")]
        made, _ = places(records, tops=self.tops(*records))
        self.assertEqual(made, ["DCIM/a.jpg", "DCIM/b.jpg"])

    def test_two_volumes_have_a_folder_each(self):
        records = [find(1, "DCIM/a.jpg"), find(2, "DCIM/a.jpg", volume=4096)]
        made, _ = places(records, tops=self.tops(*records))
        self.assertEqual(made, ["FERN/DCIM/a.jpg", "fat32 at 4096/DCIM/a.jpg"])

    def test_volumes_of_one_label_are_told_apart(self):
        same = {1: (self.volume(0, "FERN"), self.volume(4096, "FERN"))}
        records = [find(1, "a.jpg"), find(2, "a.jpg", volume=4096)]
        made, _ = places(records, tops=self.tops(*records, volumes=same))
        self.assertEqual(made, ["FERN/a.jpg", "FERN (2)/a.jpg"])

    def test_two_sources_have_a_folder_each(self):
        records = [find(1, "a.jpg"), find(2, "a.jpg", source=2), find(3, None, recorded=False)]
        made, _ = places(records, tops=self.tops(*records))
        self.assertEqual(made[1], "field phone.img volume at 0/a.jpg")
        self.assertEqual(made[2], "stream card.img/photo 3.jpg")


class NamesTest(unittest.TestCase):
    def test_letters_that_turn_others_around_are_made_harmless(self):
        for letter in "\u202e\u202d\u2066\u2069\u200f\u061c":
            self.assertNotIn(letter, safe_name(f"photo{letter}gpj.exe"))
        self.assertEqual(harmless("a\u202eb"), "a<U+202E>b")
        self.assertEqual(harmless("a\nb"), "a\nb")
        self.assertEqual(one_line("a\nwhole b\x1b"), "a<U+000A>whole b<U+001B>")
        self.assertEqual(harmless("выдра, カワウソ, לוטרה"), "выдра, カワウソ, לוטרה")

    def test_many_files_of_one_name_cost_no_more_than_their_number(self):
        names = Names()
        given_out = {str(names.unique(PurePosixPath("x"), "same.jpg")) for _ in range(20_000)}
        self.assertEqual(len(given_out), 20_000)
        self.assertIn("x/same (20000).jpg", given_out)

    def test_the_room_of_a_destination(self):
        room = room_at(Path("/tmp/not there yet/at all"))
        self.assertLessEqual(room.name, MAX_NAME_BYTES)
        self.assertGreater(room.path, 1000)
        deep = room_at(Path("/tmp/" + "/".join(["deep"] * 700)))
        self.assertLess(deep.path, room.path)
