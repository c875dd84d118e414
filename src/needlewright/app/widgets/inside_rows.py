"""The rows of a database that a phone or another shelf offers, before anything is brought."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QDialog, QWidget

from needlewright.app.looking import LookWork, RowsInside
from needlewright.app.theme.look import look
from needlewright.app.widgets.rows_table import RowsTable
from needlewright.app.widgets.small import button, column, fill, label, line
from needlewright.core.search.shelf_names import Inside
from needlewright.wording import inside as words
from needlewright.wording import rows as row_words


class InsideRows(QDialog):
    """Shows the rows of `one` once `work` has read them. `chosen`: the keys of the files that they
    name."""

    chosen = Signal(object)

    def __init__(self, work: LookWork, one: Inside, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("insideRows")
        self.setWindowTitle(words.ROWS_HEAD.format(name=one.name))
        self._work, self._one, self._keys = work, one, frozenset[str]()
        outer = column(self, (20, 16, 20, 16))
        self.table = RowsTable(self, with_place=False)
        self.table.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.told = label(words.ROWS_READING.format(name=one.name), "muted", "insideRowsTold",
                          wrap=True)
        self.choose = button(words.choose_named(0), "insideRowsChoose", self._choose, "main")
        self.choose.setEnabled(False)
        leave = button(words.CLOSE, "insideRowsClose", self.reject)
        fill(outer, label(words.ROWS_HEAD.format(name=one.path), "head", wrap=True),
             label(words.ROWS_HINT, "muted", wrap=True), 2)
        outer.addWidget(self.table, 1)
        fill(outer, self.told)
        outer.addStretch(0)
        fill(outer, line(None, leave, self.choose, spacing=8))
        self.resize(look.px(900), look.px(520))
        work.rows.connect(self._came)
        work.failed.connect(self._failed)
        work.want_rows(one)

    def _came(self, came: RowsInside) -> None:
        if came.one is not self._one:
            return
        read = came.read
        self.table.rows.show(read.rows if read is not None else [])
        self.table.setVisible(self.table.rows.rowCount() > 0)
        summary = "" if read is None else row_words.summary(read.counts, len(read.rows))
        self.told.setText(f"{came.told} {summary}".strip().rstrip(".") + ".")
        self._keys = came.keys
        self.choose.setText(words.choose_named(len(came.keys)))
        self.choose.setEnabled(bool(came.keys))

    def _failed(self, sentence: str) -> None:
        self.told.setText(sentence)

    def _choose(self) -> None:
        self.chosen.emit(self._keys | {self._one.offered.entry.key})
        self.accept()

    def done(self, result: int) -> None:
        self._work.leave_rows()
        super().done(result)
