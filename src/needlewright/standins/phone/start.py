"""Starts the phone as a process of its own, and plays its owner."""

from __future__ import annotations

import json
import socket
import subprocess
import tempfile
from dataclasses import asdict
from pathlib import Path
from typing import Any

from needlewright.core import processes
from needlewright.standins.phone.raw import addresses
from needlewright.standins.phone.state import PhoneFaults


class FieldPhone:
    """A running phone: its `address`; `wish` does what its owner does. It begins locked, and knows
    nobody."""

    def __init__(self, stores: list[dict[str, str]], faults: PhoneFaults | None = None,
                 name: str = "Reedbank F2", raw: dict[str, str] | None = None) -> None:
        """`raw`: images of its raw storage, by name."""
        self._place = tempfile.TemporaryDirectory(prefix="needlewright-phone-")
        folder = Path(self._place.name)
        (folder / "phone.json").write_text(json.dumps({
            "name": name, "stores": stores, "faults": asdict(faults or PhoneFaults()),
            "raw": raw or {}}))
        self.raw = addresses(raw or {}, folder)
        self.control = str(folder / "owner.sock")
        self.process = processes.start(
            "needlewright.standins.phone", str(folder / "phone.json"), self.control,
            stdin=subprocess.DEVNULL)
        assert self.process.stdout is not None
        line = self.process.stdout.readline()
        if not line:
            raise RuntimeError("the field phone did not start")
        self.address: str = json.loads(line)["address"]

    def wish(self, *wishes: str) -> dict[str, Any]:
        """Do these one after another: `unlock`, `trust`, `allow` …; how the phone is then."""
        told: dict[str, Any] = {}
        with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as owner:
            owner.connect(self.control)
            with owner.makefile("rw", encoding="utf-8") as lines:
                for wish in wishes:
                    lines.write(wish + "\n")
                    lines.flush()
                    told = json.loads(lines.readline())
        return told

    def open(self) -> None:
        """Unlock it, trust this computer, and allow the media."""
        self.wish("unlock", "trust", "allow")

    def truth(self) -> dict[str, str]:
        """Path of each file, its handle in front -> SHA-256 (hex)."""
        truth: dict[str, str] = self.wish("truth")["truth"]
        return truth

    def close(self) -> None:
        self.process.kill()
        self.process.wait()
        assert self.process.stdout is not None
        self.process.stdout.close()
        self._place.cleanup()

    def __enter__(self) -> FieldPhone:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()
