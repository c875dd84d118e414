"""Starts the synchronised folder as a process of its own, and plays its owner."""

from __future__ import annotations

import contextlib
import importlib.util
import json
import tempfile
from collections.abc import Iterator
from dataclasses import asdict
from pathlib import Path
from typing import Any

import platformdirs

from needlewright.core.errors import NeedlewrightError
from needlewright.standins import control
from needlewright.standins.running import Running
from needlewright.standins.sync.content import draw
from needlewright.standins.sync.faults import TOP, USER, SyncFaults


class SurveyFolder(Running):
    """A running synchronised folder: its `address`, with whose it is; `wish` does what its owner
    does."""

    def __init__(self, top: Path, versions: Path, faults: SyncFaults | None = None) -> None:
        if importlib.util.find_spec("wsgidav") is None:
            raise NeedlewrightError("standin-extra")
        super().__init__("sync")
        described = self.folder / "sync.json"
        described.write_text(json.dumps({
            "top": str(top), "versions": str(versions), "faults": asdict(faults or SyncFaults())}))
        self.control = str(self.folder / "owner.sock")
        line = self.begin("needlewright.standins.sync", str(described), self.control)
        plain: str = json.loads(line)["address"]
        scheme, _, host = plain.partition("://")
        open_to_all = faults is not None and faults.open
        self.address = f"{plain}{TOP}" if open_to_all else f"{scheme}://{USER}@{host}{TOP}"

    def wish(self, *wishes: str) -> dict[str, Any]:
        """`down`, `up`, `state`, `truth`; how it is then."""
        return control.wishes(self.control, *wishes)


@contextlib.contextmanager
def running(faults: SyncFaults) -> Iterator[SurveyFolder]:
    """The folder, drawn and running."""
    cache = Path(platformdirs.user_cache_dir("needlewright")) / "survey folder"
    cache.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(dir=cache) as drawn, SurveyFolder(
            *draw(Path(drawn)), faults) as folder:
        yield folder
