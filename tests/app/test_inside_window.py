"""Looking inside a phone in the window, with its own small pictures, and bringing a choice."""

from __future__ import annotations

import unittest

from PySide6.QtCore import QItemSelectionModel, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QLineEdit, QPushButton

from needlewright.app.window import INTAKE, SEARCH
from needlewright.core import kept_open
from needlewright.core.jobfile.store import Job
from needlewright.standins.phone.start import FieldPhone
from needlewright.standins.phone.state import PhoneFaults
from needlewright.wording import phones as words
from needlewright.wording.window import SEARCH_STATES
from tests.app.test_window import LEFT, WindowCase
from tests.phones import owner

ROWS = QItemSelectionModel.SelectionFlag.Select | QItemSelectionModel.SelectionFlag.Rows


class InsideWindowTest(WindowCase):
    def phone(self, **faults: object) -> FieldPhone:
        made = FieldPhone(owner.folders(self.folder / "held"), PhoneFaults(single=True, **faults))
        self.addCleanup(made.close)
        self.addCleanup(kept_open.let_all_go)
        made.open()
        return made

    def taken_in(self, phone: FieldPhone) -> None:
        self.session.open_phone(phone.address)
        self.wait(lambda: self.session.source is not None and self.session.source.kind == "phone",
                  "the source")
        self.station(SEARCH)
        self.idle()

    def looked_inside(self):
        QTest.mouseClick(self.window.search.cards["kept-copies"].look, LEFT)
        dialog = self.window.search.inside
        self.wait(lambda: bool(dialog.model.shown), "the list")
        return dialog

    def kept(self) -> set[str]:
        with Job(self.session.board.folder, read_only=True) as job:
            return {row.name for row in job.matching()}

    def test_some_files_are_chosen_by_their_pictures_and_brought(self):
        phone = self.phone()
        self.taken_in(phone)
        dialog = self.looked_inside()
        self.assertEqual([one.name for one in dialog.model.shown[:2]],
                         ["FP_0092.jpg", "FP_0091.jpg"])  # what it soon throws away
        self.wait(lambda: any(dialog.model._pictures.values()), "a small picture")
        row = next(r for r, one in enumerate(dialog.model.shown) if one.name == "FP_0091.jpg")
        dialog.table.scrollTo(dialog.model.index(row, 0))
        self.wait(lambda: dialog.model.picture(row) is not None, "its picture")
        self.assertEqual(max(dialog.model.picture(row).width(),
                             dialog.model.picture(row).height()), 160)
        everything = len(dialog.model.shown)
        QTest.keyClicks(dialog.findChild(QLineEdit, "insideFilter"), "fp_000")
        self.wait(lambda: len(dialog.model.shown) == 7, "the narrowed list")
        QTest.keyClick(dialog.findChild(QLineEdit, "insideFilter"), Qt.Key.Key_Return)
        self.assertTrue(dialog.isVisible())  # nothing is brought by the key that ends a word
        for chosen in (1, 2):
            dialog.table.selectionModel().select(dialog.model.index(chosen, 1), ROWS)
        names = {dialog.model.shown[chosen].name for chosen in (1, 2)}
        self.assertIn("2 files", dialog.bring.text())
        QTest.mouseClick(dialog.bring, LEFT)
        self.wait(lambda: self.session.searching, "the search")
        self.wait(lambda: not self.session.searching, "its end")
        self.assertEqual(self.kept(), names)
        self.assertEqual(phone.wish("state")["listings"], 1)
        step = self.window.search.cards["kept-copies"]
        self.wait(lambda: "chosen" in step.state.text(), "how much that was")
        self.assertIn("chosen", SEARCH_STATES[self.session.ending])
        dialog = self.looked_inside()
        QTest.mouseClick(dialog.removed, LEFT)
        self.assertEqual({one.name for one in dialog.model.shown}, {"FP_0091.jpg", "FP_0092.jpg"})
        QTest.mouseClick(dialog.removed, LEFT)
        dialog.table.horizontalHeader().sectionClicked.emit(4)
        self.assertEqual(dialog.model.shown[0].name, "large.bin")
        self.assertEqual(len(dialog.model.shown), everything)
        QTest.mouseClick(dialog.findChild(QPushButton, "insideClose"), LEFT)
        self.wait(lambda: not self.session.listings.busy, "the phone is free")
        self.assertEqual(self.kept(), names)

    def test_a_list_that_takes_long_is_shown_and_stopped(self):
        phone = self.phone(plain=True, made_up=4000, size=100)
        self.station(INTAKE)
        card = self.window.intake.phone_card
        self.session.open_phone(phone.address)
        self.wait(lambda: self.session.listings.told[0] > 0, "how far it is")
        self.assertIn("is listed: ", card.do.text())
        self.assertIn("is listed: ", self.window.activity.listing_text.text())
        self.assertEqual(card.leave.text(), words.STOP_LISTING)
        QTest.mouseClick(card.leave, LEFT)
        self.wait(lambda: not self.session.listings.busy, "the end")
        self.assertIsNone(self.session.source)
        self.assertFalse(card.isVisible())

    def test_locked_while_it_is_looked_into(self):
        phone = self.phone()
        self.taken_in(phone)
        phone.wish("lock")
        QTest.mouseClick(self.window.search.cards["kept-copies"].look, LEFT)
        dialog = self.window.search.inside
        self.wait(lambda: dialog.work is None, "the refusal")
        self.assertIn("nlock", dialog.told.text())
        self.assertFalse(dialog.bring.isEnabled())
        QTest.mouseClick(dialog.findChild(QPushButton, "insideClose"), LEFT)
        self.assertTrue(self.window.isVisible())


if __name__ == "__main__":
    unittest.main()
