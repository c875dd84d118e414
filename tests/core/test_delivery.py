"""Delivery: a valid bag or nothing, every guard with its reason, names that fit everywhere."""

import csv
import errno
import hashlib
import json
import os
import threading
import unittest
from pathlib import PurePosixPath
from unittest import mock

import bagit
from hypothesis import given
from hypothesis import strategies as st

from needlewright.core.delivery import readback
from needlewright.core.delivery.bag import Delivered, deliver, destination_guards, job_id
from needlewright.core.delivery.guards import MARKER, Need, look
from needlewright.core.delivery.manifests import write_bag
from needlewright.core.delivery.readback import ReadBack
from needlewright.core.errors import DeliveryError
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.jobs.runner import run_search
from needlewright.core.names import MAX_NAME_BYTES, Names, safe_name, safe_path
from needlewright.core.search.plan import Plan
from needlewright.wording.bag import words_for
from tests.support import FolderTest, camera_jpeg, medium, noise, png

PHOTO, CHART = camera_jpeg(1), png()


class DeliveryTest(FolderTest):
    def setUp(self):
        super().setUp()
        card = self.image(medium([(4096, PHOTO), (819_200, CHART), (1_638_400, PHOTO)], 2_500_000))
        self.job, source = job_for_image(self.folder / "job", card)
        self.addCleanup(self.job.close)
        list(run_search(self.job, source, Plan(), threading.Event()))
        self.to = self.folder / "out" / "bag"

    def deliver(self, rows=None, stop=None, to=None):
        rows = self.job.matching() if rows is None else rows
        events = list(deliver(self.job, rows, to or self.to, words_for(self.job),
                              stop or threading.Event()))
        self.assertIsInstance(events[-1], Delivered)
        return events[-1]

    def refused(self, code, **options):
        with self.assertRaises(DeliveryError) as caught:
            self.deliver(**options)
        self.assertEqual(caught.exception.code, code)

    def test_what_changed_on_the_source_is_checked_again_and_told(self):
        card = next(iter(self.job.sources())).path
        with open(card, "r+b") as image:  # our own copy, made a moment ago
            image.seek(4096 + len(PHOTO) // 2)
            image.write(bytes(8192))
        done = self.deliver()
        self.assertEqual(done.changed, 1)
        told = {f["extents"][0][0]: f for f in json.loads(
            (self.to / "finds.json").read_text(encoding="utf-8"))["finds"]}
        self.assertEqual(told[4096]["grade"], "partial")
        self.assertLess(told[4096]["share"], 0.95)
        self.assertEqual(told[4096]["checks"][0]["detail"].split(";")[0],
                         "the source changed after this was checked")
        self.assertEqual(told[1_638_400]["grade"], "whole")
        self.assertEqual([r.grade for r in self.job.matching()].count("whole"), 2)
        self.assertIn("complete", (self.to / "report.txt").read_text(encoding="utf-8"))
        self.assertEqual(sum(t.finds for t in self.job.tally() if t.grade == "whole"), 2)

    def test_a_valid_bag_with_its_lists(self):
        done = self.deliver()
        self.assertTrue(done.finished)
        self.assertTrue(bagit.Bag(str(self.to)).validate())
        listed = json.loads((self.to / "finds.json").read_text(encoding="utf-8"))
        self.assertEqual(listed["needlewright"], 1)
        self.assertEqual(len(listed["finds"]), 3)
        by_hash = {f["sha256"]: f for f in listed["finds"]}
        for data in (PHOTO, CHART):
            entry = by_hash[hashlib.sha256(data).hexdigest()]
            self.assertEqual((self.to / entry["file"]).read_bytes(), data)
            self.assertEqual(entry["grade"], "whole")
            self.assertTrue(all(c["detail"] for c in entry["checks"]))
        photos = [f for f in listed["finds"] if f["format"] == "jpeg"]
        self.assertEqual([p["twins"] for p in photos], [[photos[1]["id"]], [photos[0]["id"]]])
        self.assertEqual(photos[0]["times"]["taken"], "2031-05-12T05:58:12")
        self.assertEqual(photos[0]["extents"], [[4096, len(PHOTO)]])
        with (self.to / "finds.csv").open(encoding="utf-8", newline="") as table:
            rows = list(csv.DictReader(table))
        self.assertEqual([r["sha256"] for r in rows], [f["sha256"] for f in listed["finds"]])
        stamp = (self.to / photos[0]["file"]).stat().st_mtime
        import datetime
        self.assertEqual(datetime.datetime.fromtimestamp(stamp).isoformat(),
                         "2031-05-12T05:58:12")

    def test_altering_a_list_or_a_file_fails_validation(self):
        self.deliver()
        for name in ("finds.json", "finds.csv", "report.txt"):
            path = self.to / name
            before = path.read_bytes()
            path.write_bytes(before.replace(b"e", b"E", 1))
            with self.assertRaises(bagit.BagValidationError):
                bagit.Bag(str(self.to)).validate()
            path.write_bytes(before)
        self.assertTrue(bagit.Bag(str(self.to)).is_valid())

    def test_what_reads_back_differently_ends_the_delivery(self):
        real, spoilt = ReadBack.add, []

        def add(back, path, name, sha256):
            if not spoilt:
                data = bytearray(path.read_bytes())
                data[len(data) // 2] ^= 1
                path.write_bytes(data)
                spoilt.append(name)
            real(back, path, name, sha256)

        with mock.patch.object(ReadBack, "add", add):
            self.refused("not-as-written")
        self.assertFalse((self.to / "bagit.txt").exists())
        self.assertTrue(self.deliver().finished)
        self.assertTrue(bagit.Bag(str(self.to)).is_valid())

    def test_batches_are_compared_while_more_is_written(self):
        back = ReadBack(threading.Event())
        with mock.patch.multiple(readback, BATCH_BYTES=3000, BATCH_FILES=5):
            for number in range(40):
                path = self.folder / f"{number}.bin"
                path.write_bytes(noise(100 * number, number))
                back.add(path, path.name, hashlib.sha256(path.read_bytes()).hexdigest())
            back.close()
            self.assertTrue(back.ended(60))
        back.check()
        self.assertEqual(back.done, sum(100 * n for n in range(40)))
        gone = ReadBack(threading.Event())
        gone.add(self.folder / "none.bin", "none.bin", "0")
        gone.close()
        self.assertTrue(gone.ended(60))
        self.assertRaises(OSError, gone.check)

    def test_odd_names_and_titles_stay_valid(self):
        bag = self.folder / "by hand"
        (bag / "data").mkdir(parents=True)
        names = ("plain.jpg", "per%cent.jpg", "two\nlines.jpg", " space.jpg", "Füßchen – выдра.jpg")
        sums = {}
        for name in names:
            (bag / "data" / name).write_bytes(name.encode())
            sums[f"data/{name}"] = hashlib.sha256(name.encode()).hexdigest()
        size = sum(len(n.encode()) for n in names)
        write_bag(bag, sums, {"External-Description": "Fernbeck\nValley: otters"}, size)
        made = bagit.Bag(str(bag))
        self.assertTrue(made.validate())
        self.assertEqual(made.info["External-Description"], "Fernbeck Valley: otters")
        write_bag(bag / "data", {}, {}, 0)  # a delivery without files
        self.assertTrue((bag / "data" / "manifest-sha256.txt").exists())

    def test_what_is_not_delivered_is_still_listed(self):
        rows = [r for r in self.job.matching() if r.format == "png"]
        self.deliver(rows)
        listed = json.loads((self.to / "finds.json").read_text(encoding="utf-8"))["finds"]
        self.assertEqual(sum(f["file"] is None for f in listed), 2)

    def test_every_refusal_has_its_code(self):
        self.refused("nothing-chosen", rows=[])
        self.refused("to-in-job", to=self.job.folder / "bag")
        self.refused("to-in-job", to=self.job.folder.parent)
        occupied = self.folder / "occupied"
        occupied.mkdir()
        (occupied / "letter.txt").write_text("dear otter")
        self.refused("to-not-empty", to=occupied)
        self.refused("to-not-a-folder", to=occupied / "letter.txt")
        self.assertEqual([p.name for p in occupied.iterdir()], ["letter.txt"])
        full = look(self.job.folder, "x", self.job.sources(), self.to, Need(1 << 60, 1))
        self.assertEqual([g.code for g in full if not g.holds], ["to-no-space"])
        with mock.patch("os.access", return_value=False):
            self.refused("to-denied")
        with mock.patch("needlewright.core.delivery.guards.shares_medium", return_value=True):
            self.refused("to-on-source")
        with mock.patch("needlewright.core.delivery.guards.file_system_of", return_value="vfat"):
            large = look(self.job.folder, "x", [], self.to, Need(5 << 30, 5 << 30))
        self.assertIn("to-too-large", [g.code for g in large])

    def test_a_full_disk_leaves_nothing_that_looks_complete(self):
        with mock.patch("os.fsync", side_effect=OSError(errno.ENOSPC, "full")):
            self.refused("to-full")
        self.assertFalse((self.to / "bagit.txt").exists())
        self.assertEqual(json.loads((self.to / MARKER).read_text())["job"], job_id(self.job))
        self.assertTrue(self.deliver().finished)
        self.assertTrue(bagit.Bag(str(self.to)).is_valid())
        self.assertFalse((self.to / MARKER).exists())

    def test_stopped_at_any_event_it_can_be_finished(self):
        for after in range(1, 12, 2):
            stop, to = threading.Event(), self.folder / f"stopped {after}"
            events = deliver(self.job, self.job.matching(), to, words_for(self.job), stop)
            last = None
            for number, event in enumerate(events):
                last = event
                if number >= after:
                    stop.set()
            if not last.finished:
                self.assertFalse((to / "bagit.txt").exists())
                self.assertTrue(self.deliver(to=to).finished)
            self.assertTrue(bagit.Bag(str(to)).is_valid())

    def test_an_unfinished_delivery_of_another_job_is_not_touched(self):
        self.to.mkdir(parents=True)
        (self.to / MARKER).write_text(json.dumps({"job": "another"}))
        self.refused("to-not-empty")
        guards = destination_guards(self.job, [], self.to)
        self.assertEqual([g.name for g in guards if not g.holds], ["empty"])

    def test_bytes_that_read_back_differently_are_noticed(self):
        real = os.posix_fadvise

        def spoil(fd, *rest):
            path = os.readlink(f"/proc/self/fd/{fd}")
            with open(path, "r+b") as written:
                written.write(b"spoilt")
            return real(fd, *rest)

        with mock.patch("os.posix_fadvise", spoil):
            self.refused("not-as-written")
        self.assertFalse((self.to / "bagit.txt").exists())


class NamesTest(unittest.TestCase):
    @given(st.text(max_size=300))
    def test_safe_everywhere(self, name):
        safe = safe_name(name)
        self.assertTrue(0 < len(safe.encode()) <= MAX_NAME_BYTES + 1)
        self.assertFalse(set(safe) & set('<>:"/\\|?*\0\n'))
        self.assertFalse(safe.endswith((".", " ")))
        self.assertNotIn(safe, (".", ".."))
        self.assertEqual(safe_name(safe), safe)

    def test_examples(self):
        self.assertEqual(safe_name("con.txt"), "_con.txt")
        self.assertEqual(safe_name("BF 12:30?.JPG"), "BF 12_30_.JPG")
        self.assertEqual(safe_path("/../DCIM/./104:BR/x"), PurePosixPath("DCIM/104_BR/x"))

    @given(st.lists(st.sampled_from(["a.jpg", "A.JPG", "á.jpg", "a (2).jpg", "b", "B"]),
                    max_size=12))
    def test_clashes_get_a_suffix(self, wanted):
        names = Names()
        given_out = [str(names.unique(PurePosixPath("x"), n)).casefold() for n in wanted]
        self.assertEqual(len(set(given_out)), len(given_out))
