"""The bench in the window: pieces joined by hand, with the mouse and by keyboard."""

import threading
import unittest
from itertools import pairwise
from pathlib import Path

from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from needlewright.app.widgets.thread_bars import ThreadBars
from needlewright.app.window import FINDS, MENDING
from needlewright.core.codes import SeamWord
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.jobs.runner import run_search
from needlewright.core.search.plan import Plan
from needlewright.demo import clips
from tests.app.test_window import LEFT, WindowCase
from tests.core.test_stitching import UNIT, cut, laid, photo

CTRL, SHIFT = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier


class MendingTest(WindowCase):
    def setUp(self):
        super().setUp()
        self.mine = photo(2)
        clip = clips.encode("mp4", frames=60, size=(320, 180))
        a, c = cut(self.mine, 17, 30), cut(clip, len(clip) // UNIT // 2)
        whole = [photo(20 + i, (320, 240)) for i in range(9)]
        self.make(laid(*whole[:6], a[0], c[0], whole[6], a[1], whole[7], c[1], a[2], whole[8]))

    def make(self, data: bytes, name: str = "job") -> Path:
        path = self.folder / f"{name}.img"
        path.write_bytes(data)
        job, row = job_for_image(self.folder / name, path)
        with job:
            list(run_search(job, row, Plan(("signatures",)), threading.Event()))
        return self.folder / name

    @property
    def bench(self):
        return self.session.joining

    def settled(self, what: str) -> None:
        """Until the bench has told everything, pictures too."""
        def done() -> bool:
            bench, shown = self.bench, self.window.mending._pixmaps
            return (bench.standing is not None and bench.offers is not None and not bench.busy
                    and all(i in shown for i in range(-1, len(bench.offers.best))))

        self.wait(done, what)

    def opened(self) -> None:
        self.opens(self.folder / "job")
        self.station(MENDING)
        self.wait(lambda: bool(self.window.mending.list.waiting.ids), "what waits")
        self.settled("the first find")

    def joined(self, act) -> None:
        before = self.bench._wish
        act()
        self.wait(lambda: self.bench._wish != before, "the wish")
        self.settled("what came of it")

    def test_by_keyboard_from_the_list_to_a_find_that_is_kept(self):
        self.opened()
        mending = self.window.mending
        self.assertEqual(self.window.thread_line.figures[MENDING], "2 waiting")
        first, second = mending.list.waiting.ids
        self.assertEqual(self.bench.number, first)
        mending.list.setFocus()
        self.key(Qt.Key.Key_Down)
        self.wait(lambda: self.bench.number == second, "the next one")
        self.key(Qt.Key.Key_Up)
        self.settled("the first again")
        self.key(Qt.Key.Key_2)
        self.assertEqual(mending.cards.current, 1)
        self.key(Qt.Key.Key_Left)
        self.assertEqual(mending.cards.current, 0)
        found = self.bench.standing
        self.joined(lambda: self.key(Qt.Key.Key_J))
        self.assertEqual(len(self.bench.standing.pieces), 2)
        self.assertEqual(len(self.window.tape.pieces), 2)
        self.joined(lambda: self.key(Qt.Key.Key_Z, CTRL))
        self.assertEqual(self.bench.standing.pieces, found.pieces)
        self.joined(lambda: self.key(Qt.Key.Key_Z, CTRL | SHIFT))
        self.joined(lambda: self.key(Qt.Key.Key_G))
        self.assertTrue(self.bench.standing.ended)
        self.assertFalse(mending.cards.isVisible())
        self.key(Qt.Key.Key_B)
        self.assertIsNone(mending.seam.share)
        self.key(Qt.Key.Key_K)
        self.wait(lambda: self.bench.kept_id is not None, "the find")
        self.wait(lambda: list(mending.list.waiting.ids) == [second], "one that waits less")
        record = self.job.record(self.bench.kept_id)
        self.assertEqual(record.row.grade, "whole")
        self.assertEqual(record.row.size, len(self.mine))
        self.assertEqual(self.job.record(first).row.grade, "partial")
        self.station(FINDS)
        self.assertEqual(self.problems, [])

    def test_with_the_mouse_cut_and_placed(self):
        self.opened()
        mending, seam = self.window.mending, self.window.mending.seam
        before = len(self.bench.standing.thread.clusters)
        y = round(seam.seam_line(seam.share).y1())
        x = seam.width() // 2

        def drag() -> None:
            QTest.mousePress(seam, LEFT, pos=QPoint(x, y))
            QTest.mouseMove(seam, QPoint(x, y - 60))
            QTest.mouseRelease(seam, LEFT, pos=QPoint(x, y - 60))

        self.joined(drag)
        self.assertLess(len(self.bench.standing.thread.clusters), before)
        self.joined(lambda: self.click("cutLater"))
        self.joined(lambda: self.click("undo"))
        self.joined(lambda: self.click("undo"))
        card = mending.cards.box(0).center().toPoint()
        place = self.bench.start_of(self.bench.offers.best[0])
        self.joined(lambda: QTest.mouseDClick(mending.cards, LEFT, pos=card))
        self.assertEqual(self.bench.standing.pieces[1][0], place)
        self.joined(lambda: self.click("undo"))
        typed = mending.panel.place
        typed.setFocus()
        QTest.keyClicks(typed, "somewhere")
        self.key(Qt.Key.Key_Return)
        self.assertIn("no place", self.bench.note)
        typed.clear()
        QTest.keyClicks(typed, str(place))
        self.joined(lambda: self.key(Qt.Key.Key_Return))
        self.assertEqual(self.bench.standing.thread.seams[0].word, SeamWord.LIKELY)
        typed.setFocus()
        typed.clear()
        QTest.keyClicks(typed, str(place))
        self.joined(lambda: self.key(Qt.Key.Key_Return))
        self.assertIn("already", self.bench.note)
        self.assertEqual(len(self.bench.standing.pieces), 2)

    def test_wishes_that_come_faster_than_answers(self):
        self.opened()
        mending = self.window.mending
        ids = mending.list.waiting.ids
        for _ in range(4):
            for number in ids:
                mending.work_on(number)
                for act in (mending.join, mending.go_on, self.bench.undo, self.bench.redo):
                    act()
                QApplication.processEvents()
        mending.work_on(ids[0])
        self.settled("the last wish")
        self.assertEqual(self.bench.number, ids[0])
        mending.go_on()  # and the window closes while it works

    def test_nothing_waits(self):
        self.opens(self.make(laid(photo(20, (320, 240))), "whole"))
        self.station(MENDING)
        self.assertTrue(self.window.mending.empty_text.isVisible())
        for key in (Qt.Key.Key_J, Qt.Key.Key_G, Qt.Key.Key_B, Qt.Key.Key_1):
            self.key(key)
        self.assertIsNone(self.bench.number)


class BarsTest(WindowCase):
    def test_nine_pieces_and_what_is_missing_all_have_a_place(self):
        bars = ThreadBars()
        for width in (300, 640, 1200):
            bars.resize(width, 58)
            for count, ended in ((1, True), (9, False), (40, True)):
                bars.show_standing(_standing(count, ended))
                boxes = bars.boxes()
                self.assertEqual(len(boxes), count + (not ended))
                self.assertTrue(all(b.width() > 0 for b in boxes))
                self.assertTrue(all(a.right() < b.left() for a, b in pairwise(boxes)))
                self.assertLessEqual(boxes[-1].right(), width)
                bars.grab()


def _standing(count: int, ended: bool):
    from needlewright.core.jobfile.threads import Thread
    from needlewright.core.jobs.handwork import Standing

    runs = tuple((10 * i, 1 + i) for i in range(count))
    pieces = tuple((first * UNIT, n * UNIT) for first, n in runs)
    total = sum(n for _, n in pieces)
    return Standing(1, Thread(runs, (), 5 if ended else None), UNIT, 0, 1, pieces,
                    (0.5,), total, True, None, False, ())


if __name__ == "__main__":
    unittest.main()
