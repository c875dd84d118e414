"""Every station at every text size, light and dark: no word is cut, nothing is crushed."""

from __future__ import annotations

import shutil
import tempfile
import threading
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QAbstractButton, QLabel, QPushButton, QWidget

from needlewright.app.theme.look import look
from needlewright.app.widgets.flow import Flow, flow
from needlewright.app.window import FINDS, SCALES, SEARCH
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.jobs.runner import run_search
from needlewright.core.search.plan import Plan
from needlewright.core.search.registry import steps_for
from tests.app.test_window import WindowCase
from tests.support import camera_jpeg, medium, png, splice

PHOTO = camera_jpeg(5)
#: Stitching comes first, and has nothing to do: it would look long for pieces that are not there.
PLANS = [Plan((name,)) for name in sorted(steps_for("bytes"), key=lambda n: n != "stitching")]


def cut_words(window) -> list[str]:
    """What is shown in less room than its words need."""
    found = []
    for widget in (*window.findChildren(QLabel), *window.findChildren(QAbstractButton)):
        text = widget.text()
        if not widget.isVisible() or not text:
            continue
        if isinstance(widget, QLabel) and widget.wordWrap():
            if widget.heightForWidth(widget.width()) > widget.height() + 1:
                found.append(f"{widget.objectName()} too low: {text[:40]}")
            continue
        metrics = widget.fontMetrics()
        needs = (max(metrics.horizontalAdvance(line) for line in text.splitlines())
                 if isinstance(widget, QLabel) else widget.sizeHint().width())
        if needs > widget.width() + 1:
            found.append(f"{widget.objectName()} too narrow: {text[:40]}")
        if metrics.height() > widget.height() + 1:
            found.append(f"{widget.objectName()} crushed: {text[:40]}")
    return found


class LargeTextTest(WindowCase):
    def tearDown(self):
        look.apply(False, 1.0)
        super().tearDown()

    @classmethod
    def setUpClass(cls):
        """A job that is done, searched once: each test opens a copy of it."""
        super().setUpClass()
        place = tempfile.TemporaryDirectory()
        cls.addClassCleanup(place.cleanup)
        cls.done = Path(place.name) / "job"
        image = Path(place.name) / "card.img"
        image.write_bytes(medium([(4096, PHOTO), (1 << 19, png()),
                                  (1 << 20, splice(PHOTO, len(PHOTO) // 2, bytes(9000)))],
                                 2 << 20))
        job, source = job_for_image(cls.done, image, "otter survey")
        with job:
            for plan in PLANS:
                list(run_search(job, source, plan, threading.Event()))
            job.reviews.put_in_tray([1])

    def job(self):
        shutil.copytree(self.done, self.folder / "job")
        self.opens(self.folder / "job")

    def settle(self):
        for _ in range(12):
            QTest.qWait(0)
            self.qt.processEvents()

    def test_no_word_is_cut_anywhere(self):
        self.window.resize(1280, 800)
        self.job()
        self.wait(lambda: self.window.finds.sheet.sheet.ids.size > 1, "the sheet")
        self.session.choice.select(int(self.window.finds.sheet.sheet.ids[0]))
        while look.scale > SCALES[0]:
            self.window.scale_text(-1)
        for _ in SCALES:
            for _ in range(2):
                self.window.toggle_dark()
                for station in range(5):
                    with self.subTest(scale=look.scale, dark=look.dark, station=station):
                        self.station(station)
                        self.settle()
                        self.assertEqual(cut_words(self.window), [])
            self.window.scale_text(1)

    def test_what_was_chosen_survives_another_size(self):
        self.job()
        search = self.window.search
        search.kind_buttons["video"].setChecked(False)
        search.at_bytes.setChecked(True)
        search.folder.setText("DCIM")
        while look.scale < SCALES[-1]:
            self.window.scale_text(1)
        again = self.window.search
        self.assertIsNot(again, search)
        self.assertFalse(again.kind_buttons["video"].isChecked())
        self.assertTrue(again.at_bytes.isChecked())
        self.assertEqual(again.folder.text(), "DCIM")
        self.station(SEARCH)
        self.assertIs(self.window.stack.currentWidget(), again)
        self.station(FINDS)

    def test_only_the_next_step_is_a_filled_button(self):
        self.job()
        self.station(SEARCH)
        buttons = {name: self.window.findChild(QPushButton, f"begin-{name}")
                   for name in steps_for("bytes")}
        self.assertEqual([b.property("role") for b in buttons.values() if b], [""] * len(buttons))
        fresh = self.image(medium([(0, PHOTO)], 1 << 20))
        self.opens(fresh)
        roles = [self.window.findChild(QPushButton, f"begin-{name}").property("role")
                 for name in steps_for("bytes")]
        self.assertEqual(roles, ["main", *[""] * (len(buttons) - 1)])


class FlowTest(WindowCase):
    def test_a_row_goes_on_in_the_next_line(self):
        labels = [QLabel("otters heading upstream") for _ in range(6)]
        box = flow(*labels)
        wide = labels[0].sizeHint().width()
        layout = box.layout()
        self.assertIsInstance(layout, Flow)
        one = layout.heightForWidth(10 * wide)
        two = layout.heightForWidth(3 * wide + 40)
        self.assertGreater(two, one)
        self.assertGreater(layout.heightForWidth(wide), two)
        labels[0].hide()
        box.resize(10 * wide, 400)
        box.show()
        self.assertEqual(len({label.y() for label in labels[1:]}), 1)
        self.assertEqual(layout.count(), 6)
        self.assertIsNone(layout.itemAt(77))
        self.assertIsNone(layout.takeAt(77))
        self.assertIs(layout.takeAt(0).widget(), labels[0])
        self.assertEqual(layout.expandingDirections(), Qt.Orientation(0))
        box.close()

    def test_nothing_shown_takes_no_room(self):
        self.assertEqual(flow().layout().heightForWidth(100), 0)
        self.assertIsInstance(flow(), QWidget)
