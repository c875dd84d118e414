"""The activity line: what is running, how far, how fast, how long still; pause, stop, log."""

from __future__ import annotations

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QHBoxLayout, QWidget

from needlewright.app.session import Session
from needlewright.app.theme.look import look
from needlewright.app.widgets.small import button, fill, label
from needlewright.core.delivery.bag import Delivering
from needlewright.core.sources.registry import short_name
from needlewright.wording import activity as activity_words
from needlewright.wording import inside as inside_words
from needlewright.wording import mending as mending_words
from needlewright.wording import window as words


class Gauge(QWidget):
    """A thin line that fills; part 0.0 to 1.0."""

    def __init__(self, length: int = 120) -> None:
        super().__init__()
        self._length, self.part = length, 0.0
        self.setFixedSize(look.px(length), 10)

    def sizeHint(self) -> QSize:
        return QSize(look.px(self._length), 10)

    def show_part(self, part: float) -> None:
        self.part = max(0.0, min(1.0, part))
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        cap = Qt.PenCapStyle.RoundCap
        middle, last = self.height() // 2, self.width() - 3
        painter.setPen(QPen(look.colour("line"), 3, Qt.PenStyle.SolidLine, cap))
        painter.drawLine(3, middle, last, middle)
        if self.part > 0:
            painter.setPen(QPen(look.colour("thread"), 3, Qt.PenStyle.SolidLine, cap))
            painter.drawLine(3, middle, 3 + round((last - 3) * self.part), middle)
        painter.end()


class ActivityLine(QWidget):
    """One entry for the search and one for a delivery."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName("activity")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._session = session
        self.idle = label(words.IDLE, "muted", "idle")
        self.gauge, self.text = Gauge(), label("", "", "searchActivity")
        self.delivery_gauge, self.delivery_text = Gauge(), label("", "", "deliveryActivity")
        self.pause = button(words.SEARCH_PAUSE, "activityPause", self._pause, "link")
        self.stop = button(words.SEARCH_STOP, "activityStop", self._stop, "link")
        self.log = button(words.LOG, "activityLog", None, "link")
        self.keys = button(words.KEYS_LINK, "activityKeys", None, "link")
        inside = QHBoxLayout(self)
        inside.setContentsMargins(20, 0, 20, 0)
        inside.setSpacing(12)
        self.copy_gauge, self.copy_text = Gauge(), label("", "", "copyActivity")
        self.mending_gauge, self.mending_text = Gauge(), label("", "", "mendingActivity")
        self.listing_gauge, self.listing_text = Gauge(), label("", "", "listingActivity")
        fill(inside, self.idle, self.listing_gauge, self.listing_text, self.gauge, self.text,
             self.copy_gauge, self.copy_text,
             self.delivery_gauge, self.delivery_text, self.mending_gauge, self.mending_text, None,
             self.pause, self.stop, self.log,
             self.keys)
        session.search_changed.connect(self.refresh)
        session.delivery_changed.connect(self.refresh)
        session.job_changed.connect(self.refresh)
        session.copies.changed.connect(self.refresh)
        session.mends.changed.connect(self.refresh)
        session.listings.changed.connect(self.refresh)
        self.refresh()

    def sizeHint(self) -> QSize:
        return QSize(800, look.px(30))

    def _stop(self) -> None:
        if self._session.search is not None:
            self._session.stop_search()
        elif self._session.delivery is not None:
            self._session.stop_delivery()
        elif self._session.mends.work is not None:
            self._session.mends.stop()
        elif self._session.copies.work is None:
            self._session.listings.stop()
        else:
            self._session.copies.stop()

    def _pause(self) -> None:
        if self._session.search is not None:
            self._session.pause_search()
        else:
            self._session.copies.pause()

    def refresh(self) -> None:
        session = self._session
        search, progress = session.search, session.progress
        source = session.source.name if session.source else ""
        if search is not None:
            if search.paused:
                self.text.setText(activity_words.paused_line(source, progress))
            elif progress is not None:
                self.text.setText(activity_words.search_line(source, progress))
            else:
                self.text.setText(source)
        part = progress.done / max(1, progress.total) if progress else 0.0
        self.gauge.show_part(part)
        copies = session.copies
        if copies.waiting is not None:
            self.copy_text.setText(activity_words.copy_waits_line(copies.name, copies.waiting))
        elif copies.told is not None:
            self.copy_text.setText(activity_words.copy_line(copies.name, copies.told))
            self.copy_gauge.show_part(
                (copies.told.size - copies.told.pending) / max(1, copies.told.size))
        event = session.delivering
        if isinstance(event, Delivering):
            self.delivery_text.setText(activity_words.delivery_line(event))
            self.delivery_gauge.show_part(event.done / max(1, event.total))
        mends = session.mends
        if mends.now is not None:
            self.mending_text.setText(mending_words.mending_line(
                mends.now.name, mends.now.number, mends.now.count))
            self.mending_gauge.show_part(mends.now.number / max(1, mends.now.count))
        listing = session.listings
        if listing.spec:
            self.listing_text.setText(inside_words.listing_line(short_name(listing.spec),
                                                                listing.told))
            self.listing_gauge.show_part(listing.told[0] / max(1, listing.told[1]))
        for widget, shown in (
                (self.listing_gauge, bool(listing.spec)), (self.listing_text, bool(listing.spec)),
                (self.mending_gauge, mends.work is not None),
                (self.mending_text, mends.work is not None),
                (self.gauge, search is not None), (self.text, search is not None),
                (self.pause, search is not None or session.copies.work is not None),
                (self.stop, search is not None or session.delivery is not None
                 or session.copies.work is not None or mends.work is not None
                 or bool(listing.spec)),
                (self.delivery_gauge, session.delivery is not None),
                (self.delivery_text, session.delivery is not None),
                (self.copy_gauge, copies.work is not None),
                (self.copy_text, copies.work is not None and (
                    copies.told is not None or copies.waiting is not None)),
                (self.idle, search is None and session.delivery is None
                 and copies.work is None and mends.work is None and not listing.spec),
                (self.log, session.board.folder is not None)):
            widget.setVisible(shown)
        paused = search.paused if search is not None else (
            copies.work is not None and copies.work.paused)
        self.pause.setText(words.SEARCH_CONTINUE if paused else words.SEARCH_PAUSE)
