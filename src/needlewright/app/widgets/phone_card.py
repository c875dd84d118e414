"""How far a phone is ready, point by point, and what is to be done on it."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PySide6.QtWidgets import QVBoxLayout, QWidget

from needlewright.app.looking import Listings
from needlewright.app.phones import Phones
from needlewright.app.widgets.small import button, card, clear, fill, label, line
from needlewright.core.phones.addresses import NAMED
from needlewright.core.phones.phone import State
from needlewright.core.sources.registry import short_name
from needlewright.wording import inside as inside_words
from needlewright.wording import phones as words


class PhoneCard(QWidget):
    """Shows the phone that is watched; hidden where none is."""

    def __init__(self, phones: Phones, listings: Listings, take_in: Callable[[str], object],
                 copy: Callable[[str, str], object]) -> None:
        """`take_in(spec)`: its files; `copy(address, name)`: its raw storage."""
        super().__init__()
        self._phones, self._listings = phones, listings
        self.head = label("", "head", "phoneHead", wrap=True)
        self.points = [label("", "", f"phonePoint{n}", wrap=True)
                       for n in range(len(words.POINTS))]
        self.do = label("", "sub", "phoneDo", wrap=True)
        self.why = label("", "muted", "phoneWhy", wrap=True)
        self.take = button(words.TAKE_IN, "takeInPhone",
                           lambda: take_in(phones.watched), "main")
        self.raw_text = label("", "", "phoneRaw", wrap=True)
        self.raw = QVBoxLayout()
        self._copy = copy
        self.leave = button(words.LEAVE, "leavePhone", self._leave, "link")
        frame, inside = card()
        fill(inside, self.head, 4, *self.points, 4, self.do, self.why, 4,
             line(self.take, self.leave, None, spacing=12), 8, self.raw_text, self.raw)
        advice, below = card()
        fill(below, label(words.ADVICE_HEAD, "sub"), label(words.ADVICE, "muted", wrap=True))
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(8)
        fill(outer, frame, advice)
        phones.changed.connect(self.refresh)
        listings.changed.connect(self.refresh)
        self.refresh()

    def _leave(self) -> None:
        if self._listings.spec:
            self._listings.stop()
        else:
            self._phones.leave()

    def refresh(self) -> None:
        """Show how far the phone is now."""
        watched, listing = self._phones.watched, self._listings.spec
        self.setVisible(bool(watched or listing))
        self.leave.setText(words.STOP_LISTING if listing else words.LEAVE)
        for shown in (*self.points, self.raw_text, self.take):
            shown.setVisible(not listing)
        if listing:
            self.head.setText(words.head(listing, ""))
            self.do.setText(inside_words.listing_line(short_name(listing), self._listings.told))
            self.why.setText(words.WHY_LISTED)
            clear(self.raw)
            return
        if not watched:
            return
        ready = self._phones.ready
        state = str(ready.state) if ready is not None else ""
        model = ready.model if ready is not None else ""
        self.head.setText(words.head(watched, model))
        stores = ready.stores if ready is not None else ()
        for shown, text in zip(self.points, words.points(state, stores), strict=True):
            shown.setText(text)
        self.do.setText(words.what_to_do(state))
        self.why.setText(words.why_so(state))
        self.take.setEnabled(state == State.READY)
        raw = ready.raw if ready is not None else ()
        known = any(f"{NAMED}{k.name}" == watched and k.raw for k in self._phones.known)
        self.raw_text.setText(words.raw_line(known, bool(raw)))
        self.raw_text.setVisible(known)
        clear(self.raw)
        for name, address in raw:
            self.raw.addLayout(line(button(words.COPY_RAW.format(name=name), f"raw-{name}",
                                           partial(self._copy, address, name)), None))
