"""Beside the pictures before and after: what mending changed, and what the checks say of it."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QScrollArea, QVBoxLayout, QWidget

from needlewright.app.mends import Pair
from needlewright.app.widgets.small import button, clear, column, fill, label, line
from needlewright.app.widgets.stitch import Stitch
from needlewright.core.contents import ShelfObject
from needlewright.core.jobfile.rows import FindRecord
from needlewright.core.mending.base import OPTIONAL
from needlewright.wording import changes as change_words
from needlewright.wording import checks as check_words
from needlewright.wording import finds as find_words
from needlewright.wording import mending as words
from needlewright.wording import units


class MendedPanel(QScrollArea):
    """Shows one pair. `leave`: do without a change, or make it after all (code, without)."""

    leave = Signal(str, bool)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("panel")
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._title, self._before, self._changes, self._checks = (QVBoxLayout() for _ in range(4))
        for part in (self._title, self._before, self._changes, self._checks):
            part.setSpacing(4)
        self.show_find = button(words.SHOW_MENDED, "showMended", role="main")
        self.by_hand = button(words.BY_HAND, "byHand", role="link")
        self.places = button(words.OTHER_PLACES, "otherPlaces", role="link")
        self.colours = button(words.OTHER_COLOURS, "otherColours", role="link")
        self.undo = button(words.UNDO_CHOICE, "undoChoice", role="link")
        self.told = label("", "muted", "placesTold", wrap=True)
        self._checked = label(words.CHECKED, "sub")
        inside = QWidget()
        inside.setObjectName("inside")
        outer = column(inside, (16, 16, 16, 16))
        self._head = label(words.WHAT_CHANGED, "sub")
        fill(outer, self._title, 4, self._head, self._changes, 4,
             line(self.show_find, None), line(self.places, None),
             line(self.colours, self.undo, None), self.told,
             line(self.by_hand, None), 4,
             label(words.AS_IT_WAS, "sub"), self._before, 4,
             self._checked, self._checks, None)
        self.setWidget(inside)

    def show_pair(self, pair: Pair, why_not: str = "") -> None:
        """`why_not`: a sentence of what became of mending it, where it was not mended."""
        for part in (self._title, self._before, self._changes, self._checks):
            clear(part)
        was = pair.before.row
        for shown in (self._head, self._checked, self.show_find):
            shown.setVisible(pair.after is not None)
        # A piece that has no place at all is left out, and may be given one.
        codes = {c.code for c in pair.after.changes} if pair.after is not None else set()
        self.places.setVisible(bool(codes & {"rows-placed", "data-left-out", "placed-by-hand"}))
        self.colours.setVisible(bool(codes & {"rows-placed", "scans-joined", "colour-by-hand"}))
        self.by_hand.setVisible(not isinstance(pair.before.content, ShelfObject))
        self._before.addWidget(label(
            check_words.grade_line(was.grade, was.share, pair.before.checks, was.kind), wrap=True))
        untouched = words.AS_IT_IS if pair.after is None else words.UNTOUCHED_MENDED
        self._before.addWidget(label(untouched.format(size=units.size(was.size)), "muted",
                                     wrap=True))
        if pair.after is None:
            self._show_damaged(pair.before, why_not)
        else:
            self._show_mended(pair.after)

    def _show_damaged(self, record: FindRecord, why_not: str) -> None:
        row = record.row
        title = label(find_words.title(row), "title", "mendedTitle", wrap=True)
        self._title.addLayout(line(title, None, Stitch(row.grade, row.share), spacing=8))
        self._title.addWidget(label(why_not or words.NOT_YET_MENDED, "" if why_not else "muted",
                                    "mendedGrade", wrap=True))

    def _show_mended(self, after: FindRecord) -> None:
        row = after.row
        title = label(find_words.title(row), "title", "mendedTitle", wrap=True)
        self._title.addLayout(line(title, None, Stitch(row.grade, row.share), spacing=8))
        self._title.addWidget(label(words.mended_line(row, after.checks), "muted", "mendedGrade",
                                    wrap=True))
        for change in after.changes:
            told = change_words.change(change)
            self._changes.addWidget(label(f"·  {told[:1].upper()}{told[1:]}.", wrap=True))
            left = str(change.values.get("change")) if change.code == "left-out" else ""
            if change.code in OPTIONAL or left in OPTIONAL:
                self._changes.addLayout(line(8, button(
                    words.MAKE_AFTER_ALL if left else words.LEAVE_OUT,
                    f"leave-{left or change.code}",
                    partial(self.leave.emit, left or change.code, not left), "link"), None))
        for check in after.checks:
            if check.outcome not in ("not applicable",):
                self._checks.addWidget(label(
                    f"·  {check.name}: {check_words.reason(check)}", wrap=True))
