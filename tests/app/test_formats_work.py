"""Choosing what to look for and how, and looking into clips: the window with clicks and keys."""

import unittest

from PySide6.QtCore import QPoint, QTimer
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QCheckBox, QPushButton

from needlewright.app.widgets.formats_dialog import FormatsDialog
from needlewright.app.window import FINDS, SEARCH
from needlewright.core.kernels.texture import Texture
from tests.app.test_window import LEFT, WindowCase
from tests.media import clips, pictures, sounds
from tests.support import medium, noise

MIB = 1 << 20


class FormatsTest(WindowCase):
    def open_card(self) -> None:
        pieces = [(0, pictures.camera(190)), (MIB, sounds.encode("flac", "flac", 191)),
                  (2 * MIB, clips.encode("mp4", seed=192, frames=40)), (4 * MIB, noise(MIB))]
        self.opens(self.image(medium(pieces, 8 * MIB)))
        self.station(SEARCH)

    def choose_only(self, *names: str) -> None:
        """Open the dialog with its button, tick `names` alone, and take them."""
        def act() -> None:
            dialog = next(w for w in QApplication.topLevelWidgets()
                          if isinstance(w, FormatsDialog) and w.isVisible())
            QTest.mouseClick(dialog.findChild(QPushButton, "noFormats"), LEFT)
            for name in names:
                tick = dialog.findChild(QCheckBox, f"format-{name}")
                QTest.mouseClick(tick, LEFT, pos=QPoint(8, tick.height() // 2))
            QTest.mouseClick(dialog.findChild(QPushButton, "useFormats"), LEFT)

        QTimer.singleShot(0, act)
        self.click("chooseFormats")

    def search(self) -> None:
        self.click("begin-signatures")
        self.wait(lambda: not self.session.searching, "the search")
        self.idle()

    def test_some_formats_then_the_rest(self):
        self.open_card()
        self.choose_only("jpeg")
        self.assertIn("1 of", self.text("formatsText"))
        self.search()
        self.assertEqual([r.format for r in self.job.matching()], ["jpeg"])
        self.window.search.use_formats(frozenset())
        self.assertIn("all", self.text("formatsText"))
        self.search()
        self.assertEqual([r.format for r in self.job.matching()], ["jpeg", "flac", "mp4"])
        self.assertEqual(self.text("tally-signatures-audio"), "1 sound")

    def test_changed_while_it_runs_it_goes_on_with_the_new_choice(self):
        self.open_card()
        self.choose_only("jpeg")
        self.click("begin-signatures")
        self.wait(lambda: self.session.search is not None, "the search")
        self.window.search.use_formats(frozenset({"jpeg", "flac"}))
        self.wait(lambda: not self.session.searching, "both searches")
        found = [r.format for r in self.job.matching()]
        if found == ["jpeg"]:  # it had ended before it could be changed
            self.search()
            found = [r.format for r in self.job.matching()]
        self.assertEqual(found, ["jpeg", "flac"])

    def test_frames_are_decoded_on_request(self):
        self.open_card()
        self.click("everyFrame")
        self.search()
        row = next(r for r in self.job.matching() if r.format == "mp4")
        self.assertEqual(row.grade, "unproven")
        self.station(FINDS)
        self.session.choice.select(row.id)
        self.idle()
        self.assertIn("not checked to the end", self.text("dossierGrade"))
        self.click("dossierFrames")
        self.wait(lambda: self.session.frames is None, "the frames")
        self.assertEqual(self.job.rows([row.id])[0].grade, "whole")
        self.wait(lambda: "whole" in self.text("dossierGrade"), "the new grade")

    def test_every_byte_finds_what_no_sector_begins_with(self):
        self.opens(self.image(
            noise(1000) + pictures.camera(193) + bytes(MIB)))
        self.station(SEARCH)
        self.search()
        self.assertEqual(self.job.find_ids(), [])
        self.click("atBytes")
        self.search()
        self.assertEqual([r.start for r in self.job.matching()], [1000])

    def test_the_texture_lane_shows_what_was_passed_over(self):
        self.open_card()
        tape = self.window.tape
        self.assertIsNone(tape.texture_lane)
        self.search()
        tape._look_at(4 * MIB, MIB)
        self.wait(lambda: tape.texture_lane is not None and tape.texture_lane.start == 4 * MIB,
                  "the lane of the part in view")
        self.assertEqual(set(tape.texture_lane.cells(4 * MIB, 5 * MIB, 50).tolist()),
                         {Texture.RANDOM})
        QTest.mouseMove(tape, tape._lane_rect("texture").center())
        self.wait(lambda: tape.toolTip().startswith("random"), "its name")


if __name__ == "__main__":
    unittest.main()
