"""What is shown has room at 1280x800, whatever a job holds: the buttons of every step, and a
dossier whose names and links are long."""

from __future__ import annotations

from PySide6.QtCore import QPoint
from PySide6.QtWidgets import QApplication, QPushButton

from needlewright.app.widgets.dossier import Dossier
from needlewright.app.widgets.small import breakable, column, line, link
from needlewright.app.window import FINDS, SEARCH
from tests.app.test_window import WindowCase
from tests.media import samples
from tests.support import camera_jpeg, medium

STEP = 1_048_576


class RoomTest(WindowCase):
    def open_all_kinds(self) -> None:
        kinds = {s.format: s.data for s in samples() if len(s.data) < STEP}
        pieces = [(i * STEP, data) for i, data in enumerate((camera_jpeg(1), *kinds.values()))]
        self.opens(self.image(medium(pieces, (len(pieces) + 1) * STEP)))
        self.window.resize(1280, 800)

    def test_every_button_of_a_step_is_in_sight(self):
        self.open_all_kinds()
        self.station(SEARCH)
        self.click("begin-signatures")
        self.wait(lambda: not self.session.searching, "the search")
        self.idle()
        self.assertGreater(sum(len(self.text(f"tally-signatures-{kind}")) > 0
                               for kind in self.window.search._kinds), 3)
        for name, step in self.window.search.cards.items():
            card = step.frame.rect()
            for button in step.frame.findChildren(QPushButton):
                if button.isVisible():
                    place = button.mapTo(step.frame, QPoint(0, 0))
                    self.assertGreaterEqual(button.width(), button.sizeHint().width(), name)
                    self.assertLessEqual(place.x() + button.width(), card.width(), name)

    def test_the_dossier_is_never_wider_than_its_place(self):
        self.open_all_kinds()
        self.station(SEARCH)
        self.click("begin-signatures")
        self.wait(lambda: not self.session.searching, "the search")
        self.station(FINDS)
        dossier = self.window.finds.findChild(Dossier)
        for row in self.job.matching()[:6]:
            self.session.choice.select(row.id)
            self.idle()
            self.assertLessEqual(dossier.widget().width(), dossier.viewport().width(), row)

    def test_a_long_link_is_shortened_and_whole_in_its_tooltip(self):
        told = []
        text = "Put together from pieces; show the find that had only the first of all of them"
        long, short = link(text, "long", lambda: told.append(1)), link("Show it", "short", list)
        box = QPushButton()
        layout = column(box)
        layout.addLayout(line(long, None))
        layout.addLayout(line(short, None))
        box.setFixedSize(260, 120)
        box.show()
        QApplication.processEvents()
        self.assertLessEqual(long.width(), 260)
        self.assertTrue("…" in long.text() and long.toolTip() == long.accessibleName() == text)
        self.assertEqual((short.text(), short.toolTip()), ("Show it", ""))
        long.click()
        self.assertEqual(told, [1])
        box.close()
        self.assertEqual(breakable("BF_0001.JPG on a card"), "BF_0001.JPG on a card")
        self.assertEqual(breakable("a" * 45).replace("\u200b", ""), "a" * 45)
        self.assertLessEqual(max(map(len, breakable("x" * 99).split("\u200b"))), 20)
