"""Starts the phone as a process of its own, and plays its owner."""

from __future__ import annotations

import json
from dataclasses import asdict
from typing import Any

from needlewright.standins import control
from needlewright.standins.phone.raw import addresses
from needlewright.standins.phone.state import PhoneFaults
from needlewright.standins.running import Running


class FieldPhone(Running):
    """A running phone: its `address`; `wish` does what its owner does. It begins locked, and knows
    nobody."""

    def __init__(self, stores: list[dict[str, str]], faults: PhoneFaults | None = None,
                 name: str = "Reedbank F2", raw: dict[str, str] | None = None) -> None:
        """`raw`: images of its raw storage, by name."""
        super().__init__("phone")
        described = self.folder / "phone.json"
        described.write_text(json.dumps({
            "name": name, "stores": stores, "faults": asdict(faults or PhoneFaults()),
            "raw": raw or {}}))
        self.raw = addresses(raw or {}, self.folder)
        self.control = str(self.folder / "owner.sock")
        self.known_as = ""  # in the list of phones, if it is there
        line = self.begin("needlewright.standins.phone", str(described), self.control)
        self.address: str = json.loads(line)["address"]

    def wish(self, *wishes: str) -> dict[str, Any]:
        """Do these one after another: `unlock`, `trust`, `allow` …; how the phone is then."""
        return control.wishes(self.control, *wishes)

    def open(self) -> None:
        """Unlock it, trust this computer, and allow the media."""
        self.wish("unlock", "trust", "allow")

    def truth(self) -> dict[str, str]:
        """Path of each file, its handle in front -> SHA-256 (hex)."""
        truth: dict[str, str] = self.wish("truth")["truth"]
        return truth
