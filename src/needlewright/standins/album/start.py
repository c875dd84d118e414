"""Starts the album as a process of its own, and plays its owner."""

from __future__ import annotations

import contextlib
import json
import os
import tempfile
from collections.abc import Iterator
from dataclasses import asdict
from pathlib import Path
from typing import Any

import platformdirs

from needlewright.core.shelves.albums.known import folder as known_folder
from needlewright.standins import control
from needlewright.standins.album.content import PASSWORD, USER, draw
from needlewright.standins.album.faults import AlbumFaults
from needlewright.standins.running import Running

NAME = "survey-album"


class SurveyAlbum(Running):
    """A running album: its `address`; `wish` does what its owner does."""

    def __init__(self, items: list[dict[str, Any]], faults: AlbumFaults | None = None) -> None:
        super().__init__("album")
        described = self.folder / "album.json"
        described.write_text(json.dumps({
            "user": USER, "password": PASSWORD, "items": items,
            "faults": asdict(faults or AlbumFaults())}))
        self.control = str(self.folder / "owner.sock")
        line = self.begin("needlewright.standins.album", str(described), self.control)
        self.address: str = json.loads(line)["address"]

    def wish(self, *wishes: str) -> dict[str, Any]:
        """`code`, `down`, `up`, `state`, `truth`; how it is then."""
        return control.wishes(self.control, *wishes)

    def code(self) -> str:
        """The one-time code of this moment."""
        return str(self.wish("code")["code"])


@contextlib.contextmanager
def running(faults: AlbumFaults) -> Iterator[SurveyAlbum]:
    """The album, drawn and running, in the list of known ones until it ends."""
    cache = Path(platformdirs.user_cache_dir("needlewright")) / "survey album"
    cache.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(dir=cache) as drawn, SurveyAlbum(
            draw(Path(drawn)), faults) as album:
        place = known_folder()
        place.mkdir(parents=True, exist_ok=True)
        entry = place / f"{NAME}.json"
        with tempfile.NamedTemporaryFile("w", dir=place, delete=False) as out:
            json.dump({"address": album.address, "user": USER}, out)
        os.replace(out.name, entry)
        try:
            yield album
        finally:
            with contextlib.suppress(OSError, ValueError):
                if json.loads(entry.read_text())["address"] == album.address:
                    entry.unlink()
