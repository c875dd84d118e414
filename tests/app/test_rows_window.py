"""A database among the finds, opened large: its rows, removed ones first."""

import tempfile
import unittest
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtGui import QFontMetrics
from PySide6.QtTest import QTest

from needlewright.app.rows_read import read_rows
from needlewright.app.stations.finds import GradeButton
from needlewright.app.theme.look import look
from needlewright.app.widgets.rows_table import HOLDS, WHERE
from needlewright.app.window import FINDS, SEARCH
from needlewright.core.jobfile.rows import Filter
from needlewright.core.search.plan import Plan
from needlewright.core.sources.memory import MemorySource
from needlewright.core.stopping import Interrupted
from needlewright.standins.phone.content import _messages
from needlewright.wording import rows as words
from needlewright.wording.checks import GRADES
from tests.app.test_window import WindowCase
from tests.databases.corpus import make
from tests.support import medium


class RowsWindowTest(WindowCase):
    def database(self, **options) -> bytes:
        path = Path(self.folder) / "phone.db"
        make(path, 3, rows=40, **options)
        data = path.read_bytes()
        path.unlink()
        return data

    def shown(self, data: bytes):
        """The full view of the only find on a card."""
        card = self.folder / "card.img"
        card.write_bytes(medium([(65_536, data)], 1 << 20))
        self.opens(card)
        self.station(SEARCH)
        self.click("begin-signatures")
        return self.enlarged()

    def enlarged(self):
        """The full view of the one database, once it was searched for."""
        self.wait(lambda: not self.session.searching, "the search")
        self.idle()
        (row,) = [r for r in self.job.matching(Filter()) if r.format == "sqlite"]
        self.station(FINDS)
        full = self.window.finds.full
        self.window.finds.open_full(row.id)
        self.wait(lambda: full.sharp, "what is in it")
        return full

    def test_rows_stand_in_a_table_and_removed_ones_first(self):
        full = self.shown(self.database())
        self.assertTrue(full.table.isVisible())
        model = full.table.model()
        states = [model.index(n, 0).data() for n in range(model.rowCount())]
        self.assertEqual(states, sorted(states, key=["removed", "older", "live"].index))
        self.assertEqual(set(states), {"removed", "live"})
        self.assertIn(f"{states.count('removed'):,} removed", full.line)
        self.assertIn("in a free block", model.index(0, 4).data())
        self.assertIn("\n", model.index(0, 0).data(Qt.ItemDataRole.ToolTipRole))
        place = full.table.verticalScrollBar().value()
        QTest.keyClick(full, Qt.Key.Key_PageDown)
        self.assertGreater(full.table.verticalScrollBar().value(), place)
        QTest.keyClick(full, Qt.Key.Key_Escape)
        self.assertFalse(full.isVisible())

    def test_what_stands_in_its_log_alone_is_shown_with_it(self):
        folder = self.folder / "documents"
        folder.mkdir()
        _messages(folder / "messages.db")
        self.session.open_files([folder])
        self.wait(lambda: self.session.source is not None, "the folder")
        self.session.begin_search(Plan(("files",)))
        model = self.enlarged().table.model()
        held = [model.index(n, 3).data() for n in range(model.rowCount())]
        self.assertTrue(any("Cub number 4 is in the holt" in text for text in held))

    def test_cleared_rows_are_said_to_be_cleared(self):
        full = self.shown(self.database(secure=True))
        self.assertIn("was cleared, or written over", full.line)
        self.assertTrue(full.table.isVisible())

    def test_text_made_larger_leaves_room_for_what_a_row_holds(self):
        full = self.shown(self.database())
        self.addCleanup(look.apply, False, 1.0)
        look.apply(True, 1.5)
        self.window.resize(1281, 800)
        self.idle()
        self.assertTrue(full.table.isColumnHidden(WHERE))
        self.assertGreater(full.table.columnWidth(HOLDS), look.px(200))
        for button in self.window.findChildren(GradeButton):
            wide = QFontMetrics(look.font(13, True)).horizontalAdvance(GRADES[button.grade])
            self.assertGreater(button.width(), 38 + wide)


class RowsReadTest(unittest.TestCase):
    def test_reading_ends_when_it_is_to_and_says_how_many_are_not_shown(self):
        def stop() -> None:
            raise Interrupted

        path = Path(self.enterContext(tempfile.TemporaryDirectory())) / "a.db"
        make(path, 1, rows=30)
        with self.assertRaises(Interrupted):
            read_rows(MemorySource(path.read_bytes()), stop)
        self.assertEqual(words.summary({}, 0), words.NONE)
        self.assertIn("cleared", words.summary({"live": 3}, 3))
        self.assertIn("the first 5,000 are shown", words.summary({"live": 9000}, 5000))


if __name__ == "__main__":
    unittest.main()
