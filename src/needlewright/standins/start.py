"""Starts a simulated card reader as a process of its own."""

from __future__ import annotations

from pathlib import Path
from urllib.parse import quote

from needlewright.standins.faults import Faults
from needlewright.standins.running import Running


class CardReader(Running):
    """A running reader: its `url`, and its own truth about the reads it saw."""

    def __init__(self, image: Path, faults: Faults) -> None:
        super().__init__("reader")
        faults.save(self.folder / "faults.json")
        self.truth = self.folder / "truth.json"
        self.socket = self.folder / "reader.sock"
        self.begin("needlewright.standins.reader", str(image.absolute()),
                   str(self.folder / "faults.json"), str(self.socket), str(self.truth))
        self.url = f"nbd+unix:///{quote(faults.name)}?socket={self.socket}"
