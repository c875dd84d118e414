"""What a phone offers, before anything of it is fetched: a choice of what is brought."""

from __future__ import annotations

from functools import partial
from operator import attrgetter
from pathlib import Path

from PySide6.QtCore import (
    QItemSelection,
    QItemSelectionModel,
    QRect,
    QSize,
    Qt,
    QTimer,
    Signal,
)
from PySide6.QtGui import QFontMetrics, QPainter, QResizeEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QButtonGroup,
    QDialog,
    QHeaderView,
    QLineEdit,
    QPushButton,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTableView,
    QWidget,
)

from needlewright.app.looking import Listings, LookWork
from needlewright.app.theme.look import look
from needlewright.app.viewmodels.inside import FOLDER, NAME, PICTURE, InsideModel, Looked
from needlewright.app.viewmodels.listed import Index
from needlewright.app.widgets.activity_line import Gauge
from needlewright.app.widgets.flow import flow
from needlewright.app.widgets.inside_rows import InsideRows
from needlewright.app.widgets.pictures import draw_fitted
from needlewright.app.widgets.small import button, column, fill, label, line
from needlewright.core.search.days import days_of
from needlewright.core.search.shelf_names import Inside
from needlewright.core.search.shelf_rows import holds_rows
from needlewright.core.sources.registry import short_name
from needlewright.wording import finds as find_words
from needlewright.wording import inside as words
from needlewright.wording import phones as phone_words
from needlewright.wording import window as window_words

WIDTHS = {0: 76, 1: 176, 2: 206, 3: 100, 4: 90}  # of columns; the folder takes the rest
HIGH = 52  # pixels of a row
NARROW = 700
SOON_MS = 150


class _Small(QStyledItemDelegate):
    """Paints the small picture of a row."""

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        super().paint(painter, option, index)
        model = index.model()
        assert isinstance(model, InsideModel)
        if option.state & QStyle.StateFlag.State_Selected:  # type: ignore[attr-defined]
            whole: QRect = option.rect  # type: ignore[attr-defined]
            painter.fillRect(whole.x(), whole.y(), look.px(3), whole.height(),
                             look.colour("thread"))
        if not model.has_picture(index.row()):
            return
        box: QRect = option.rect.adjusted(6, 3, -2, -3)  # type: ignore[attr-defined]
        painter.fillRect(box, look.colour("pictures"))
        picture = model.picture(index.row())
        if picture is not None:
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
            draw_fitted(painter, picture, box.x(), box.y(), box.width(), box.height())


def _make_room(switch: QPushButton) -> None:
    """Chosen ones are bold, and wider."""
    switch.setMinimumWidth(
        QFontMetrics(look.font(13, True)).horizontalAdvance(switch.text()) + look.px(8))


class InsideDialog(QDialog):
    """Looks into the phone at `spec` while it is open. `wanted`: the keys of what was chosen, none
    at all where everything is wanted; told when the phone is free for whoever brings it."""

    wanted = Signal(object)

    def __init__(self, listings: Listings, spec: str, parent: QWidget | None = None,
                 job: Path | None = None) -> None:
        """`job`: the folder of the open one, for which it is judged."""
        super().__init__(parent)
        self.setObjectName("insideDialog")
        name = short_name(spec)
        self.setWindowTitle(words.HEAD.format(name=name))
        self._keys: frozenset[str] = frozenset()
        self._name, self._kind = name, ""
        self._listings, self._accepted = listings, False
        self.work: LookWork | None = listings.look(spec, self._ended, job)
        self.model = InsideModel(self._want)
        outer = column(self, (20, 16, 20, 16))
        self.told = label(words.ASKING.format(name=name), "muted", "insideTold", wrap=True)
        self.gauge = Gauge(160)
        self.filter = QLineEdit()
        self.filter.setObjectName("insideFilter")
        self.filter.setPlaceholderText(words.FILTER)
        self.filter.setClearButtonEnabled(True)
        self.filter.setMinimumWidth(look.px(180))
        self.days = QLineEdit()
        self.days.setObjectName("insideDays")
        self.days.setPlaceholderText(words.DAYS)
        self.days.setClearButtonEnabled(True)
        self.days.setMinimumWidth(look.px(230))
        self._soon = QTimer(self, singleShot=True, interval=SOON_MS)
        self._soon.timeout.connect(self._narrow)
        for typed in (self.filter, self.days):
            typed.textChanged.connect(lambda _: self._soon.start())
        self.removed = button(words.ONLY_REMOVED, "insideRemoved", self._narrow, "link")
        self.removed.setCheckable(True)
        _make_room(self.removed)
        self.kinds = flow(*self._kind_buttons(), self.removed, self.filter, self.days)
        self.table = self._made_table()
        self.count = label("", "muted", "insideCount", wrap=True)
        self.read = button(words.READ_ROWS, "insideReadRows", self._read_rows)
        self.read.hide()
        self.rows_view: InsideRows | None = None
        self.bring = button(words.bring((), 0), "insideBring", self._accept, "main")
        self.bring.setEnabled(False)
        fill(outer, label(words.HEAD.format(name=name), "head"),
             label(words.HINT, "muted", wrap=True), 2, line(self.kinds), 2)
        outer.addWidget(self.table, 1)
        fill(outer, line(self.told, self.gauge), self.count,
             line(self.read, None, button(words.CLOSE, "insideClose", self.reject), self.bring,
                  spacing=8))
        for made in self.findChildren(QPushButton):
            made.setAutoDefault(False)  # Enter in the line for names must bring nothing
        self.resize(look.px(960), look.px(620))
        if self.work is None:
            self.told.setText(words.BUSY)
            self.gauge.hide()
            return
        self.work.told.connect(self._told)
        self.work.came.connect(self._came)
        self.work.picture.connect(self.model.show_picture)
        self.work.failed.connect(self._failed)
        self.work.start()

    def _kind_buttons(self) -> list[QWidget]:
        self._group = QButtonGroup(self)
        made: list[QWidget] = []
        for kind, word in (("", words.ALL_KINDS), *find_words.KINDS.items()):
            chosen = button(word, f"insideKind-{kind or 'all'}", partial(self._choose, kind),
                            "link")
            chosen.setCheckable(True)
            chosen.setChecked(not kind)
            chosen.setProperty("kind", kind)
            chosen.setVisible(not kind)
            _make_room(chosen)
            self._group.addButton(chosen)
            made.append(chosen)
        return made

    def _made_table(self) -> QTableView:
        table = QTableView(self)
        table.setObjectName("insideTable")
        table.setModel(self.model)
        table.setItemDelegateForColumn(PICTURE, _Small(table))
        table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        table.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        table.setVerticalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        table.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        table.setShowGrid(False)
        table.setWordWrap(False)
        table.setIconSize(QSize(look.px(HIGH), look.px(HIGH)))
        table.verticalHeader().hide()
        table.verticalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        table.verticalHeader().setDefaultSectionSize(look.px(HIGH))
        header = table.horizontalHeader()
        header.setHighlightSections(False)
        header.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        header.setSectionResizeMode(FOLDER, QHeaderView.ResizeMode.Stretch)
        header.setSectionsClickable(True)
        header.setSortIndicatorShown(False)
        header.sectionClicked.connect(self._sort)
        for index, width in WIDTHS.items():
            table.setColumnWidth(index, look.px(width))
        table.doubleClicked.connect(lambda _: self._read_rows())
        table.selectionModel().selectionChanged.connect(lambda *_: self._count())
        table.verticalScrollBar().valueChanged.connect(lambda _: self.model.forget_unseen())
        return table

    def resizeEvent(self, event: QResizeEvent) -> None:
        self.table.setColumnHidden(FOLDER, self.width() < look.px(NARROW))
        super().resizeEvent(event)

    # what comes

    def _want(self, one: Inside) -> None:
        if self.work is not None:
            self.work.want(one)

    def _told(self, done: int, offered: int) -> None:
        self.told.setText(words.listing_line(self._name, (done, offered)))
        self.gauge.show_part(done / max(1, offered))

    def _came(self, came: Looked) -> None:
        if not came.more:
            self.gauge.hide()
            self.told.setText(f"{phone_words.listed_line(came.missing)} {came.judged}".strip())
        there = set(map(attrgetter("kind"), came.every))
        for made in self._group.buttons():
            made.setVisible(made.property("kind") in ("", *map(str, there)))
        self.removed.setVisible(any(one.removed for one in came.every))
        self.read.setVisible(any(map(holds_rows, came.every)))
        self.model.take(came)
        self._count()

    def _failed(self, sentence: str) -> None:
        self.work = None  # what was listed stays on show, and may be brought when it is back
        self.gauge.hide()
        self.told.setText(sentence)
        if self._accepted:
            self._ended()

    # what is chosen

    def _choose(self, kind: str) -> None:
        self._kind = kind
        self._narrow()

    def _narrow(self) -> None:
        self._soon.stop()
        try:
            days = days_of(self.days.text())
        except ValueError:
            self.count.setText(window_words.SEARCH_DAYS_WRONG.format(text=self.days.text()))
            return
        self.model.narrow(self._kind, self.removed.isChecked(), self.filter.text().strip(), days)
        self._count()

    def _sort(self, section: int) -> None:
        header = self.table.horizontalHeader()
        down = Qt.SortOrder.DescendingOrder
        order = Qt.SortOrder.AscendingOrder if header.isSortIndicatorShown() and (
            header.sortIndicatorSection() == section
            and header.sortIndicatorOrder() == down) else down
        if section == PICTURE:
            return
        header.setSortIndicatorShown(True)
        header.setSortIndicator(section, order)
        self.model.sort(section, order)
        self._count()

    def _chosen(self) -> list[Inside]:
        found: list[Inside] = []
        for part in self.table.selectionModel().selection().toList():
            if part.left() <= NAME <= part.right():  # whole rows are chosen, but in any order
                found += self.model.shown[part.top() : part.bottom() + 1]
        return found

    def _count(self) -> None:
        chosen, shown = self._chosen(), self.model.shown
        if self.model.every:
            self.count.setText(words.summary(shown) if shown else words.EMPTY)
        self.bring.setText(words.bring(chosen, len(shown)))
        self.bring.setEnabled(bool(shown) and self.gauge.isHidden())
        self.read.setEnabled(self._readable(chosen) is not None)

    # rows

    def _readable(self, chosen: list[Inside]) -> Inside | None:
        """The one database that is chosen, if it can be read."""
        one = chosen[0] if len(chosen) == 1 else None
        fits = one is not None and holds_rows(one) and self.gauge.isHidden()
        return one if fits and self.work is not None else None

    def _read_rows(self) -> None:
        one = self._readable(self._chosen())
        if one is None or self.work is None:
            return
        if self.rows_view is not None:
            self.rows_view.deleteLater()
        self.rows_view = InsideRows(self.work, one, self)
        self.rows_view.chosen.connect(self._choose_files)
        self.rows_view.open()

    def _choose_files(self, keys: frozenset[str]) -> None:
        """Choose these of all that is offered."""
        for made in self._group.buttons():
            made.setChecked(not made.property("kind"))
        self.removed.setChecked(False)
        self.filter.clear()
        self.days.clear()
        self._choose("")
        chosen = QItemSelection()
        for number, one in enumerate(self.model.shown):
            if one.offered.entry.key in keys:
                index = self.model.index(number, NAME)
                chosen.select(index, index)
        how = QItemSelectionModel.SelectionFlag
        self.table.selectionModel().select(chosen, how.ClearAndSelect | how.Rows)
        first = chosen.toList()[:1]
        if first:
            self.table.scrollTo(self.model.index(first[0].top(), NAME))

    # the end

    def _accept(self) -> None:
        chosen = self._chosen() or self.model.shown
        if len(chosen) < len(self.model.every):
            self._keys = frozenset(one.offered.entry.key for one in chosen)
        self._accepted = True
        self.accept()
        if self.work is None:
            self._ended()

    def done(self, result: int) -> None:
        if self.work is not None:
            self.work.finish()
            if self.gauge.isVisible():
                self.work.stop()  # it is still being listed
        super().done(result)

    def _ended(self) -> None:
        """The phone is free for whoever comes next."""
        self.work = None
        if self._accepted:
            self._accepted = False
            self.wanted.emit(self._keys)
