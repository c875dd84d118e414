"""Starts a simulated card reader as a process of its own."""

from __future__ import annotations

import subprocess
import tempfile
from pathlib import Path
from urllib.parse import quote

from needlewright.core import processes
from needlewright.standins.faults import Faults


class CardReader:
    """A running reader: its `url`, and its own truth about the reads it saw."""

    def __init__(self, image: Path, faults: Faults) -> None:
        self._place = tempfile.TemporaryDirectory(prefix="needlewright-reader-")
        folder = Path(self._place.name)
        faults.save(folder / "faults.json")
        self.truth = folder / "truth.json"
        self.socket = folder / "reader.sock"
        self.process = processes.start(
            "needlewright.standins.reader", str(image.absolute()), str(folder / "faults.json"),
            str(self.socket), str(self.truth), stdin=subprocess.DEVNULL)
        assert self.process.stdout is not None
        if self.process.stdout.readline().strip() != b"ready":
            raise RuntimeError("the simulated card reader did not start")
        self.url = f"nbd+unix:///{quote(faults.name)}?socket={self.socket}"

    def close(self) -> None:
        self.process.kill()
        self.process.wait()
        assert self.process.stdout is not None
        self.process.stdout.close()
        self._place.cleanup()

    def __enter__(self) -> CardReader:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()
