"""Copying in the real window: a failing card with a disconnect, pausing, what is attached."""

import unittest
from unittest import mock

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QDialog, QLabel, QPushButton, QSpinBox

from needlewright.app.viewmodels.read_lane import Cell, lane_of
from needlewright.core.imaging.events import CopyEnding
from needlewright.core.sources import map_file, open_files
from needlewright.core.sources.devices import Device, Volume, devices_from
from needlewright.core.sources.read_map import ReadMap, State
from needlewright.core.sources.registry import elsewhere
from needlewright.standins.faults import Faults
from needlewright.standins.start import CardReader
from tests.app.test_window import FINDS, INTAKE, SEARCH, WindowCase
from tests.support import CLUSTER, camera_jpeg, medium

PHOTO = camera_jpeg(1)
CARD = medium([(CLUSTER, PHOTO), (5 << 20, PHOTO)], 8 << 20)


class CopyTest(WindowCase):
    def reader(self, **faults: object) -> CardReader:
        made = CardReader(self.image(CARD), Faults(**faults))
        self.addCleanup(made.close)
        return made

    def test_a_failing_card_that_goes_away_and_comes_back(self):
        reader = self.reader(bad=[(3 << 20, 1024)], slow=[(0, 8 << 20, 0.1)], fail_s=0.02,
                             leaves_after=5, away_s=1.0, returns_as="card again")
        copies = self.session.copies
        self.session.begin_copy(reader.url)
        self.wait(lambda: copies.waiting is not None, "the disconnect")
        self.assertIn("no longer answers", self.text("copyState"))
        self.assertIn("no longer answers", self.text("copyActivity"))
        self.wait(lambda: copies.waiting is None and copies.told.read > 4 << 20, "its return")
        self.click("copyPause")
        self.assertEqual(self.text("copyState"), "paused")
        image = self.session.board.folder / "images" / "card.img"
        self.wait(lambda: map_file.load(image).states.total(State.READ) >= copies.told.read,
                  "the map, saved at the pause")
        QTest.keyClick(self.window, Qt.Key.Key_P, Qt.KeyboardModifier.ControlModifier
                       | Qt.KeyboardModifier.ShiftModifier)
        self.wait(lambda: copies.work is None, "the end of the copy")
        self.assertEqual(copies.ended.ending, CopyEnding.DONE)
        self.assertEqual(self.text("copyState"), "finished")
        self.assertEqual(self.text("copy-unreadable"), "1.0 kB (2 sectors)")
        self.assertEqual(self.job.sources()[0].sha256, copies.ended.sha256)
        self.wait(lambda: self.window.tape.read_lane is not None, "the Read lane")
        cells = self.window.tape.read_lane.cells(0, 8 << 20, 400)
        self.assertEqual(set(cells.tolist()) - {Cell.SLOW}, {Cell.READ, Cell.UNREADABLE})
        self.assertEqual(self.problems, [])
        self.click("copyVerify")
        self.wait(lambda: copies.verified is not None and copies.verifying is None, "verifying")
        self.assertIn("agrees", self.text("copyVerified"))
        self.click("copyVerifyMedium")
        self.wait(lambda: copies.verified is not None and copies.verifying is None, "the medium")
        self.assertIn("agrees", self.text("copyVerified"))
        self._search_the_copy()

    def _search_the_copy(self) -> None:
        self.station(SEARCH)
        self.click("begin-signatures")
        self.wait(lambda: not self.session.searching, "the search of the copy")
        self.station(FINDS)
        self.wait(lambda: self.window.finds.sheet.sheet.ids.size == 2, "both photos")

    def test_searched_meanwhile_it_finds_the_rest_by_itself(self):
        reader = self.reader(slow=[(0, 8 << 20, 0.4)])
        copies = self.session.copies
        self.session.begin_copy(reader.url)
        self.wait(lambda: copies.told is not None and copies.told.read > 2 << 20, "the first")
        self.station(SEARCH)
        self.click("begin-signatures")
        self.wait(lambda: copies.work is None and not self.session.searching
                  and self.session.ending == "done", "copy and search")
        self.station(FINDS)
        self.wait(lambda: self.window.finds.sheet.sheet.ids.size == 2, "both photos")
        self.assertEqual([r.grade for r in self.job.matching()], ["whole", "whole"])

    def test_stopped_it_goes_on_from_there(self):
        reader = self.reader(slow=[(0, 8 << 20, 0.4)])
        copies = self.session.copies
        self.session.begin_copy(reader.url)
        self.wait(lambda: copies.told is not None and copies.told.read > 1 << 20, "some of it")
        self.click("copyEffort")
        dialog = self.window.findChild(QDialog, "effort")
        dialog.findChild(QSpinBox, "effortTries").setValue(5)
        QTest.mouseClick(dialog.findChild(QPushButton, "effortUse"), Qt.MouseButton.LeftButton)
        self.wait(lambda: copies.work is not None and not copies.work.stop_signal.is_set()
                  and copies.told is not None, "going on with it")
        self.assertEqual(copies.plan.effort.tries, 5)
        self.click("copyStop")
        self.wait(lambda: copies.work is None, "the stop")
        self.assertIn("stopped", self.text("copyState"))
        self.click("copyGoOn")
        self.wait(lambda: copies.work is None and copies.ended is not None, "the end")
        self.assertEqual(copies.ended.ending, CopyEnding.DONE)
        self.assertEqual((self.session.board.folder / "images" / "card.img").read_bytes(), CARD)

    def test_what_cannot_be_copied_says_so(self):
        self.session.begin_copy("nbd+unix:///card?socket=/nowhere/at/all")
        self.wait(lambda: bool(self.problems), "the reason")
        self.assertIn("does not answer", self.problems[0])


class ForecastTest(WindowCase):
    def test_a_forecast_is_made_when_it_is_asked_for(self):
        self.opens(self.image(CARD))
        self.click("forecast")
        self.wait(lambda: self.session.copies.forecast is not None, "the forecast")
        self.wait(lambda: "samples" in self.text("forecastSummary"), "its figures")


class AttachedTest(WindowCase):
    def test_devices_are_listed_with_what_stands_in_their_way(self):
        shown = [
            Device("/dev/sdx", "sdx", 31_914_983_424, "disk", "Fernline MR-20", "FL-77", "usb",
                   True, True, 512, 512,
                   (Volume("/dev/sdx1", 1, "vfat", "FERNBECK", (), False),), True, "disk"),
            Device("/dev/sdy", "sdy", 10**12, "disk", "", "", "sata", False, False, 512, 4096, (),
                   False, "disk")]
        self.session.copies._devices_came(shown)
        self.station(INTAKE)
        first = self.window.findChild(QPushButton, "copy-sdx")
        second = self.window.findChild(QPushButton, "copy-sdy")
        self.assertTrue(first.isEnabled() and not second.isEnabled())
        texts = " ".join(found.text() for found in self.window.intake.findChildren(QLabel))
        for part in ("Fernline MR-20", "vfat FERNBECK", "write-protected", "setfacl"):
            self.assertIn(part, texts)


class ListTest(unittest.TestCase):
    def test_lsblk_s_list(self):
        listed = [
            {"name": "sdb", "path": "/dev/sdb", "size": 1000, "type": "disk", "rm": True,
             "ro": False, "children": [
                 {"name": "sdb1", "path": "/dev/sdb1", "size": 900, "type": "part",
                  "fstype": "vfat", "label": "CARD", "mountpoints": ["/media/card"]}]},
            {"name": "zram0", "path": "/dev/zram0", "size": 0, "type": "disk"},
            {"name": "sdb1", "path": "/dev/sdb1", "size": 5, "type": "part"}]
        found = devices_from(listed, {"/media/card": "rw,noatime"})
        self.assertEqual([d.path for d in found], ["/dev/sdb"])
        self.assertEqual(found[0].mounted[0].mounts, ("/media/card",))
        self.assertEqual(devices_from(listed, {"/media/card": "ro"})[0].mounted, ())


class ElsewhereTest(unittest.TestCase):
    def test_only_what_may_be_the_medium_is_looked_at_when_it_is_away(self):
        listed = [{"name": name, "path": f"/dev/{name}", "size": size, "type": "disk",
                   "serial": serial}
                  for name, size, serial in (("sdw", 1000, "A"), ("sdx", 1000, "B"),
                                             ("sdy", 2000, "A"), ("sdz", 1000, ""))]
        with mock.patch.object(open_files, "list_devices",
                               return_value=devices_from(listed, {})):
            self.assertEqual(list(elsewhere("/dev/gone", 1000, "A")), ["/dev/sdw", "/dev/sdz"])
            self.assertEqual(list(elsewhere("/home/card.img", 1000, "A")), [])


class LaneTest(unittest.TestCase):
    def test_columns_as_a_plain_look_at_every_byte(self):
        states, plain = ReadMap(1000), np.zeros(1000, int)
        rng = np.random.default_rng(4)
        for _ in range(60):
            start, length = int(rng.integers(0, 990)), int(rng.integers(1, 10))
            state = State(int(rng.integers(0, 3)))
            states.set(start, start + length, state)
            plain[start : start + length] = state
        cells = lane_of(states, []).cells(100, 900, 80)
        for column, cell in enumerate(cells.tolist()):
            part = set(plain[100 + column * 10 : 110 + column * 10].tolist())
            want = Cell.UNREADABLE if 2 in part else Cell.READ if 1 in part else Cell.PENDING
            self.assertEqual(cell, want)

