"""The small window of a simulated service: what its owner sees, and how it is put out of reach."""

from __future__ import annotations

import json
import signal
from collections.abc import Callable
from contextlib import AbstractContextManager
from functools import partial
from typing import Any

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QWidget

from needlewright.app.main import application
from needlewright.app.theme.look import look
from needlewright.app.widgets.small import button, card, column, fill, label, line
from needlewright.wording import shelves as words

POLL_MS = 500


class ServiceWindow(QWidget):
    """Shows `service`: who signs in and with what, the one-time code where there is one."""

    def __init__(self, service: Any, title: str, source: str, password: str) -> None:
        super().__init__()
        self.setObjectName("station")
        self.setWindowTitle(title)
        self._service = service
        self.code = label("", "title", "serviceCode")
        self.told = label("", "muted", "serviceTold", wrap=True)
        screen, inside = card()
        self.code_head = label(words.SERVICE_CODE, "muted")
        fill(inside, self.code_head, self.code, self.told)
        self.buttons = {wish: button(text, f"wish-{wish}", partial(self.act, wish))
                        for wish, text in words.SERVICE_WISHES.items()}
        fill(column(self), label(title, "head", wrap=True), label(source, wrap=True),
             label(words.SERVICE_PASSWORD.format(password=password), wrap=True), 4, screen, 4,
             line(*self.buttons.values(), spacing=8), None)
        self.resize(look.px(380), look.px(300))
        timer = QTimer(self)
        timer.timeout.connect(self.look_anew)
        timer.start(POLL_MS)
        self.look_anew()

    def act(self, wish: str) -> None:
        """Do what the owner wishes."""
        self._service.wish(wish)
        self.look_anew()

    def look_anew(self) -> None:
        """Show how it is now."""
        if self._service.process.poll() is not None:
            self.close()
            return
        told = self._service.wish("state")
        code = told.get("code", "")
        self.code.setText(f"{code[:3]} {code[3:]}" if code else "")
        for shown in (self.code, self.code_head):
            shown.setVisible(bool(code))
        self.told.setText(words.service_told(told))
        for wish in self.buttons:
            self.buttons[wish].setEnabled(told["down"] != (wish == "down"))


def show_service(service: AbstractContextManager[Any], what: str, told: Callable[[Any], str],
                 password: str) -> int:
    """Run a service with its window until that is closed; `told`: what it is opened by."""
    signal.signal(signal.SIGINT, signal.SIG_DFL)
    # Ended from outside, it still takes itself off the list of known albums.
    signal.signal(signal.SIGTERM, lambda *_: application().quit())
    app = application()
    look.apply(False, 1.0)
    with service as running:
        source = told(running)
        print(json.dumps({"source": source, "address": running.address,
                          "control": running.control}), flush=True)
        window = ServiceWindow(running, words.SERVICE_TITLES[what], source, password)
        window.show()
        return int(app.exec())
