"""Work in the window: areas, stopping, opening another job, and what the hands can do."""

import os
import threading
import unittest
from pathlib import Path
from unittest import mock

from PySide6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent, QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from needlewright.app.settings import RECENT, Settings, new_folder
from needlewright.app.window import DELIVERY, FINDS, INTAKE, SEARCH
from needlewright.core.jobfile.scribe import scribe_of
from needlewright.core.jobs.opening import job_for_image
from tests.app.test_window import LEFT, WindowCase
from tests.core.test_stitching import cut, laid
from tests.core.test_stitching import photo as pieces_photo
from tests.support import FolderTest, camera_jpeg, medium, noise, png

PHOTO = camera_jpeg(1)
STEP = 2_000_384


class WorkTest(WindowCase):
    def open_card(self, photos: int = 12) -> None:
        pieces = [(i * STEP, PHOTO) for i in range(photos)] + [(photos * STEP, png())]
        self.opens(self.image(medium(pieces, (photos + 2) * STEP)))

    def search(self) -> None:
        self.station(SEARCH)
        self.click("begin-signatures")
        self.wait(lambda: not self.session.searching, "the search")
        self.idle()

    def test_a_search_of_the_part_in_view_then_of_the_rest(self):
        self.open_card()
        tape = self.window.tape
        self.assertFalse(self.window.search.marked.isEnabled())
        tape._look_at(3 * STEP, 4 * STEP)
        self.station(SEARCH)
        self.click("areaMarked")
        self.search()
        starts = [i[4] for i in self.job.find_ids()]
        self.assertEqual(starts, [i * STEP for i in range(3, 7)])
        self.click("areaAll")
        self.search()
        self.assertEqual(len(self.job.find_ids()), 13)
        self.assertEqual(self.text("tally-signatures-photo"), "13 photos")
        self.assertEqual(self.text("grade-tally-whole"), "13 whole")

    def test_a_whole_file_takes_the_place_of_the_piece_that_is_looked_at(self):
        first, behind = cut(pieces_photo(1), 11)
        whole = camera_jpeg(30, 320, 240)
        self.opens(self.image(laid(whole, first, whole, behind, whole)))
        self.search()
        (head,) = [row.id for row in self.job.matching() if row.grade == "partial"]
        self.station(FINDS)
        self.session.choice.select(head)
        self.idle()
        self.station(SEARCH)
        self.click("begin-stitching")
        self.wait(lambda: not self.session.searching, "the stitching")
        self.idle()
        rows = self.job.matching()
        self.assertNotIn(head, [row.id for row in rows])
        self.assertEqual({row.grade for row in rows}, {"whole"})
        self.station(FINDS)
        self.idle()
        self.assertEqual(len(self.window.finds.sheet.sheet.ids), len(rows))

    def test_stopped_it_goes_on_from_there(self):
        self.open_card(40)
        self.station(SEARCH)
        self.click("begin-signatures")
        self.wait(lambda: bool(self.session.just_found), "the first finds")
        self.click("stop-signatures")
        self.wait(lambda: not self.session.searching, "the stop")
        self.assertEqual(self.session.ending, "stopped")
        self.assertLess(len(self.job.find_ids()), 41)
        self.assertEqual(self.window.search.cards["signatures"].begin.text(), "Go on")
        self.search()
        self.assertEqual(len(self.job.find_ids()), 41)

    def test_another_job_may_be_opened_while_one_is_searched(self):
        other, _ = job_for_image(self.folder / "other", self.folder_image("other.img"))
        other.close()
        self.open_card(30)
        first = self.session.board.folder
        self.station(SEARCH)
        self.click("begin-signatures")
        self.wait(lambda: bool(self.session.just_found), "the first finds")
        self.opens(self.folder / "other")
        self.assertFalse(self.session.searching)
        self.assertEqual(self.window.tape.source_name, "other.img")
        self.station(INTAKE)
        names = [b.text() for b in self.window.intake.findChildren(type(
            self.window.intake.open_button)) if b.objectName().startswith("recent")]
        self.assertEqual(len(names), 2)
        self.click("recent1")
        self.idle()
        self.assertEqual(self.session.board.folder, first)
        self.assertGreater(len(self.job.find_ids()), 0)

    def folder_image(self, name: str) -> Path:
        path = self.folder / name
        path.write_bytes(noise(5000))
        return path

    def test_an_image_dropped_on_intake_is_opened(self):
        mime = QMimeData()
        mime.setUrls([QUrl.fromLocalFile(str(self.folder_image("dropped.img")))])
        event = QDropEvent(QPointF(5, 5), Qt.DropAction.CopyAction, mime, LEFT,
                           Qt.KeyboardModifier.NoModifier)
        self.window.intake.dropEvent(event)
        self.idle()
        self.assertEqual(self.session.source.name, "dropped.img")

    def test_orders_formats_sizes_and_zoom(self):
        self.open_card()
        self.search()
        self.station(FINDS)
        finds, sheet = self.window.finds, self.window.finds.sheet
        self.wait(lambda: sheet.sheet.ids.size == 13, "the sheet")
        QTest.keyClicks(finds.text, "png")
        self.wait(lambda: sheet.sheet.ids.size == 1, "the chart")
        self.assertEqual(self.text("findsCount"), "1 of 13")
        finds.clear_narrowing()
        self.click("order-size")
        self.wait(lambda: sheet.sheet.ids.size == 13 and not sheet.sheet.groups[0].headed, "order")
        tall = int(sheet.sheet.height[0])
        self.click("larger")
        self.wait(lambda: int(sheet.sheet.height[0]) > tall, "larger pictures")
        sheet.setFocus()
        QTest.keyClick(sheet, Qt.Key.Key_End)
        self.assertEqual(sheet.current, 12)
        QTest.keyClick(sheet, Qt.Key.Key_Home)
        QTest.keyClick(sheet, Qt.Key.Key_Down)
        self.assertGreater(int(sheet.sheet.top[sheet.current]), int(sheet.sheet.top[0]))
        QTest.mouseDClick(sheet.viewport(), LEFT, pos=sheet.item_rect(sheet.current).center())
        full = finds.full
        self.wait(lambda: full.sharp, "the full view")
        before = full._target().width()
        wheel = QWheelEvent(QPointF(99, 99), QPointF(99, 99), QPoint(), QPoint(0, 120),
                            Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier,
                            Qt.ScrollPhase.NoScrollPhase, False)
        QApplication.sendEvent(full, wheel)
        self.assertGreater(full._target().width(), before)
        number = self.session.choice.selection
        QTest.keyClick(full, Qt.Key.Key_Right)
        self.assertNotEqual(self.session.choice.selection, number)
        self.idle()
        self.click("dossierTray")
        self.idle()
        self.assertTrue(self.session.choice.shown.record.row.in_tray)

    def test_the_tray_s_mark_shows_at_once_although_the_job_is_being_written(self):
        self.open_card(2)
        self.search()
        self.station(FINDS)
        sheet, choice = self.window.finds.sheet, self.session.choice
        self.wait(lambda: sheet.sheet.ids.size == 3, "the sheet")
        QTest.mouseClick(sheet.viewport(), LEFT, pos=sheet.item_rect(0).center())
        self.idle()
        number, go_on = choice.selection, threading.Event()
        self.wait(lambda: choice.rows.get(number) is not None, "its row")
        scribe = scribe_of(self.session.board.folder)
        self.addCleanup(scribe.leave)
        self.addCleanup(go_on.set)
        begun = threading.Event()
        busy = threading.Thread(target=scribe.write,
                                args=(lambda: (begun.set(), go_on.wait(300)),))
        busy.start()
        begun.wait()  # what a person waits for would go before it
        for inside in (True, False, True):
            QTest.keyClick(sheet, Qt.Key.Key_T)
            self.assertEqual(choice.rows.get(number).in_tray, inside)
        self.assertEqual(self.job.reviews.tray_size()[0], 0)
        go_on.set()
        busy.join()
        self.idle()
        self.assertEqual(self.job.reviews.tray_size()[0], 1)
        self.assertTrue(choice.rows.get(number).in_tray)
        self.assertTrue(choice.shown.record.row.in_tray)
        self.assertEqual(self.session.board.tray[0], 1)

    def test_a_stopped_delivery_says_so_and_can_be_finished(self):
        self.open_card()
        self.search()
        self.session.choice.set_tray([i[0] for i in self.job.find_ids()], True)
        self.station(DELIVERY)
        self.window.delivery.choose_folder(self.folder / "bag")
        self.click("deliver")
        self.session.stop_delivery()
        self.wait(lambda: self.session.delivery is None, "the stop")
        if not self.session.delivered.finished:
            self.assertIn("Stopped", self.text("deliveryResult"))
            self.assertFalse((self.folder / "bag" / "bagit.txt").exists())
            self.click("deliver")
            self.wait(lambda: self.session.delivery is None, "the delivery")
        self.assertTrue(self.session.delivered.finished)
        self.assertTrue((self.folder / "bag" / "bagit.txt").exists())


class SettingsTest(FolderTest):
    def test_broken_settings_are_empty_and_recent_jobs_are_few(self):
        path = self.folder / "settings.json"
        path.write_text("[nonsense")
        settings = Settings(path)
        self.assertEqual(settings.recent_jobs(), [])
        for number in range(RECENT + 4):
            folder = self.folder / f"job {number}"
            folder.mkdir()
            (folder / "job.sqlite").touch()
            settings.remember_job(str(folder), f"Job {number}")
        settings.remember_job(str(self.folder / "job 9"), "Job 9")
        again = Settings(path).recent_jobs()
        self.assertEqual(len(again), RECENT)
        self.assertEqual(again[0][1], "Job 9")
        (self.folder / "job 9" / "job.sqlite").unlink()
        self.assertEqual(len(Settings(path).recent_jobs()), RECENT - 1)

    def test_a_new_job_never_takes_an_old_one_s_folder(self):
        with mock.patch.dict(os.environ, {"XDG_DATA_HOME": str(self.folder)}):
            first = new_folder(Path("card.img"))
            first.mkdir(parents=True)
            self.assertNotEqual(new_folder(Path("card.img")), first)


if __name__ == "__main__":
    unittest.main()
