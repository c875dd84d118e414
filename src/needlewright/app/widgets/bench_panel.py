"""Beside the bench: what is proposed and why, what can be done, what was done so far."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QLineEdit, QPushButton, QScrollArea, QVBoxLayout, QWidget

from needlewright.app.joining import Joining
from needlewright.app.theme.look import look
from needlewright.app.widgets.flow import flow
from needlewright.app.widgets.small import button, clear, column, fill, label, line, restyle
from needlewright.app.widgets.stitch import Stitch
from needlewright.core.jobfile.rows import FindRecord
from needlewright.wording import checks as check_words
from needlewright.wording import finds as find_words
from needlewright.wording import mending as words
from needlewright.wording import seams as seam_words
from needlewright.wording import units


class BenchPanel(QScrollArea):
    """Follows the bench; `place_wanted` is what was typed."""

    place_wanted = Signal(str)

    def __init__(self, joining: Joining) -> None:
        super().__init__()
        self.setObjectName("panel")
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._joining = joining
        self._title = QVBoxLayout()
        self._proposed, self._why, self._changed = QVBoxLayout(), QVBoxLayout(), QVBoxLayout()
        for part in (self._title, self._proposed, self._why, self._changed):
            part.setSpacing(4)
        self.join = button(words.JOIN, "join", role="main")
        self.go_on = button(words.GO_ON, "goOn")
        self.undo = button(words.UNDO, "undo")
        self.redo = button(words.REDO, "redo")
        self.keep = button(words.KEEP, "keep")
        self.earlier = button(words.EARLIER, "cutEarlier", role="link")
        self.later = button(words.LATER, "cutLater", role="link")
        self.found = button(words.FOUND_ON, "asFound", role="link")
        self.place = QLineEdit()
        self.place.setObjectName("place")
        self.place.setPlaceholderText(words.PLACE_HINT)
        self.place.setAccessibleName(words.PLACE)
        self.place.returnPressed.connect(lambda: self.place_wanted.emit(self.place.text()))
        inside = QWidget()
        inside.setObjectName("inside")
        outer = column(inside, (16, 16, 16, 16))
        fill(outer, self._title, 4, label(words.PROPOSED, "sub"), self._proposed,
             flow(self.join, self.go_on, spacing=8),
             flow(self.undo, self.redo, self.keep, spacing=8),
             flow(self.earlier, self.later, self.found, spacing=14), 4,
             label(words.WHY, "sub"), self._why, 4,
             label(words.PLACE, "sub"), self.place, 4,
             label(words.CHANGED, "sub"), self._changed, None)
        self.setWidget(inside)

    def buttons(self) -> list[QPushButton]:
        return [self.join, self.go_on, self.undo, self.redo, self.keep, self.earlier, self.later,
                self.found]

    def show_bench(self, current: int, as_found: bool) -> None:
        """Everything anew. `current`: the offer that is looked at."""
        bench = self._joining
        for part in (self._title, self._proposed, self._why, self._changed):
            clear(part)
        standing, record = bench.standing, bench.record
        if standing is None or record is None:
            self._text(self._proposed, [bench.note or words.OPENING])
            self._enable(False)
            return
        self._head(record)
        self._text(self._proposed, self._proposal(current))
        offers = bench.offers
        chosen = None if not offers or not offers.best else offers.best[
            min(current, len(offers.best) - 1)]
        self._reasons(chosen.reasons if chosen else (), record, chosen is not None)
        self._text(self._changed, words.changed(standing, standing.steps))
        if bench.kept_id is not None:
            self._text(self._changed, [words.KEPT + "."])
        self.join.setEnabled(chosen is not None and not bench.busy)
        going = bench.busy == "go-on"
        self.go_on.setText(words.STOP if going else words.GO_ON)
        self.go_on.setEnabled(going or (not standing.ended and not bench.busy))
        self.undo.setEnabled(standing.can_undo and not bench.busy)
        self.redo.setEnabled(standing.can_redo and not bench.busy)
        self.keep.setEnabled(bool(standing.thread.seams) and not bench.busy
                             and bench.kept_id is None)
        self.keep.setProperty("role", "main" if standing.ended and standing.thread.seams else "")
        self.join.setProperty("role", "" if standing.ended else "main")
        restyle(self.keep)
        restyle(self.join)
        self.earlier.setEnabled(not bench.busy)
        self.later.setEnabled(not bench.busy)
        self.place.setEnabled(not bench.busy)
        self.found.setEnabled(True)
        self.found.setText(words.FOUND_OFF if as_found else words.FOUND_ON)

    def _enable(self, on: bool) -> None:
        for one in (*self.buttons(), self.place):
            one.setEnabled(on)

    def _head(self, record: FindRecord) -> None:
        row = record.row
        title = label(find_words.title(row), "title", "benchTitle", wrap=True)
        self._title.addLayout(line(title, None, Stitch(row.grade, row.share), spacing=8))
        self._title.addWidget(label(
            check_words.grade_line(row.grade, row.share, record.checks, row.kind), "muted",
            wrap=True))

    def _proposal(self, current: int) -> list[str]:
        bench = self._joining
        standing, record, offers = bench.standing, bench.record, bench.offers
        assert standing is not None and record is not None
        told = [bench.note] if bench.note else []
        if bench.busy:
            return [*told, words.GOING_ON if bench.busy == "go-on" else words.KEEPING]
        if standing.ended:
            return [*told, *words.complete(standing)]
        if offers is None:
            return [*told, words.LOOKING]
        if not offers.best:
            return told or [words.NOTHING]
        offer = offers.best[min(current, len(offers.best) - 1)]
        return [*told, *words.proposed(offer, bench.start_of(offer), standing, record.row.height,
                                       standing.unit)]

    def _reasons(self, reasons: object, record: FindRecord, any_offer: bool) -> None:
        bench = self._joining
        standing = bench.standing
        assert standing is not None
        if any_offer:
            assert isinstance(reasons, tuple)
            self._text(self._why, [f"·  {seam_words.describe_reason(r)}" for r in reasons])
        elif standing.thread.seams:
            self._text(self._why, [
                f"·  {units.size(s.at)}: {seam_words.told(s)}" for s in standing.thread.seams[:9]])
        else:
            self._text(self._why, ["–"])

    def _text(self, part: QVBoxLayout, lines: list[str]) -> None:
        for text in lines:
            part.addWidget(label(text, wrap=True))


def panel_width() -> int:
    """Pixels that the panel takes, as the dossier does."""
    return look.px(350)
