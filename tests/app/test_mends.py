"""Mending in the window: by key, all at once, and the line between before and after."""

from __future__ import annotations

import shutil
import tempfile
import threading
from pathlib import Path

from PySide6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent, QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QLabel, QPushButton

from needlewright.app.widgets.dossier import Dossier
from needlewright.app.window import FINDS, INTAKE, MENDING, SEARCH
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.mending import MendedFind, mend_finds
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.jobs.runner import run_search
from needlewright.core.mending.base import Wishes
from needlewright.core.search.plan import Plan
from needlewright.wording import changes
from tests.app.test_window import LEFT, WindowCase
from tests.mending import damage
from tests.support import medium, noise


class MendsTest(WindowCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.made = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        pieces = []
        for number in range(3):
            whole = damage.photo(2 + number, 640, 480)
            at = damage.inside(whole, 0.5)
            torn = whole[:at] + noise(600) + whole[at + 600 :]
            pieces.append((4096 + (number << 19), torn))
        pieces.append((3 << 19, damage.photo(9, 640, 480)))
        path = cls.made / "card.img"
        path.write_bytes(medium(pieces, 2 << 20))
        job, row = job_for_image(cls.made / "job", path)
        with job:
            list(run_search(job, row, Plan(("signatures",)), threading.Event()))

    def setUp(self):
        super().setUp()
        shutil.copytree(self.made / "job", self.folder / "job")
        self.opens(self.folder / "job")
        self.station(MENDING)
        self.mending = self.window.mending
        self.wait(lambda: bool(self.mending.list.waiting.ids), "what waits")
        self.wait(lambda: self.session.joining.standing is not None, "the first find")

    @property
    def pair(self):
        return self.session.mends.pair

    def pictured(self) -> None:
        self.wait(lambda: self.pair is not None and len(self.pair.pictures) == 2, "the pictures")

    def test_one_by_key_then_the_line_is_dragged(self):
        self.mending.list.setFocus()
        self.key(Qt.Key.Key_M)
        self.wait(lambda: self.session.mends.work is not None or self.pair is not None, "a start")
        self.pictured()
        view = self.mending.compare
        self.assertTrue(view.isVisible())
        self.assertFalse(view.before.isNull() or view.after.isNull())
        self.assertTrue(self.mending.mended.isVisible())
        told = self.mending.mended.findChild(type(self.mending.told), "mendedGrade").text()
        self.assertIn("is there", told)
        middle = view.height() // 2
        QTest.mousePress(view, LEFT, pos=QPoint(round(view.line_at()), middle))
        QTest.mouseMove(view, QPoint(view.width() // 4, middle))
        QTest.mouseRelease(view, LEFT, pos=QPoint(view.width() // 4, middle))
        self.assertAlmostEqual(view.share, 0.25, delta=0.03)
        view.setFocus()
        self.key(Qt.Key.Key_Right)
        self.assertAlmostEqual(view.share, 0.3, delta=0.03)
        wheel = QWheelEvent(QPointF(90, 90), QPointF(90, 90), QPoint(), QPoint(0, 120),
                            Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier,
                            Qt.ScrollPhase.NoScrollPhase, False)
        wide = view.picture_box().width()
        QApplication.sendEvent(view, wheel)
        self.assertGreater(view.picture_box().width(), wide)
        self.key(Qt.Key.Key_H)
        self.assertFalse(self.mending.mended.isVisible())
        self.key(Qt.Key.Key_H)
        self.assertTrue(self.mending.mended.isVisible())
        shown = []
        self.mending.show_find.connect(shown.append)
        QTest.mouseClick(self.mending.mended.show_find, LEFT)
        self.assertEqual(shown, [self.pair.after.row.id])

    def test_all_that_waits_while_the_line_tells_how_far(self):
        done = []
        self.session.mends.came.connect(done.append)
        waiting = list(self.mending.list.waiting.ids)
        QTest.mouseClick(self.mending.mend_all, LEFT)
        self.wait(lambda: self.session.mends.now is not None, "the first of them")
        self.assertIn("mending", self.window.activity.mending_text.text())
        self.assertFalse(self.mending.mend.isEnabled())
        self.wait(lambda: self.session.mends.work is None, "all of them")
        self.assertEqual([d.find for d in done], waiting)
        self.assertTrue(self.mending.mend.isEnabled())
        self.assertFalse(self.window.activity.mending_text.isVisible())
        self.wait(lambda: any(t.grade == "mended" for t in self.session.board.tally) or all(
            d.kept is None or d.treated.grade != "mended" for d in done), "the counts")
        other = waiting[1]
        self.mending.work_on(other)
        self.wait(lambda: self.pair is not None and self.pair.before.row.id == other, "its pair")

    def test_a_folder_of_files_from_the_drop_to_what_nothing_can_be_done_for(self):
        client = self.folder / "client"
        client.mkdir()
        whole = damage.photo(2, 640, 480)
        (client / "BF_0001.JPG").write_bytes(whole[: len(whole) // 2])
        (client / "BF_0002.JPG").write_bytes(bytes(4000))
        drop = QMimeData()
        drop.setUrls([QUrl.fromLocalFile(str(client))])
        self.station(INTAKE)
        self.window.intake.dropEvent(QDropEvent(
            QPointF(9, 9), Qt.DropAction.CopyAction, drop, LEFT, Qt.KeyboardModifier.NoModifier))
        self.wait(lambda: self.session.source is not None and self.session.source.kind == "files",
                  "the folder")
        self.assertEqual(len(self.session.board.sources), 2)  # beside the card, in the same job
        self.station(SEARCH)
        cards = self.window.search.cards
        self.idle()
        self.assertEqual([n for n, c in cards.items() if not c.frame.isHidden()], ["files"])
        QTest.mouseClick(cards["files"].begin, LEFT)
        self.wait(lambda: not self.session.searching and any(
            step.step == "files" and step.ending == "done" for step in self.session.board.steps),
            "the files")
        self.station(MENDING)
        shown = self.mending.list.waiting
        self.wait(lambda: len(shown.ids) == 5, "what waits")
        lost = shown.ids[-1]
        self.mending.work_on(lost)
        self.wait(lambda: self.mending.mended.isVisible(), "its panel")
        self.assertFalse(self.mending.mended.by_hand.isVisible())
        QTest.mouseClick(self.mending.mend_all, LEFT)
        self.wait(lambda: self.session.mends.work is None and len(shown.shown.treated) == 5,
                  "all of them")
        self.assertEqual(shown.ids[-1], lost)
        self.assertIn("nothing", shown.told(self.session.choice.rows.get(lost)))
        self.wait(lambda: self.session.board.waiting == 0, "the counts")

    def test_a_person_decides_and_takes_it_back(self):
        self.mending.list.setFocus()
        self.key(Qt.Key.Key_M)
        self.pictured()
        first = self.pair.after.row.id
        self.mending.mended.places.click()
        mends = self.session.mends
        self.wait(lambda: mends.choosing is None and bool(mends.offers), "places")
        offers = list(mends.offers)
        self.assertTrue(1 < len(offers) <= 3 and all(one.picture for one in offers))
        self.assertTrue(self.mending.places.isVisible())
        self.mending.compare.setFocus()
        self.key(Qt.Key.Key_2)
        self.wait(lambda: mends.work is None and mends.wishes.places == {
            offers[1].number: offers[1].shift}, "the second place")
        self.pictured()
        self.assertEqual((self.pair.after.row.id, self.pair.after.row.grade), (first, "partial"))
        told = " ".join(one.text() for one in self.mending.mended.findChildren(QLabel))
        self.assertIn("where a person put it", told)
        files = list((self.folder / "job" / "mended").iterdir())
        self.assertEqual(len(files), 1)  # what it replaces is gone
        self.drag_the_rest()
        self.colour_the_rest()
        mends.leave_out("levels-by-thumbnail", True)
        self.wait(lambda: mends.work is None and bool(mends.wishes.leave), "what is left out")
        self.pictured()
        after_all = self.mending.mended.findChild(QPushButton, "leave-levels-by-thumbnail")
        self.assertIsNotNone(after_all)
        for wanted in ("places", ""):
            self.mending.compare.setFocus()
            self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
            self.wait(lambda w=wanted: mends.work is None and not mends.wishes.leave and bool(
                mends.wishes.places) == bool(w), "the step back")
            self.pictured()
        self.assertFalse(mends.can_undo)
        # Decided once, it is so again when all is mended anew.
        mends.decide(Wishes(frozenset({"levels-by-thumbnail"})))
        self.wait(lambda: mends.work is None and bool(mends.wishes.leave), "the wish")
        with Job(self.folder / "job") as job:
            number = self.pair.before.row.id
            done = [e for e in mend_finds(job, [number], threading.Event())
                    if isinstance(e, MendedFind)]
            self.assertIn("left-out", [c.code for c in job.record(done[0].kept).changes])

    def drag_the_rest(self) -> None:
        """By one row of blocks down and two to the right; then back."""
        mends, view = self.session.mends, self.mending.compare
        self.mending.mended.places.click()
        self.wait(lambda: mends.choosing is None and view.rest is not None, "places anew")
        before, offered = mends.wishes.places, mends.placed
        number, (wide, high, per_row) = offered.number, offered.unit
        box, scale = view.rest_box(), view.picture_box().width() / 640
        start = QPointF(box.center().x(), box.top() + 20)
        end = start + QPointF(2.2 * wide * scale, 0.9 * high * scale)
        QTest.mousePress(view, LEFT, pos=start.toPoint())
        QTest.mouseMove(view, end.toPoint())
        view.grab()
        QTest.mouseRelease(view, LEFT, pos=end.toPoint())
        shift = before.get(number, offered.shift) + per_row + 2
        self.wait(lambda: mends.work is None and mends.wishes.places == {
            **before, number: shift}, "the place it was dragged to")
        self.pictured()
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.wait(lambda: mends.work is None and mends.wishes.places == before, "the step back")
        self.pictured()

    def colour_the_rest(self) -> None:
        """Another colour that is offered; then back."""
        mends = self.session.mends
        self.mending.compare.setFocus()
        self.key(Qt.Key.Key_C)
        self.wait(lambda: mends.choosing is None and len(mends.offers) > 1, "colours")
        self.assertEqual((mends.taken, self.mending.compare.rest), (0, None))
        self.assertEqual(self.mending.places.texts[0][0], "as it stands")
        wanted = mends.offers[1]
        self.key(Qt.Key.Key_2)
        self.wait(lambda: mends.work is None and mends.wishes.tones == {
            wanted.number: wanted.tone}, "the second colour")
        self.pictured()
        self.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.wait(lambda: mends.work is None and not mends.wishes.tones, "the step back")
        self.pictured()

    def test_closing_in_the_middle_of_it(self):
        self.session.mends.begin(self.folder / "job", list(self.mending.list.waiting.ids))
        self.window.close()
        self.assertIsNone(self.session.mends.work)

    def test_the_dossier_says_where_it_is_from_and_what_was_changed(self):
        self.mending.list.setFocus()
        self.key(Qt.Key.Key_M)
        self.pictured()
        pair = self.pair
        self.station(FINDS)
        self.session.choice.select(pair.after.row.id)
        self.idle()
        dossier = self.window.finds.findChild(Dossier) or self.window.findChild(Dossier)
        said = " ".join(one.text() for one in dossier.findChildren(QLabel))
        self.assertIn(f"Mended from find {pair.before.row.id}", said)
        self.assertNotIn("0 pieces", said)
        for change in pair.after.changes:
            self.assertIn(changes.change(change)[1:], said)
        QTest.mouseClick(dossier.findChild(QPushButton, "dossierMended"), LEFT)
        self.idle()
        self.assertEqual(self.session.choice.selection, pair.before.row.id)
