"""How the phone is just now, and what is wrong with it.

What its owner does: `unlock`, `lock`, `trust`, `allow`, `refuse`, `pull`, `plug`, `grant`, `state`,
`truth` (see `standins.control`).
"""

from __future__ import annotations

import json
import random
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any


@dataclass
class PhoneFaults:
    """`slow`: bytes a second. `drops`: bytes after which the connection breaks, once each, from the
    last time on. `refuses`: names of objects that it lists and does not hand out. `unlisted`: names
    of which it tells nothing but the handle. `short`: names of which fewer bytes come than are
    announced. `strays`: every so many answers one has another transaction's number. `locks_after`:
    bytes of content that it sends from unlocking until it locks itself again. `drips`: it answers
    one small packet every two seconds, for ever. `plain`: no property lists and no ranges beyond 32
    bits, as cameras.
    `ranges`: what it does when a part of an object is asked for, though it lists that it can:
    "refuses" or "breaks". `shallow`: it lists only what lies in no folder, or in the one that is
    asked for, and hands out little at once. `twins`: names of which there are two in a folder.
    `made_up`: so many files more, of `size` bytes. `bare`: it has no connection for events, tells
    nothing of itself before there is a session, and is busy at first, as small cameras. `single`:
    it speaks with one computer at a time.
    """

    slow: float = 0.0
    drops: list[int] = field(default_factory=list)
    refuses: list[str] = field(default_factory=list)
    unlisted: list[str] = field(default_factory=list)
    short: list[str] = field(default_factory=list)
    strays: int = 0
    locks_after: int = 0
    drips: bool = False
    plain: bool = False
    ranges: str = ""
    shallow: bool = False
    twins: list[str] = field(default_factory=list)
    made_up: int = 0
    size: int = 0
    bare: bool = False
    single: bool = False

    @staticmethod
    def load(path: Path) -> PhoneFaults:
        return PhoneFaults(**json.loads(path.read_text(encoding="utf-8")))


@dataclass
class State:
    """Who may do what. `on_change`: called after every change."""

    faults: PhoneFaults
    locked: bool = True
    trusted: bool = False
    allowed: bool = False
    plugged: bool = True
    granted: bool = False
    asked: bool = False  # a computer has asked to be trusted
    unlocked_at: int = 0  # bytes that were sent before
    sent: int = 0
    answers: int = 0
    begun: int = 0
    speaking: int = 0  # connections for operations
    listings: int = 0  # how often everything was listed
    on_change: list[Callable[[], None]] = field(default_factory=list)

    def act(self, wish: str) -> bool:
        """Do as the owner wishes; whether it is a known wish."""
        match wish:
            case "unlock":
                self.locked, self.unlocked_at = False, self.sent
            case "lock":
                self.locked = True
            case "trust":
                self.trusted = True
            case "allow":
                self.allowed = True
            case "refuse":
                self.allowed = self.trusted = self.granted = False
            case "pull":
                self.plugged = False
            case "plug":
                self.plugged = True
            case "grant":
                self.granted = True
            case _:
                return wish in ("state", "truth")
        for call in self.on_change:
            call()
        return True

    @property
    def open(self) -> bool:
        """Whether stores are handed out."""
        after = self.faults.locks_after
        if after and not self.locked and self.sent - self.unlocked_at > after:
            self.act("lock")
        return self.plugged and self.trusted and self.allowed and not self.locked

    def told(self) -> dict[str, Any]:
        return {"locked": self.locked, "trusted": self.trusted, "allowed": self.allowed,
                "plugged": self.plugged, "granted": self.granted, "asked": self.asked,
                "sent": self.sent, "listings": self.listings}

    def goes(self, count: int) -> int:
        """How many of `count` bytes get through before the connection breaks: all as a rule."""
        if self.faults.slow:
            time.sleep(count / self.faults.slow)
        drops = self.faults.drops
        if drops and count >= drops[0]:
            return drops.pop(0)
        if drops:
            drops[0] -= count
        self.sent += count
        return count

    def busy(self) -> bool:
        """Whether it is too busy to begin a session: for the first time."""
        self.begun += 1
        return self.faults.bare and self.begun == 1

    def strays(self) -> int:
        """What is added to the number of the transaction that is answered."""
        self.answers += 1
        every = self.faults.strays
        return random.randrange(1, 5) if every and self.answers % every == 0 else 0
