"""Albums that are known by name: files `NAME.json` in the program's folder of albums, {"address",
"user"}. What opens one is never among that.
"""

from __future__ import annotations

import json
import os
import re
from dataclasses import dataclass
from pathlib import Path

import platformdirs

from needlewright.core.errors import SourceError

SCHEME = "album:"
NAME = re.compile(r"[\w][\w .+-]{0,63}")
ADDRESS = re.compile(r"https?://(\[[0-9a-fA-F:.]+\]|[^\s:/\[\]@?#]+)(:\d{1,5})?(/[\w./~-]*)?")
MOST_BYTES = 1 << 16


@dataclass(frozen=True, slots=True)
class Known:
    """An album. `address`: of http or https; `user`: who signs in."""

    name: str
    address: str
    user: str


def folder() -> Path:
    """Where known albums are kept."""
    set_one = os.environ.get("NEEDLEWRIGHT_ALBUMS")
    return Path(set_one) if set_one else Path(
        platformdirs.user_data_dir("needlewright")) / "albums"


def known_albums() -> list[Known]:
    """All that are known, by name."""
    try:
        files = sorted(folder().glob("*.json"), key=lambda file: file.stem)
    except OSError:
        return []
    return [one for file in files if (one := _known_in(file)) is not None]


def album_named(spec: str) -> Known:
    """The album that `album:NAME` stands for. Raises SourceError."""
    name = checked(spec).removeprefix(SCHEME)
    for one in known_albums():
        if one.name == name:
            return one
    raise SourceError("album-unknown", name=name)


def checked(spec: str) -> str:
    """`spec` as it is kept; SourceError where it is no name."""
    if NAME.fullmatch(spec.removeprefix(SCHEME)) is None:
        raise SourceError("album-unknown", name=spec.removeprefix(SCHEME))
    return spec


def _known_in(file: Path) -> Known | None:
    try:
        with open(file, "rb") as opened:
            told = json.loads(opened.read(MOST_BYTES))
        address, user = told["address"], told.get("user", "")
        if ADDRESS.fullmatch(address) is None or NAME.fullmatch(file.stem) is None or (
                not isinstance(user, str)):
            return None
        return Known(file.stem, address, user)
    except (OSError, ValueError, KeyError, TypeError, AttributeError):
        return None
