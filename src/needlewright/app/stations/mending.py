"""Mending: what waits, and the bench where its pieces are joined by hand."""

from __future__ import annotations

from bisect import bisect_right
from functools import partial

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeySequence, QPixmap, QShortcut, QShowEvent
from PySide6.QtWidgets import QHBoxLayout, QStackedWidget, QVBoxLayout, QWidget

from needlewright.app.joining import AS_FOUND, AS_IT_STANDS
from needlewright.app.mends import Pair, pair_of
from needlewright.app.session import Session
from needlewright.app.theme.look import look
from needlewright.app.viewmodels.board import Waiting, waiting_of
from needlewright.app.widgets.bench_panel import BenchPanel, panel_width
from needlewright.app.widgets.compare_view import CompareView
from needlewright.app.widgets.mended_panel import MendedPanel
from needlewright.app.widgets.offer_cards import OfferCards
from needlewright.app.widgets.seam_view import SeamView
from needlewright.app.widgets.small import button, column, fill, label, line
from needlewright.app.widgets.thread_bars import ThreadBars
from needlewright.app.widgets.waiting_list import WaitingList
from needlewright.core.jobs.mending import MendedFind
from needlewright.core.stitching.hand import OFFERED
from needlewright.wording import changes as change_words
from needlewright.wording import errors, units
from needlewright.wording import mending as words

LIST_WIDTH = 240
EMPTY, BENCH, MENDED = 0, 1, 2


class Mending(QWidget):
    """The list on the left, the bench in the middle, what can be done on the right."""

    show_find = Signal(int)
    thread_shown = Signal(int, object)  # source, pieces (byte, length)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName("station")
        self._session, self.joining = session, session.joining
        self._current, self._as_found = 0, False
        self._pixmaps: dict[int, QPixmap] = {}
        self.list = WaitingList(session.choice.rows)
        self.seam, self.cards, self.bars = SeamView(), OfferCards(), ThreadBars()
        self.next_text = label("", "muted", "nextText", wrap=True)
        self.panel = BenchPanel(self.joining)
        self.mends = session.mends
        self.compare, self.mended, self.places = CompareView(), MendedPanel(), OfferCards()
        self.mend = button(words.MEND, "mend", self.mend_this)
        self.mend_all = button(words.MEND_ALL, "mendAll", self.mend_every, "link")
        self.told = label("", "muted", "mendTold", wrap=True)
        self._asked = False  # for places of a piece
        self._by_hand = False  # the bench is wanted although there is a mended version
        self._frame = QWidget()
        self.stack = QStackedWidget()
        self.empty_text = label(words.NONE, "muted", "mendingNone", wrap=True)
        self._lay_out()
        self._connect()
        self._shortcuts()

    def _lay_out(self) -> None:
        left = column(margins=(20, 14, 6, 8))
        fill(left, label(words.WAITING, "head"))
        left.addWidget(self.list, 1)
        fill(left, self.told, line(self.mend, self.mend_all, None, spacing=10))
        side = QWidget()
        side.setLayout(left)
        side.setFixedWidth(look.px(LIST_WIDTH) + 20)
        bench = QWidget()
        middle = column(bench, (8, 16, 14, 8), 6)
        middle.addWidget(self.seam, 1)
        self.next_head = label(words.NEXT, "sub")
        above = line(self.next_head, self.next_text)
        above.setStretch(1, 1)
        middle.addLayout(above)
        fill(middle, self.cards, self.bars)
        empty = QWidget()
        fill(column(empty, (24, 20, 24, 20)), self.empty_text,
             label(words.NONE_TEXT, "muted", wrap=True), None)
        self.stack.addWidget(empty)
        self.stack.addWidget(bench)
        compared = QWidget()
        beside = column(compared, (0, 0, 0, 8), 6)
        beside.addWidget(self.compare, 1)
        beside.addWidget(self.places)
        self.stack.addWidget(compared)
        panel = QWidget()
        panel.setObjectName("dossier")
        panel.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        panel.setFixedWidth(panel_width() + 1)
        inside = QVBoxLayout(panel)
        inside.setContentsMargins(1, 0, 0, 0)
        inside.addWidget(self.panel)
        inside.addWidget(self.mended)
        whole = QHBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(0)
        whole.addWidget(side)
        whole.addWidget(self.stack, 1)
        whole.addWidget(panel)
        self._side, self._panel = side, panel
        look.changed.connect(self._resized)

    def _resized(self) -> None:
        self._side.setFixedWidth(look.px(LIST_WIDTH) + 20)
        self._panel.setFixedWidth(panel_width() + 1)

    def _connect(self) -> None:
        session, joining, panel = self._session, self.joining, self.panel
        for signal in (session.finds_changed, session.job_changed):
            signal.connect(self.refresh)
        joining.changed.connect(self._changed)
        joining.pictured.connect(self._pictured)
        joining.kept.connect(self._kept)
        self.list.picked.connect(self.work_on)
        self.list.activated.connect(lambda _: self.cards.setFocus())
        self.list.doubleClicked.connect(lambda index: self.show_find.emit(
            self.list.waiting.ids[index.row()]))
        self.cards.chosen.connect(self.choose)
        self.cards.taken.connect(self.join)
        self.seam.cut_wanted.connect(self._cut_at)
        self.mends.changed.connect(self._mending_changed)
        self.mends.came.connect(self._mended_came)
        self.mends.pictured.connect(self._show_pair)
        self.mends.offered.connect(self._show_places)
        self.mended.leave.connect(self.mends.leave_out)
        self.mended.places.clicked.connect(partial(_do, partial(self.mends.look_for, False)))
        self.mended.colours.clicked.connect(partial(_do, partial(self.mends.look_for, True)))
        self.mended.undo.clicked.connect(partial(_do, self.mends.undo))
        self.places.chosen.connect(self.mends.take)
        self.compare.rest_moved.connect(self._rest_moved)
        self.mended.show_find.clicked.connect(self._show_mended)
        self.mended.by_hand.clicked.connect(self.toggle_hand)
        panel.place_wanted.connect(self._place_typed)
        for one, act in ((panel.join, self.join), (panel.go_on, self.go_on),
                         (panel.undo, joining.undo), (panel.redo, joining.redo),
                         (panel.keep, joining.keep), (panel.earlier, partial(self.cut_by, -1)),
                         (panel.later, partial(self.cut_by, 1)),
                         (panel.found, self.toggle_found)):
            one.clicked.connect(partial(_do, act))

    def _shortcuts(self) -> None:
        acts = {
            "J": self.panel.join.click, "G": self.panel.go_on.click,
            "Ctrl+Z": self._undo, "Ctrl+Shift+Z": self.panel.redo.click,
            "O": self.mended.places.click, "C": self.mended.colours.click,
            "M": self.mend.click, "Shift+M": self.mend_all.click, "H": self.toggle_hand,
            "K": self.panel.keep.click, "B": self.toggle_found,
            "[": partial(self.cut_by, -1), "]": partial(self.cut_by, 1),
            "Left": partial(self._step, -1), "Right": partial(self._step, 1),
            "Esc": self._leave,
        }
        acts.update({str(i + 1): partial(self._number, i) for i in range(OFFERED)})
        for keys, act in acts.items():
            shortcut = QShortcut(QKeySequence(keys), self)
            shortcut.setContext(Qt.ShortcutContext.WidgetWithChildrenShortcut)
            shortcut.activated.connect(act)

    # what waits

    def showEvent(self, event: QShowEvent) -> None:
        self.refresh()
        self.list.setFocus()
        self._tell_tape()

    def refresh(self) -> None:
        if not self.isVisible():
            return  # looked at only when it is looked at
        self._session.desk.ask("mending", waiting_of, self._show_waiting)
        if self._session.board.folder is None:
            self._show_waiting(Waiting())

    def _show_waiting(self, shown: Waiting) -> None:
        ids = shown.ids
        before = self.list.waiting.shown.treated
        self.list.show_waiting(shown, self.joining.number)
        if before != shown.treated:
            self._show()
        if self.joining.number is None or (self.joining.number not in ids
                                           and self.joining.kept_id is None):
            if ids:
                self.work_on(ids[0])
            else:
                self.joining.close()
                self._changed()

    def work_on(self, number: int) -> None:
        """Put a find on the bench."""
        folder = self._session.board.folder
        if folder is not None and number != self.joining.number:
            self._current, self._as_found = 0, False
            self._pixmaps.clear()
            self._by_hand = False
            self.told.setText("")
            self.joining.open(folder, number)
            self.list.choose(number)
            self._ask_pair(number)

    # mending

    def mend_this(self) -> None:
        """Mend the find that is chosen."""
        folder, number = self._session.board.folder, self.joining.number
        if folder is not None and number is not None:
            self.mends.begin(folder, [number])

    def mend_every(self) -> None:
        """Mend all that wait, one after another, while other work goes on."""
        folder = self._session.board.folder
        if folder is not None:
            self.mends.begin(folder, self.list.waiting.shown.left)

    def toggle_hand(self) -> None:
        """Between the pictures before and after, and the bench."""
        self._by_hand = not self._by_hand
        self._show()

    def _ask_pair(self, number: int) -> None:
        self.mends.pair = None
        self._session.desk.ask("pair", partial(pair_of, number=number), self._pair_came)

    def _pair_came(self, pair: Pair | None) -> None:
        folder = self._session.board.folder
        if folder is None or (pair is not None and pair.before.row.id != self.joining.number):
            return
        self.mends.show_pair(folder, pair)
        self.compare.look_anew()
        self._show()

    def _mending_changed(self) -> None:
        busy = self.mends.work is not None
        self.mend.setEnabled(not busy and self.joining.number is not None)
        self.mend_all.setEnabled(not busy and bool(self.list.waiting.shown.left))
        self.mend.setText(words.MENDING_NOW if busy else words.MEND)

    def _mended_came(self, done: MendedFind) -> None:
        if done.kept is None:
            why = errors.explain(done.error).rstrip(".") if done.error is not None else (
                change_words.why_not(done.why))
            self.told.setText(words.not_mended(done.name, why))
        elif done.find == self.joining.number:
            self.told.setText("")
            self._ask_pair(done.find)

    def _show_mended(self) -> None:
        if self.mends.pair is not None and self.mends.pair.after is not None:
            self.show_find.emit(self.mends.pair.after.row.id)

    def _show_pair(self) -> None:
        pair = self.mends.pair
        if pair is None:
            return
        pictures: list[QPixmap] = []
        for record in (pair.before, pair.after):
            pixmap = QPixmap()
            data = b"" if record is None else pair.pictures.get(record.row.id, b"")
            if data:
                pixmap.loadFromData(data)
            pictures.append(pixmap)
        waits = len(pair.pictures) < len(pair.numbers)
        nothing = all(p.isNull() for p in pictures)
        text = words.OPENING if waits else (
            words.NO_PICTURE if pair.after is None else words.NO_PICTURES)
        self.compare.show_pictures(pictures[0], pictures[1], text if nothing else "")

    def _show_places(self) -> None:
        """The places or colours that a piece may have, as small pictures of each."""
        offers, looking = self.mends.offers, self.mends.choosing is not None
        pictures = []
        for one in offers:
            pixmap = QPixmap()
            if one.picture:
                pixmap.loadFromData(one.picture)
            pictures.append(pixmap)
        texts = [words.offer_of_rest(one) for one in offers]
        self.places.show_offers(texts, pictures, self.mends.taken)
        self.places.setVisible(bool(offers))
        self.compare.allow_rest(self._rest())
        self.mended.told.setText(words.rest_line(
            self.mends.of_colours, looking, self._asked, bool(offers),
            self.compare.rest is not None))
        self.mended.told.setVisible(bool(self.mended.told.text()))
        self._asked = looking
        self.mended.undo.setVisible(self.mends.can_undo)

    def _rest(self) -> float | None:
        """The share of the rows from which on the picture may be dragged elsewhere; None where it
        may not, as where it is shown turned."""
        one, pair = self.mends.placed, self.mends.pair
        if one is None or pair is None or pair.after is None or self.mends.choosing is not None:
            return None
        row = pair.after.row
        upright = row.orientation in (None, 0, 1)
        return one.row / row.height if upright and row.height and all(one.unit) else None

    def _rest_moved(self, across: float, down: float) -> None:
        pair = self.mends.pair
        if pair is not None and pair.after is not None:
            row = pair.after.row
            self.mends.move_rest(round(across * (row.width or 0)), round(down * (row.height or 0)))

    # the bench

    @property
    def pictured(self) -> bool:
        """Whether every picture of what stands and of what is offered has come."""
        offers = self.joining.offers
        return offers is not None and all(
            i in self._pixmaps for i in range(AS_FOUND, len(offers.best)))

    def choose(self, index: int) -> None:
        """Look at one of the pieces that are offered."""
        offers = self.joining.offers
        if offers is not None and 0 <= index < len(offers.best):
            self._current = index
            self._as_found = False
            self._show()

    def _step(self, by: int) -> None:
        """The next offer, or the line between before and after a little on."""
        if self.stack.currentIndex() == MENDED:
            self.compare.move_line(by)
        else:
            self.choose(self._current + by)

    def _number(self, index: int) -> None:
        """An offer, or one of the places for a piece."""
        if self.stack.currentIndex() == MENDED:
            self.mends.take(index)
        else:
            self.choose(index)

    def _undo(self) -> None:
        if self.stack.currentIndex() == MENDED:
            self.mends.undo()
        else:
            self.panel.undo.click()

    def join(self) -> None:
        self.joining.take(self._current)

    def go_on(self) -> None:
        if self.joining.busy == "go-on":
            self.joining.look_again()
        else:
            self.joining.go_on()

    def cut_by(self, clusters: int) -> None:
        """Move the cut on by so many clusters."""
        standing = self.joining.standing
        if standing is not None and not self.joining.busy:
            self.joining.cut(len(standing.thread.clusters) + clusters)

    def _cut_at(self, share: float) -> None:
        """Cut where so much of the file is there."""
        standing = self.joining.standing
        if standing is None:
            return
        shares = standing.shares
        if shares and share > shares[-1]:
            each = max(1e-9, shares[-1] / len(shares))
            self.joining.cut(len(shares) + max(1, round((share - shares[-1]) / each)))
        else:
            self.joining.cut(max(standing.head, bisect_right(shares, share)))

    def _place_typed(self, text: str) -> None:
        source = self._session.source
        place = words.place_from(text, source.sector_size if source is not None else 512)
        if place is None:
            self.joining.note = words.PLACE_WRONG.format(text=text.strip())
            self._show()
        else:
            self.joining.take_at(place)

    def toggle_found(self) -> None:
        """Between what it is as found and what it would become."""
        self._as_found = not self._as_found
        self._show()

    def _leave(self) -> None:
        if self.joining.busy == "go-on":
            self.joining.look_again()
        else:
            self.list.setFocus()

    # showing

    def _changed(self) -> None:
        if self.joining.offers is None:
            self._current = 0
            self._pixmaps = {k: v for k, v in self._pixmaps.items() if k == AS_FOUND}
        self._show()
        self._tell_tape()

    def _pictured(self, of: int) -> None:
        pixmap = QPixmap()
        data = self.joining.pictures.get(of, b"")
        if data:
            pixmap.loadFromData(data)
        self._pixmaps[of] = pixmap
        self._show()

    def _show(self) -> None:
        joining = self.joining
        pair = self.mends.pair
        mended = pair is not None and joining.number is not None and not self._by_hand
        self.stack.setCurrentIndex(
            EMPTY if joining.number is None else MENDED if mended else BENCH)
        self._panel.setVisible(joining.number is not None)
        self.panel.setVisible(not mended)
        self.mended.setVisible(mended)
        self._mending_changed()
        if mended and pair is not None:
            treated = self.list.waiting.shown.treated.get(pair.before.row.id)
            self.mended.show_pair(pair, words.treated_line(*treated) if treated else "")
            self._show_pair()
            self._show_places()
            return
        if joining.number is None:
            return
        self.panel.show_bench(self._current, self._as_found)
        self.bars.show_standing(joining.standing)
        self._show_offers()
        self._show_seam()

    def _show_offers(self) -> None:
        offers = self.joining.offers
        best = offers.best if offers is not None else ()
        texts = [(f"at {units.place(self.joining.start_of(o))}", words.offer_line(o))
                 for o in best]
        self.cards.show_offers(texts, [self._pixmaps.get(i, QPixmap()) for i in range(len(best))],
                               self._current)
        standing = self.joining.standing
        for part in (self.next_head, self.next_text, self.cards):
            part.setVisible(standing is None or not standing.ended)
        if standing is None or standing.ended:
            self.next_text.setText("")
        elif offers is None:
            self.next_text.setText(words.LOOKING)
        else:
            self.next_text.setText(words.next_line(offers))

    def _show_seam(self) -> None:
        joining = self.joining
        standing, record = joining.standing, joining.record
        shown = AS_FOUND if self._as_found else self._current
        pixmap = self._pixmaps.get(shown)
        if pixmap is None or pixmap.isNull():
            pixmap = self._pixmaps.get(AS_IT_STANDS if not self._as_found else AS_FOUND, QPixmap())
        text = ""
        if pixmap.isNull():
            coming = standing is None and not joining.note
            text = words.OPENING if coming else joining.note or (
                words.NO_PICTURE if shown in self._pixmaps else "")
        self.seam.show_picture(pixmap, text)
        if standing is None or record is None or self._as_found:
            self.seam.show_seam(None, "", (), False)
            return
        height = record.row.height
        share = None if standing.ended else standing.share
        self.seam.show_seam(share, words.seam_label(standing, height), standing.seam_shares,
                            standing.by_rows, record.row.orientation)

    def _tell_tape(self) -> None:
        standing, record = self.joining.standing, self.joining.record
        if self.isVisible() and standing is not None and record is not None:
            self.thread_shown.emit(record.row.source, list(standing.pieces))

    def _kept(self, number: int) -> None:
        self._session.finds.refresh(soon=True)
        self._session.finds_rechecked.emit((number,))
        self._session.refresh_board()
        self._show()


def _do(act: object, *_: object) -> None:
    """For clicks, which tell whether a button is checked."""
    assert callable(act)
    act()
