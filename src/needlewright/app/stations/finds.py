"""Finds: the contact sheet that fills while the search runs, narrowed and ordered at will."""

from __future__ import annotations

from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QFontMetrics, QPainter, QPaintEvent
from PySide6.QtWidgets import (
    QButtonGroup,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from needlewright.app.courtesy import at_work
from needlewright.app.rows_read import RowsRead
from needlewright.app.session import Session
from needlewright.app.theme.look import look
from needlewright.app.viewmodels.sheet import Sheet
from needlewright.app.widgets.clip_strip import damaged_seconds
from needlewright.app.widgets.contact_sheet import ContactSheet, empty_text
from needlewright.app.widgets.dossier import WIDTH, Dossier
from needlewright.app.widgets.flow import flow
from needlewright.app.widgets.full_view import SIDE, FullView
from needlewright.app.widgets.pictures import Thumbnails
from needlewright.app.widgets.small import button, column, label, line
from needlewright.app.widgets.stitch import draw_stitch
from needlewright.core.checks.decoding import DecodeReport
from needlewright.core.jobfile.rows import Filter
from needlewright.wording import checks as check_words
from needlewright.wording import finds as find_words
from needlewright.wording import rows as row_words
from needlewright.wording import window as words

ROW_HEIGHTS = (64, 84, 108, 140, 180, 232)
TYPING_MS = 150
EMPTY, SHEET, FULL = range(3)


class GradeButton(QPushButton):
    """A grade as a switch: its stitch and its word."""

    def __init__(self, grade: str) -> None:
        super().__init__("")
        self.grade = grade
        self.setObjectName(f"grade-{grade}")
        self.setCheckable(True)
        self.setProperty("role", "link")
        self.setToolTip(check_words.GRADE_MEANINGS[grade])
        self.setAccessibleName(grade)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        look.changed.connect(self._fit)
        self._fit()

    def _fit(self) -> None:
        wide = QFontMetrics(look.font(13, True)).horizontalAdvance(check_words.GRADES[self.grade])
        self.setFixedSize(38 + wide + 12, look.px(26))

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        draw_stitch(painter, 4, self.height() / 2, self.grade, 0.66, 28)
        painter.setFont(look.font(13, self.isChecked()))
        painter.setPen(look.colour("ink" if self.isChecked() else "thread"))
        painter.drawText(self.rect().adjusted(38, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter,
                         check_words.GRADES[self.grade])
        if self.hasFocus():
            painter.fillRect(0, self.height() - 2, self.width() - 8, 2, look.colour("thread"))
        painter.end()


class Finds(QWidget):
    """Sheet or full view in the middle, the dossier on the right."""

    def __init__(self, session: Session, thumbnails: Thumbnails) -> None:
        super().__init__()
        self.setObjectName("station")
        self._session, self._thumbnails = session, thumbnails
        self._size = 2
        self._total = self._shown = 0
        self.sheet = ContactSheet(thumbnails, session.choice.rows)
        self.full = FullView()
        self._large: int | None = None  # the find that was asked for large
        self.empty_box = QVBoxLayout()
        empty = QWidget()
        empty.setLayout(self.empty_box)
        self.stack = QStackedWidget()
        for widget in (empty, self.sheet, self.full):
            self.stack.addWidget(widget)
        self._typing = QTimer(self, singleShot=True, interval=TYPING_MS)
        self._typing.timeout.connect(self._ask)
        left = column(margins=(0, 0, 0, 0), spacing=0)
        left.addWidget(self._narrowing())
        left.addWidget(self.stack, 1)
        self.dossier = Dossier(session, thumbnails)
        self.dossier.setFixedWidth(look.px(WIDTH))
        panel = QWidget()
        panel.setObjectName("dossier")
        panel.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        inside = QHBoxLayout(panel)
        inside.setContentsMargins(1, 0, 0, 0)
        inside.addWidget(self.dossier)
        whole = QHBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(0)
        whole.addLayout(left, 1)
        whole.addWidget(panel)
        self._connect()
        self._show_sheet(self.sheet.sheet)

    def _connect(self) -> None:
        session, sheet, full = self._session, self.sheet, self.full
        session.finds.answered.connect(self._show_sheet)
        session.choice.selected.connect(sheet.select)
        session.choice.shown_changed.connect(self._shown_came)
        session.job_changed.connect(self.job_changed)
        session.search_changed.connect(self._refresh_empty)
        session.finds_changed.connect(self._count)
        session.shelves.comparisons.changed.connect(self._comparing)
        session.pictures.ready.connect(self._picture_came)
        session.pictures.rows_ready.connect(self._rows_came)
        self.full.moment_wanted.connect(self._show_moment)
        sheet.chosen.connect(session.choice.select)
        sheet.opened.connect(self.open_full)
        sheet.tray_wanted.connect(session.choice.toggle_tray)
        sheet.resized.connect(lambda width: session.finds.ask(view_width=width))
        sheet.bigger.connect(self.resize_pictures)
        full.closed.connect(self.close_full)
        full.moved.connect(self._move_full)
        full.tray_wanted.connect(self._toggle_shown)

    def _narrowing(self) -> QWidget:
        bar = QWidget()
        rows = column(bar, (16, 8, 16, 6), 4)
        self.text = QLineEdit()
        self.text.setObjectName("narrow")
        self.text.setPlaceholderText(words.FINDS_NARROW)
        self.text.setClearButtonEnabled(True)
        self.text.setMinimumWidth(look.px(220))
        self.text.textChanged.connect(lambda _: self._typing.start())
        self.count = label("", "muted", "findsCount")
        self.orders = QButtonGroup(self)
        orders: list[QWidget] = []
        bold = QFontMetrics(look.font(13, True))
        for name, text in words.FINDS_ORDERS.items():
            choice = button(text, f"order-{name}", self._ask, "link")
            choice.setCheckable(True)
            choice.setChecked(name == "origin")
            choice.setMinimumWidth(bold.horizontalAdvance(text) + 8)  # bold where it is chosen
            self.orders.addButton(choice)
            orders.append(choice)
        self.grades = {grade: GradeButton(grade) for grade in (
            "whole", "unproven", "partial", "remnant", "gone")}
        for grade_button in self.grades.values():
            grade_button.clicked.connect(lambda *_: self._ask())
        self.kinds: dict[str, QPushButton] = {}
        for name, text in find_words.KINDS.items():
            chosen = button(text, f"only-{name}", self._ask, "link")
            chosen.setCheckable(True)
            chosen.hide()  # until there are any
            self.kinds[name] = chosen
        self.removed = button(words.FINDS_REMOVED, "removedFinds", self._ask, "link")
        self.removed.setCheckable(True)
        self.missing = button(words.FINDS_MISSING, "missingFinds", self.show_missing, "link")
        self.missing.setCheckable(True)
        self.missing.setToolTip(words.FINDS_MISSING_TIP)
        smaller = button(words.FINDS_SMALLER, "smaller", lambda: self.resize_pictures(-1), "link")
        larger = button(words.FINDS_LARGER, "larger", lambda: self.resize_pictures(1), "link")
        self.text.setMinimumWidth(look.px(300))
        rows.addWidget(flow(self.text, self.count, *orders))
        rows.addWidget(flow(*self.grades.values(), self.removed, self.missing,
                            *self.kinds.values(), label(words.FINDS_SIZE, "muted"), smaller,
                            larger, spacing=8))
        return bar

    # asking

    def wanted(self) -> Filter:
        return Filter(
            grades=frozenset(g for g, b in self.grades.items() if b.isChecked()),
            kinds=frozenset(k for k, b in self.kinds.items() if b.isChecked()),
            text=self.text.text().strip(), removed=True if self.removed.isChecked() else None,
            missing_only=self.missing.isChecked())

    def show_missing(self) -> None:
        """Only what the job has nowhere else: the sources are compared first."""
        if self.missing.isChecked():
            self._session.shelves.compare()  # what is known from before is shown until then
        self._ask()

    def toggle_missing(self) -> None:
        self.missing.click()

    def _comparing(self) -> None:
        comparisons = self._session.shelves.comparisons
        self.missing.setText(words.comparing(comparisons.told) if comparisons.busy
                             else words.FINDS_MISSING)

    def _ask(self) -> None:
        chosen = self.orders.checkedButton()
        order = chosen.objectName().removeprefix("order-") if chosen else "origin"
        self._session.finds.ask(wanted=self.wanted(), order=order)

    def clear_narrowing(self) -> None:
        self.text.clear()
        for choice in (*self.grades.values(), *self.kinds.values(), self.removed, self.missing):
            choice.setChecked(False)
        self._ask()

    def resize_pictures(self, step: int) -> None:
        self._size = max(0, min(len(ROW_HEIGHTS) - 1, self._size + step))
        self._session.finds.ask(row_height=ROW_HEIGHTS[self._size])

    # showing

    @at_work
    def _show_sheet(self, sheet: Sheet) -> None:
        self._shown = int(sheet.ids.size)
        self._session.choice.rows.renew()
        self.sheet.show_sheet(sheet, self._session.choice.selection)
        if self.stack.currentIndex() != FULL:
            self.stack.setCurrentIndex(SHEET if self._shown else EMPTY)
        self._count()
        self._refresh_empty()

    def _count(self) -> None:
        board = self._session.board
        self._total = board.finds
        there = {t.kind for t in board.tally}
        for kind, chosen in self.kinds.items():
            chosen.setVisible((kind in there and len(there) > 1) or chosen.isChecked())
        self.count.setText(words.shown_of(self._shown, max(self._total, self._shown)))

    def _refresh_empty(self) -> None:
        if self.stack.currentIndex() == EMPTY:
            from needlewright.app.widgets.small import clear

            clear(self.empty_box)
            self.empty_box.addWidget(self._empty())

    def _empty(self) -> QWidget:
        if self._total:
            widget = empty_text(words.FINDS_NARROWED, words.FINDS_NARROWED_TEXT)
            act, text = self.clear_narrowing, words.FINDS_CLEAR
        else:
            done = self._session.ending in ("done", "narrowed")
            text = words.FINDS_NONE_DONE if done else words.FINDS_NONE_TEXT
            widget = empty_text(words.FINDS_NONE, text)
            act, text = (lambda: self._session.go_to.emit(1)), words.FINDS_TO_SEARCH
        inside = widget.layout()
        assert isinstance(inside, QVBoxLayout)
        inside.insertLayout(2, line(None, button(text, "emptyAct", act, "link"), None))
        return widget

    def job_changed(self) -> None:
        self._thumbnails.open(self._session.board.folder)
        if self.stack.currentIndex() == FULL:
            self.stack.setCurrentIndex(SHEET)

    # full view

    def open_full(self, number: int) -> None:
        self._large = None
        self.stack.setCurrentIndex(FULL)
        self.full.setFocus()
        self._session.choice.select(number)
        self._show_full()

    def _toggle_shown(self) -> None:
        if self._session.choice.selection is not None:
            self._session.choice.toggle_tray([self._session.choice.selection])

    def _shown_came(self, _: object) -> None:
        if self.stack.currentIndex() == FULL:
            self._show_full()

    def _show_full(self) -> None:
        """Show the selected find large: its thumbnail, then what is read of it, then decoded."""
        shown, number = self._session.choice.shown, self._session.choice.selection
        if number is None:
            return
        if shown is None or shown.record.row.id != number:
            self.full.show_coming(self._thumbnails.get(number))
            return
        record, row = shown.record, shown.record.row
        line_text = check_words.grade_line(row.grade, row.share, record.checks, row.kind)
        self.full.show_find(row, line_text, self._thumbnails.get(number))
        if row.has_strip:
            self.full.show_clip(self._session.strip(number), [
                d for c in record.checks for d in damaged_seconds(dict(c.values))])
        if self._large != number and shown.source is not None:
            self._large = number
            self._session.pictures.show(record, shown.source.path, SIDE,
                                        folder=self._session.board.folder)

    def _show_moment(self, seconds: float) -> None:
        shown = self._session.choice.shown
        if shown is not None and shown.source is not None:
            self._session.pictures.show(shown.record, shown.source.path, SIDE, seconds,
                                        self._session.board.folder)

    def _picture_came(self, number: int, report: DecodeReport) -> None:
        if self.full.row is not None and self.full.row.id == number:
            self.full.show_picture(report.thumbnail, check_words.why_not_decoded(
                report.error, report.text))

    def _rows_came(self, number: int, read: RowsRead) -> None:
        if self.full.row is not None and self.full.row.id == number:
            self.full.show_rows(read.rows, row_words.summary(read.counts, len(read.rows)))

    def close_full(self) -> None:
        self.stack.setCurrentIndex(SHEET if self._shown else EMPTY)
        self.sheet.setFocus()

    def _move_full(self, key: int) -> None:
        step = {Qt.Key.Key_Up: Qt.Key.Key_Left, Qt.Key.Key_Down: Qt.Key.Key_Right}
        self.sheet.move_selection(step.get(Qt.Key(key), key))
        self._show_full()

