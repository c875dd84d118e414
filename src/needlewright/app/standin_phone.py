"""The field phone's own small window, on which a person plays its owner."""

from __future__ import annotations

import signal
from functools import partial

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QWidget

from needlewright.app.main import application
from needlewright.app.theme.look import look
from needlewright.app.widgets.small import button, card, column, fill, label, line
from needlewright.standins.phone.service import running
from needlewright.standins.phone.start import FieldPhone
from needlewright.standins.phone.state import PhoneFaults
from needlewright.wording import phones as words

POLL_MS = 500


class PhoneWindow(QWidget):
    """Shows how `phone` is, and has a button for each thing that its owner may do."""

    def __init__(self, phone: FieldPhone) -> None:
        super().__init__()
        self.setObjectName("station")
        self.setWindowTitle(words.STANDIN_TITLE)
        self._phone = phone
        self.told = label("", "head", "phoneTold", wrap=True)
        self.asks = label("", "muted", "phoneAsks", wrap=True)
        screen, inside = card("phoneScreen")
        fill(inside, self.told, self.asks)
        self.buttons = {wish: button(text, f"wish-{wish}", partial(self.act, wish))
                        for wish, text in words.WISHES.items()}
        outer = column(self)
        head = words.STANDIN_HEAD.format(name=phone.known_as)
        fill(outer, label(head, "sub", wrap=True), screen, 4)
        pairs = list(self.buttons.values())
        for at in range(0, len(pairs), 2):
            outer.addLayout(line(*pairs[at : at + 2], spacing=8))
        fill(outer, label(phone.address, "muted"), None)
        self.resize(look.px(340), look.px(420))
        timer = QTimer(self)
        timer.timeout.connect(self.look_anew)
        timer.start(POLL_MS)
        self.look_anew()

    def act(self, wish: str) -> None:
        """Do what the owner wishes."""
        self._phone.wish(wish)
        self.look_anew()

    def look_anew(self) -> None:
        """Show how the phone is now."""
        if self._phone.process.poll() is not None:
            self.close()
            return
        told = self._phone.wish("state")
        self.told.setText(words.phone_screen(told))
        asks = bool(told["asked"]) and not told["trusted"]
        self.asks.setText(words.STANDIN_ASKS if asks else "")
        for wish, done in (("unlock", not told["locked"]), ("lock", told["locked"]),
                           ("trust", told["trusted"]), ("allow", told["allowed"]),
                           ("grant", told["granted"]), ("pull", not told["plugged"]),
                           ("plug", told["plugged"])):
            self.buttons[wish].setEnabled(not done)


def show_phone(faults: PhoneFaults) -> int:
    """Run the phone with its window until that is closed; returns the exit status."""
    signal.signal(signal.SIGINT, signal.SIG_DFL)
    # Ended from outside, it still takes itself off the list of known phones.
    signal.signal(signal.SIGTERM, lambda *_: application().quit())
    app = application()
    look.apply(False, 1.0)
    with running(faults) as phone:
        window = PhoneWindow(phone)
        window.show()
        return int(app.exec())
