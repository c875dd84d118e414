"""The real window, driven with clicks and keys, waiting on its signals."""

import gc
import json
import os
import sys
import tempfile
import threading
import traceback
import unittest
from collections.abc import Callable
from pathlib import Path
from unittest import mock

import bagit
from PySide6.QtCore import QEvent, QEventLoop, QPoint, Qt, QTimer, qInstallMessageHandler
from PySide6.QtGui import QImage, QPainter
from PySide6.QtTest import QSignalSpy, QTest
from PySide6.QtWidgets import QApplication, QDialog, QLabel, QPushButton, QWidget

from needlewright.app.main import application, make_window
from needlewright.app.settings import Settings
from needlewright.app.theme.colours import DARK, LIGHT, contrast
from needlewright.app.theme.look import look
from needlewright.app.window import DELIVERY, FINDS, INTAKE, MENDING, SEARCH
from needlewright.core.jobfile.database import Database
from needlewright.core.jobfile.rows import Filter
from needlewright.core.jobfile.store import Job
from needlewright.demo import card
from tests.support import camera_jpeg, medium, noise, splice

LIMIT_MS, BEAT_MS = 90_000, 20
QUIET = ("propagateSizeHints", "This plugin does not support")
LEFT = Qt.MouseButton.LeftButton


class WindowCase(unittest.TestCase):
    """A fresh window with settings of its own; unexpected Qt warnings fail the test."""

    @classmethod
    def setUpClass(cls):
        cls.qt = application()

    def setUp(self):
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.folder = Path(place.name)
        self.warnings: list[str] = []
        qInstallMessageHandler(lambda kind, where, text: self.warnings.append(text))
        self.faults: list[str] = []
        hook = mock.patch.object(sys, "excepthook", lambda kind, fault, trace: self.faults.append(
            "".join(traceback.format_exception(fault))))
        hook.start()
        self.addCleanup(hook.stop)
        self.addCleanup(qInstallMessageHandler, None)
        os.environ["XDG_DATA_HOME"] = str(self.folder / "data")
        self.addCleanup(os.environ.pop, "XDG_DATA_HOME", None)
        self._watch_the_job_file()
        self.window = make_window(Settings(self.folder / "settings.json"), devices=list)
        self.session = self.window.session
        self.problems: list[str] = []
        self.session.problem.connect(self.problems.append)
        self.window.show()
        self.window.activateWindow()
        self.assertTrue(QTest.qWaitForWindowActive(self.window))
        self.addCleanup(self.close)

    def _watch_the_job_file(self):
        """Note every statement that the application runs in the window's thread."""
        self.late: list[str] = []
        window_thread = threading.current_thread()

        def watched(name, act):
            def run(*given, **named):
                frame = sys._getframe()
                while threading.current_thread() is window_thread and frame is not None:
                    if "/needlewright/app/" in frame.f_code.co_filename:
                        self.late.append(f"{name} in {frame.f_code.co_qualname}")
                        break
                    frame = frame.f_back
                return act(*given, **named)
            return run

        for name in ("rows", "row", "run", "many", "__init__"):
            patch = mock.patch.object(Database, name, watched(name, getattr(Database, name)))
            patch.start()
            self.addCleanup(patch.stop)

    def close(self):
        self.window.close()
        self.assertEqual(self.late, [], "the job was read in the window's thread")
        QApplication.processEvents()
        for left in QApplication.topLevelWidgets():  # each would be styled anew in later tests
            left.deleteLater()
        QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
        gc.collect()  # now: a timer that ends in another thread goes on, of what is not there
        look.changed.emit()  # a widget that is gone and still listens would be told by its fault
        self.assertEqual(self.faults, [])
        unexpected = [w for w in self.warnings if not w.startswith(QUIET)]
        self.assertEqual(unexpected, [])

    def wait(self, ready: Callable[[], bool], what: str = "") -> None:
        """Run the event loop until `ready`; looked at after every event, and now and then, as what
        is waited for need not be one."""
        late, beat = QTimer(), QTimer()
        late.setSingleShot(True)
        late.start(LIMIT_MS)
        beat.start(BEAT_MS)
        while not ready():
            self.assertTrue(late.isActive(), f"timed out: {what} {self.problems}")
            # With a time limit it would not wait, and take the processor from what it waits for.
            QApplication.processEvents(QEventLoop.ProcessEventsFlag.WaitForMoreEvents)

    def idle(self) -> None:
        """Until everything asked of the job and told to it is done."""
        self.wait(lambda: self.session.desk.idle, "the job's answers")
        for _ in range(3):
            QApplication.processEvents()  # what they changed is shown

    def opens(self, place: Path) -> None:
        """Open an image, or a job's folder."""
        (self.session.open_job if place.is_dir() else self.session.open_image)(place)
        self.idle()

    @property
    def job(self) -> Job:
        """The open job, read on its own."""
        job = Job(self.session.board.folder, read_only=True)
        self.addCleanup(job.close)
        return job

    def click(self, name: str, inside: QWidget | None = None) -> None:
        def found() -> QPushButton | None:
            return (inside or self.window).findChild(QPushButton, name)

        self.wait(lambda: found() is not None and found().isVisible() and found().isEnabled(), name)
        QTest.mouseClick(found(), LEFT)

    def key(self, key: Qt.Key, with_: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
        QTest.keyClick(QApplication.focusWidget() or self.window, key, with_)

    def station(self, number: int) -> None:
        QTest.keyClick(self.window, Qt.Key(Qt.Key.Key_1 + number), Qt.KeyboardModifier.AltModifier)
        self.assertEqual(self.window.stack.currentIndex(), number)
        self.idle()

    def text(self, name: str) -> str:
        label = self.window.findChild(QLabel, name)
        return label.text() if label is not None else ""

    def image(self, data: bytes) -> Path:
        path = self.folder / "card.img"
        path.write_bytes(data)
        return path


class JourneyTest(WindowCase):
    def test_the_demo_from_the_card_to_a_verified_bag(self):
        card.build()
        self.click("openDemo")
        self.wait(lambda: self.session.source is not None, "the demo job")
        self.assertIn("Fernbeck Valley", self.window.thread_line.title)
        self.station(SEARCH)
        self.click("begin-signatures")
        self.wait(lambda: bool(self.session.just_found), "the first finds")
        self.assertTrue(self.session.searching, "finds come while the search runs")
        self.click("pause-signatures")
        self.assertTrue(self.session.search.paused)
        QTest.keyClick(self.window, Qt.Key.Key_P, Qt.KeyboardModifier.ControlModifier)
        self.assertFalse(self.session.search.paused)
        self.wait(lambda: not self.session.searching, "the end of the search")
        self.assertEqual(self.session.ending, "done")
        self.station(FINDS)
        self._look_and_choose()
        self._deliver()

    def _look_and_choose(self) -> None:
        finds, sheet = self.window.finds, self.window.finds.sheet
        # Every photo, chart, clip and recording, and what is left of others.
        self.wait(lambda: sheet.sheet.ids.size == 81, "the sheet")
        self.click("only-video")
        self.wait(lambda: sheet.sheet.ids.size == 7, "only clips")
        self._scrub()
        self.click("only-video")
        self.click("grade-whole")
        # The plain sound is unproven without its record.
        self.wait(lambda: sheet.sheet.ids.size == 62, "only whole ones")
        QTest.keyClicks(finds.text, "tc-4")
        self.wait(lambda: sheet.sheet.ids.size == 52, "only photos")
        sheet.setFocus()
        QTest.mouseClick(sheet.viewport(), LEFT, pos=sheet.item_rect(0).center())
        self.assertEqual(self.session.choice.selection, int(sheet.sheet.ids[0]))
        self.idle()
        self.assertIn("whole: all seven checks pass", self.text("dossierGrade"))
        QTest.keyClick(sheet, Qt.Key.Key_Right)
        QTest.keyClick(sheet, Qt.Key.Key_Return)
        self.wait(lambda: finds.full.sharp, "the full view")
        self.assertEqual(finds.full.problem, "")
        self.assertGreater(finds.full.picture.width(), 1000)
        QTest.keyClick(finds.full, Qt.Key.Key_T)
        self.idle()
        self.assertEqual(self.job.reviews.tray_size()[0], 1)
        QTest.keyClick(finds.full, Qt.Key.Key_Escape)
        for _ in range(3):
            QTest.keyClick(sheet, Qt.Key.Key_Right)
            QTest.keyClick(sheet, Qt.Key.Key_T)
        QTest.keyClick(sheet, Qt.Key.Key_T)
        self.idle()
        self.assertEqual(self.job.reviews.tray_size()[0], 3)
        link = sheet._link_rect(sheet.sheet.groups[0])
        QTest.mouseClick(sheet.viewport(), LEFT, pos=link.center())
        self.idle()
        self.assertGreater(self.job.reviews.tray_size()[0], 3)

    def _scrub(self) -> None:
        """Through a clip that is overwritten in its middle, by the strip and by key."""
        finds = self.window.finds
        broken = next(r for r in self.job.matching(Filter(kinds=frozenset({"video"})))
                      if r.grade == "partial")
        self.assertTrue(broken.has_strip)
        finds.open_full(broken.id)
        self.wait(lambda: finds.full.sharp, "the first frame")
        self.assertTrue(finds.full.damaged, "the damaged seconds are known")
        answered = QSignalSpy(self.session.pictures.ready)
        box = finds.full.strip_box()
        QTest.mouseClick(finds.full, LEFT, pos=box.center().toPoint())
        self.assertAlmostEqual(finds.full.at_s, broken.duration_s / 2, 1)
        QTest.keyClick(finds.full, Qt.Key.Key_Period)
        self.wait(lambda: answered.count() > 0, "the frame in the middle")
        self.assertIn("of 0:09", finds.full.shown_place())
        QTest.keyClick(finds.full, Qt.Key.Key_Escape)

    def _deliver(self) -> None:
        self.station(DELIVERY)
        delivery = self.window.delivery
        delivery.choose_folder(self.session.board.folder / "inside")
        self.idle()
        self.assertFalse(delivery.deliver_button.isEnabled())
        self.assertEqual(self.text("guard-apart"), "not OK")
        delivery.choose_folder(self.folder / "bag")
        self.click("deliver")
        self.wait(lambda: self.session.delivered is not None and not self.session.delivery,
                  "the delivery")
        self.assertTrue(bagit.Bag(str(self.folder / "bag")).is_valid())
        listed = json.loads((self.folder / "bag" / "finds.json").read_text(encoding="utf-8"))
        sent = [f for f in listed["finds"] if f["file"]]
        self.assertEqual(len(sent), self.job.reviews.tray_size()[0])
        self.assertIn("read back and compared", self.text("deliveryResult"))
        truth = json.loads((card.folder() / card.TRUTH).read_text(encoding="utf-8"))
        known = {f["sha256"] for f in truth["files"]}
        self.assertLessEqual({f["sha256"] for f in sent}, known)


class StatesTest(WindowCase):
    def test_the_first_start_says_what_to_do(self):
        self.assertIsNotNone(self.window.findChild(QPushButton, "openFirst"))
        for number in (SEARCH, FINDS, MENDING, DELIVERY, INTAKE):
            self.station(number)
        self.station(FINDS)
        self.click("emptyAct")
        self.assertEqual(self.window.stack.currentIndex(), SEARCH)
        self.assertFalse(self.window.findChild(QPushButton, "begin-signatures").isEnabled())

    def test_bad_input_is_one_sentence_and_keeps_the_open_job(self):
        self.opens(self.image(noise(100_000)))
        folder = self.session.board.folder
        stranger = self.folder / "stranger"
        stranger.mkdir()
        (stranger / "letter.txt").write_text("dear otter")
        (self.folder / "empty.img").write_bytes(b"")
        for act in (lambda: self.session.open_image(self.folder / "none.img"),
                    lambda: self.session.open_image(self.folder),
                    lambda: self.session.open_image(self.folder / "empty.img"),
                    lambda: self.session.open_job(stranger)):
            act()
            self.idle()
            self.assertTrue(self.window.notice.isVisible())
            self.assertTrue(self.text("noticeText").endswith("."))
            self.click("closeNotice")
        self.assertEqual(len(self.problems), 4)
        self.assertEqual(self.session.board.folder, folder)

    def test_an_image_that_was_exchanged_is_not_searched(self):
        path = self.image(camera_jpeg(1) + bytes(40 << 20))
        self.opens(path)
        os.truncate(path, 1 << 20)
        self.station(SEARCH)
        self.click("begin-signatures")
        self.wait(lambda: not self.session.searching, "the failure")
        self.assertIn("not the same image", self.text("noticeText"))

    def test_a_damaged_photo_is_shown_with_its_row_and_waits_for_mending(self):
        photo = camera_jpeg(1)
        self.opens(self.image(medium([(0, splice(photo, 90_112, noise(8192)))], 1 << 20)))
        self.station(SEARCH)
        self.click("begin-signatures")
        self.wait(lambda: not self.session.searching, "the search")
        self.station(MENDING)
        waiting = self.window.mending.list
        self.wait(lambda: bool(waiting.waiting.ids), "what waits")
        self.idle()
        place = waiting.visualRect(waiting.waiting.index(0)).center()
        QTest.mouseClick(waiting.viewport(), LEFT, pos=place)
        QTest.mouseDClick(waiting.viewport(), LEFT, pos=place)
        self.wait(lambda: self.window.finds.full.sharp, "the full view")
        self.assertTrue(self.window.finds.full.row.damage_row)
        self.assertIn("partial", self.text("dossierGrade"))

    def test_closing_while_searching_loses_nothing(self):
        pieces = [(i * 300_032, camera_jpeg(1)) for i in range(30)]
        self.opens(self.image(medium(pieces, 10 << 20)))
        self.station(SEARCH)
        self.click("begin-signatures")
        self.wait(lambda: bool(self.session.just_found), "the first finds")
        folder, kept = self.session.board.folder, len(self.session.just_found)
        self.window.close()
        window = make_window(Settings(self.folder / "settings.json"))
        self.assertEqual(window.session.settings.recent_jobs()[0][0], str(folder))
        window.session.open_job(folder)
        self.wait(lambda: window.session.board.finds >= kept, "the job again")
        window.close()

    def test_the_tape_zooms_marks_and_selects(self):
        pieces = [(i * 30_003_200, camera_jpeg(1)) for i in range(3)]
        self.opens(self.image(medium(pieces, 64 << 20)[: 62 << 20]))
        self.station(SEARCH)
        self.click("begin-signatures")
        tape = self.window.tape
        self.wait(lambda: not self.session.searching and tape.ids.size == 3, "the search")
        x = round(tape._x(30_003_300, tape._lane(), tape.view))
        QTest.mouseClick(tape, LEFT, pos=QPoint(x, tape._lane().center().y()))
        self.assertEqual(self.session.choice.selection, int(tape.ids[1]))
        self.idle()
        self.assertEqual(self.window.stack.currentIndex(), FINDS)
        self.assertEqual(tape.pieces[0][0], 30_003_200)
        tape.setFocus()
        for _ in range(4):
            QTest.keyClick(tape, Qt.Key.Key_Plus)
        self.assertLess(tape.view[1] - tape.view[0], 40 << 20)
        self.assertEqual(self.session.marked, tape.view)
        QTest.keyClick(tape, Qt.Key.Key_Home)
        self.assertIsNone(self.session.marked)

    def test_keys_log_and_look(self):
        self.opens(self.image(noise(10_000)))
        QTest.keyClick(self.window, Qt.Key.Key_F1)
        dialog = self.window.findChild(QDialog, "keys")
        self.click("keysClose", dialog)
        self.click("activityLog")
        self.idle()
        self.click("logClose", self.window.findChild(QDialog, "log"))
        self.window.activateWindow()  # no window manager is there to do it
        self.wait(self.window.isActiveWindow, "the window again")
        QTest.keyClick(self.window, Qt.Key.Key_D, Qt.KeyboardModifier.ControlModifier)
        self.assertTrue(look.dark)
        self.assertTrue(Settings(self.folder / "settings.json").get("dark"))
        QTest.keyClick(self.window, Qt.Key.Key_D, Qt.KeyboardModifier.ControlModifier)
        QTest.keyClick(self.window, Qt.Key.Key_Equal, Qt.KeyboardModifier.ControlModifier)
        self.assertGreater(look.scale, 1.0)
        QTest.keyClick(self.window, Qt.Key.Key_Minus, Qt.KeyboardModifier.ControlModifier)


class LookTest(unittest.TestCase):
    def test_every_text_can_be_read(self):
        for c in (LIGHT, DARK):
            for ground in (c.ground, c.panel, c.pictures):
                for text in (c.ink, c.muted, c.thread, c.ochre, c.plum):
                    self.assertGreaterEqual(contrast(text, ground), 4.5, (c.name, text, ground))
            self.assertGreaterEqual(contrast(c.on_thread, c.thread), 4.5)

    def test_painting_keeps_its_hands_off_none(self):
        """Some PySide6 releases drop a reference to None in every void call and then abort."""
        application()
        image = QImage(8, 8, QImage.Format.Format_RGB32)
        painter = QPainter(image)
        before = sys.getrefcount(None)
        for _ in range(1000):
            painter.setPen(Qt.PenStyle.NoPen)
            painter.drawLine(0, 0, 5, 5)
        after = sys.getrefcount(None)
        painter.end()
        self.assertLess(abs(after - before), 200)
