"""The read map of a copied medium, as a JSON file beside its image; `imaging.map_saving` writes it.

A checksum over the content tells a damaged file; the map before the last is kept as well.
"""

from __future__ import annotations

import hashlib
import json
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from needlewright.core.errors import SourceError
from needlewright.core.sources.read_map import ReadMap, State

VERSION = 1
CHUNKS = ".chunks.json"  # the hashes once more, for when no map can be believed
SUFFIX, BEFORE = ".map.json", ".map.before.json"
MAX_BYTES = 256 << 20
LETTERS = {State.PENDING: "pending", State.READ: "read", State.UNREADABLE: "unreadable"}
STATES = {name: state for state, name in LETTERS.items()}


@dataclass(slots=True)
class Origin:
    """Which medium an image was copied from; `head`: SHA-256 of its first bytes, "" if unread."""

    spec: str
    size: int
    head: str = ""
    serial: str = ""
    model: str = ""


@dataclass(slots=True)
class MapFile:
    """What is kept of a copy. `slow`: stretches with the bytes a second they were read at;
    `chunks`: BLAKE2b of each finished chunk, by its number; `seconds`: spent reading so far."""

    origin: Origin
    states: ReadMap
    block: int = 512
    slow: list[tuple[int, int, float]] = field(default_factory=list)
    chunk_bytes: int = 16 << 20
    chunks: dict[int, str] = field(default_factory=dict)
    seconds: float = 0.0
    sha256: str | None = None


def map_path(image: Path) -> Path:
    return image.with_name(image.name + SUFFIX)


def whole_image(path: Path) -> Path:
    """The image that `path` is or is the first piece of."""
    piece = path.with_suffix("")
    return piece if path.suffix == ".001" and map_path(piece).exists() else path


def load(image: Path) -> MapFile | None:
    """The map beside `image`, or the one before it where that is damaged; None without any.

    Raises SourceError where there is one but none can be believed.
    """
    paths = [map_path(image), image.with_name(image.name + BEFORE)]
    there = [path for path in paths if path.exists()]
    for path in there:
        found = _read(path)
        if found is not None:
            return found
    if there:
        raise SourceError("map-damaged", path=str(there[0]))
    return None


def load_chunks(image: Path) -> MapFile | None:
    """A map without any range, from the hashes alone; None where they cannot be believed either.

    What of the image agrees with them can be trusted, and nothing else (see `imaging.rebuild`).
    """
    return _read(image.with_name(image.name + CHUNKS))


def check_of(text: str) -> str:
    return hashlib.blake2b(text.encode(), digest_size=16).hexdigest()


def _read(path: Path) -> MapFile | None:
    try:
        if path.stat().st_size > MAX_BYTES:
            return None
        whole = json.loads(path.read_text(encoding="utf-8"))
        body = whole["map"]
        if whole["needlewright_map"] != VERSION or whole["check"] != check_of(json.dumps(body)):
            return None
        return _from_body(body)
    except (OSError, ValueError, KeyError, TypeError):
        return None


def _from_body(body: dict[str, Any]) -> MapFile:
    origin = Origin(**body["origin"])
    states = ReadMap(origin.size)
    for start, size, name in body["ranges"]:
        states.set(start, start + size, STATES[name])
    return MapFile(
        origin, states, int(body["block"]), [(a, b, float(r)) for a, b, r in body["slow"]],
        int(body["chunk_bytes"]), {int(n): d for n, d in body["chunks"].items()},
        float(body["seconds"]), body["sha256"])


def load_quietly(image: Path) -> MapFile | None:
    """The map beside `image` where one can be believed, else None: the image can still be read."""
    try:
        return load(image)
    except SourceError:
        return None


def origin_of(path: Path) -> Origin | None:
    """Which medium the image at `path` was copied from; None where it is no copy of ours."""
    found = load_quietly(whole_image(path))
    return None if found is None else found.origin
