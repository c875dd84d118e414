"""One odd find never stops a delivery; what could not be handed over is told."""

from __future__ import annotations

import csv
import errno
import fcntl
import io
import json
import os
import threading
from pathlib import Path
from unittest import mock

import bagit
from hypothesis import given
from hypothesis import strategies as st

from needlewright.core.checks.grading import Grade
from needlewright.core.contents import Inline, Packed, Stretches
from needlewright.core.delivery.bag import Delivered, deliver
from needlewright.core.delivery.guards import MARKER, Need, look
from needlewright.core.delivery.listing import COLUMNS, write_lists
from needlewright.core.errors import DeliveryError
from needlewright.core.finds import Find, Record
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.search.events import VolumeSeen
from needlewright.core.volumes.base import Coded
from needlewright.core.walks import Check, Facts, Kind, Outcome
from needlewright.wording import activity
from needlewright.wording.bag import words_for
from tests.examples import examples
from tests.support import FolderTest, camera_jpeg, medium

PHOTO = camera_jpeg(3)
FORMULAS = ("=HYPERLINK(1)", "+1", "-1", "@x", "\t=1", "\r=1")


class FaultCase(FolderTest):
    def setUp(self):
        super().setUp()
        self.card = self.image(medium([(4096 * i, bytes([i]) * 3000) for i in range(1, 60)],
                                      1 << 20))
        self.job, self.source = job_for_image(self.folder / "job", self.card)
        self.addCleanup(self.job.close)
        self.to = self.folder / "out"
        self.number = 0

    def find(self, path, content=None, grade=Grade.WHOLE, removed=True, volume=0, **told):
        self.number += 1
        at = 4096 * self.number
        return Find("jpeg", Kind.PHOTO, "jpg", content or Stretches(((at, 2000),)), grade, 1.0,
                    ("records",), (Check("structure", Outcome.PASS, "structure-ok", {"parts": 1}),),
                    Facts(4, 3), name=path.rpartition("/")[2] if path else None, path=path,
                    removed=removed, record=Record(at, volume=volume, **told))

    def deliver(self, *finds, to=None):
        self.job.add_finds(self.source.id, finds)
        done = list(deliver(self.job, self.job.matching(), to or self.to, words_for(self.job),
                            threading.Event()))[-1]
        self.assertIsInstance(done, Delivered)
        self.assertTrue(bagit.Bag(str(to or self.to)).is_valid())
        self.listed = json.loads((self.to / "finds.json").read_text(encoding="utf-8"))["finds"]
        return done

    def report(self):
        return (self.to / "report.txt").read_text(encoding="utf-8")


class OneOddFindTest(FaultCase):
    def test_a_file_beside_a_folder_of_its_name(self):
        done = self.deliver(self.find("DCIM/a"), self.find("DCIM/a/b.jpg"), self.find("dcim"))
        self.assertEqual((done.files, done.failed), (3, 0))
        self.assertEqual(len({f["file"].casefold() for f in self.listed}), 3)

    def test_paths_over_every_limit_are_shortened_and_told(self):
        deep = "/".join(["a folder whose name somebody thought about for long"] * 120)
        wide = "название" * 60 + ".jpg"
        done = self.deliver(self.find(f"{deep}/otter.jpg"), self.find(wide),
                            self.find("plain.jpg"))
        self.assertEqual((done.files, done.failed, done.shortened), (3, 0, 2))
        self.assertIn("Names that had to be shortened (2)", self.report())
        self.assertIn("2 names had to be shortened", activity.delivered_line(done))
        self.assertEqual({f["path"] for f in self.listed}, {f"{deep}/otter.jpg", wide, "plain.jpg"})

    def test_extents_that_lead_nowhere_fail_alone(self):
        outside = self.find("outside.jpg", Stretches(((1 << 40, 2000),)))
        half = self.find("half.jpg", Stretches((((1 << 20) - 100, 2000),)))
        broken = Packed((Coded(((0, 100),), 500, "unheard-of", 500),), 500)
        done = self.deliver(outside, half, self.find("packed.jpg", broken), self.find("good.jpg"))
        self.assertEqual((done.files, done.failed), (2, 2))
        by_path = {f["path"]: f for f in self.listed}
        for path in ("outside.jpg", "half.jpg"):
            self.assertIsNone(by_path[path]["file"])
            self.assertIn("source ends", by_path[path]["problem"])
        self.assertIsNone(by_path["good.jpg"]["problem"])
        self.assertIn("Chosen, but could not be handed over (2)", self.report())
        self.assertIn("2 finds could not be delivered", activity.delivered_line(done))
        left = {p.name for p in (self.to / "data").rglob("*") if p.is_file()}
        self.assertEqual(left, {"good.jpg", "packed.jpg"})

    def test_a_name_that_the_destination_refuses_fails_alone(self):
        real = Path.open

        def refuse(path, *rest, **more):
            if path.name == "odd.jpg" and "xb" in rest:
                raise OSError(errno.EILSEQ, "Invalid or incomplete multibyte character")
            return real(path, *rest, **more)

        with mock.patch.object(Path, "open", refuse):
            done = self.deliver(self.find("odd.jpg"), self.find("good.jpg"))
        self.assertEqual((done.files, done.failed), (1, 1))

    def test_a_disk_that_fails_ends_the_delivery(self):
        for number, code in ((errno.ENOSPC, "to-full"), (errno.EIO, "to-failed"),
                             (errno.EROFS, "to-failed")):
            with mock.patch("os.fsync", side_effect=OSError(number, "x")), self.assertRaises(
                    DeliveryError) as caught:
                self.deliver(self.find(f"{number}.jpg"))
            self.assertEqual(caught.exception.code, code)
        self.assertFalse((self.to / "bagit.txt").exists())

    def test_a_source_that_is_away_fails_its_own_finds(self):
        other = self.folder / "other.img"
        other.write_bytes(bytes([9]) * 9000)
        with job_for_image(self.folder / "job", other)[0] as job:
            number = job.sources()[-1].id
        self.job.add_finds(number, [self.find("there.jpg", Stretches(((0, 100),)))])
        other.unlink()
        done = self.deliver(self.find("here.jpg"))
        self.assertEqual((done.files, done.failed), (1, 1))

    def test_nothing_readable_at_all_is_a_failure(self):
        with self.assertRaises(DeliveryError) as caught:
            self.deliver(self.find("x.jpg", Stretches(((1 << 40, 10),))))
        self.assertEqual(caught.exception.code, "nothing-readable")

    def test_bytes_of_every_kind_of_content(self):
        done = self.deliver(self.find("note.txt", Inline(b"two cubs", 999)),
                            self.find("holes.bin", Stretches(((4096, 10), (None, 5000)))))
        self.assertEqual(done.failed, 0)
        self.assertEqual((self.to / "data/note.txt").read_bytes(), b"two cubs")
        self.assertEqual((self.to / "data/holes.bin").read_bytes(), b"\x01" * 10 + bytes(5000))
        by_path = {f["path"]: f["encoding"] for f in self.listed}
        self.assertEqual(by_path, {"note.txt": "resident", "holes.bin": "plain"})


class PlaceTest(FaultCase):
    def test_two_deliveries_to_one_place(self):
        self.to.mkdir()
        with (self.to / MARKER).open("w") as marker:
            marker.write(json.dumps({"job": self.job.meta("id") or "x"}))
            marker.flush()
            fcntl.flock(marker, fcntl.LOCK_EX)
            with self.assertRaises(DeliveryError) as caught:
                self.deliver(self.find("a.jpg"))
            self.assertIn(caught.exception.code, ("to-busy", "to-not-empty"))
        (self.to / MARKER).unlink()
        self.assertEqual(self.deliver().files, 1)

    def test_a_second_one_while_the_first_runs(self):
        self.job.add_finds(self.source.id, [self.find("a.jpg"), self.find("b.jpg")])
        first = deliver(self.job, self.job.matching(), self.to, words_for(self.job),
                        threading.Event())
        next(first)
        second = deliver(self.job, self.job.matching(), self.to, words_for(self.job),
                         threading.Event())
        with self.assertRaises(DeliveryError) as caught:
            next(second)
        self.assertEqual(caught.exception.code, "to-busy")
        self.assertTrue(list(first)[-1].finished)

    def test_what_an_unfinished_delivery_left_counts_as_free(self):
        staging = self.to / "unfinished" / "payload"
        staging.mkdir(parents=True)
        (self.to / MARKER).write_text(json.dumps({"job": "mine"}))
        (staging / "big").write_bytes(os.urandom(3 << 20))
        import shutil

        usage = shutil.disk_usage(self.folder)
        tight = type(usage)(usage.total, usage.used, 16 << 20)
        with mock.patch("shutil.disk_usage", return_value=tight):
            guards = look(self.job.folder, "mine", [], self.to, Need(2 << 20, 1))
        space = next(g for g in guards if g.name == "space")
        self.assertTrue(space.holds)
        self.assertGreaterEqual(space.values["free"], (16 << 20) + (3 << 20))

    def test_one_folder_a_volume(self):
        self.job.searched.set_volumes(self.source.id, [
            VolumeSeen(0, 1 << 19, "fat32", "FERN", 4096, "sound", "mbr"),
            VolumeSeen(1 << 19, 1 << 19, "ext4", "", 4096, "sound", "mbr")])
        self.deliver(self.find("DCIM/a.jpg"), self.find("DCIM/a.jpg", volume=1 << 19))
        self.assertEqual({f["file"] for f in self.listed},
                         {"data/FERN/DCIM/a.jpg", "data/ext4 at 524288/DCIM/a.jpg"})
        with (self.to / "finds.csv").open(encoding="utf-8", newline="") as table:
            self.assertEqual({row["volume"] for row in csv.DictReader(table)},
                             {"FERN", "ext4 at 524288"})


class ListTest(FaultCase):
    def test_removed_is_not_the_time_of_removal(self):
        self.deliver(self.find("a.jpg", removed_at="2031-05-12T06:00:00"),
                     self.find("b.jpg", removed=False))
        with (self.to / "finds.csv").open(encoding="utf-8", newline="") as table:
            rows = {row["name"]: row for row in csv.DictReader(table)}
        self.assertEqual((rows["a.jpg"]["removed"], rows["a.jpg"]["removed_at"]),
                         ("True", "2031-05-12T06:00:00"))
        self.assertEqual((rows["b.jpg"]["removed"], rows["b.jpg"]["removed_at"]), ("False", ""))

    def test_the_report_counts_what_a_client_asks_for(self):
        gone = Find("jpeg", Kind.PHOTO, "jpg", Stretches(), Grade.GONE, 0.0, ("records",),
                    (), Facts(), name="lost.jpg", path="DCIM/lost.jpg", removed=True,
                    record=Record(77, 999))
        self.deliver(self.find("a.jpg"), self.find("b.jpg", removed=False), gone)
        text = self.report()
        self.assertIn("1 had been removed; 1 were still there.", text)
        self.assertIn("Known by name only: nothing of their content is left (1)", text)
        self.assertIn("DCIM/lost.jpg", text)

    def test_a_part_is_told_as_a_part(self):
        part = Find("jpeg", Kind.PHOTO, "jpg", Stretches(((4096, 2000),)), Grade.PARTIAL, 0.87,
                    ("records",), (), Facts(), name="p.jpg", path="p.jpg", record=Record(1))
        self.deliver(part)
        self.assertIn("p.jpg: 87 % of its area is there", self.report())
        self.assertNotIn("preview", self.report())

    def test_names_that_are_formulas_or_turn_letters_around(self):
        names = [f"{formula.strip()}{i}.jpg" for i, formula in enumerate(FORMULAS)]
        names.append("photo\u202egpj.exe")
        self.deliver(*(self.find(name) for name in names))
        raw = (self.to / "finds.csv").read_text(encoding="utf-8")
        self.assertNotIn("\u202e", raw)
        for row in csv.DictReader(io.StringIO(raw)):
            for cell in row.values():
                self.assertNotIn((cell or " ")[0], "=+-@\t\r")
        text = (self.to / "finds.json").read_text(encoding="utf-8")
        self.assertNotIn("\u202e", text)
        self.assertIn("photo\u202egpj.exe", {f["name"] for f in json.loads(text)["finds"]})
        self.assertNotIn("\u202e", self.report())
        self.assertFalse(any("\u202e" in p.name for p in (self.to / "data").rglob("*")))

    @examples(60)
    @given(st.lists(st.text(max_size=60), min_size=1, max_size=6))
    def test_lists_round_trip_with_hostile_names(self, names):
        import tempfile

        items = [{**dict.fromkeys(COLUMNS), "id": i, "name": name, "path": name, "twins": [],
                  "found_by": ["records"], "extents": [[0, 1], [None, 2]],
                  "checks": [{"name": "n", "outcome": "pass", "detail": name}],
                  "times": dict.fromkeys(("created", "modified", "taken", "removed"), name)}
                 for i, name in enumerate(names)]
        with tempfile.TemporaryDirectory() as folder:
            write_lists(Path(folder), {"needlewright": 1}, iter(items))
            told = json.loads((Path(folder) / "finds.json").read_text(encoding="utf-8"))
            self.assertEqual([f["name"] for f in told["finds"]], names)
            with (Path(folder) / "finds.csv").open(encoding="utf-8", newline="") as table:
                rows = list(csv.DictReader(table))
        self.assertEqual(len(rows), len(names))
        for row in rows:
            self.assertEqual(row["extents"], "0+1 hole+2")
            self.assertNotIn((row["name"] or " ")[0], "=+-@\t\r")
