"""The read map of a copied medium, as a JSON file beside its image.

Written whole, to a new file that is then moved into place, so that a crash leaves either the old
or the new one; the one before is kept as well. A checksum over the content tells a damaged file.
"""

from __future__ import annotations

import hashlib
import json
import os
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from needlewright.core.errors import SourceError
from needlewright.core.sources.read_map import ReadMap, State

VERSION = 1
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


def save(kept: MapFile, image: Path) -> None:
    """Write the map of `image`; OSError where that fails, the one before is then untouched."""
    body = {
        "origin": {"spec": kept.origin.spec, "size": kept.origin.size, "head": kept.origin.head,
                   "serial": kept.origin.serial, "model": kept.origin.model},
        "block": kept.block, "seconds": round(kept.seconds, 3), "sha256": kept.sha256,
        "ranges": [[s.start, s.size, LETTERS[v]] for s, v in kept.states.ranges()],
        "slow": [[a, b, round(rate)] for a, b, rate in kept.slow],
        "chunk_bytes": kept.chunk_bytes,
        "chunks": {str(n): digest for n, digest in sorted(kept.chunks.items())},
    }
    text = json.dumps(body)
    whole = {"needlewright_map": VERSION, "check": _check(text), "map": body}
    path = map_path(image)
    partial = path.with_name(f".{path.name}.new")
    with partial.open("w", encoding="utf-8") as out:
        out.write(json.dumps(whole))
        out.flush()
        os.fsync(out.fileno())
    if path.exists():
        os.replace(path, image.with_name(image.name + BEFORE))
    os.replace(partial, path)


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


def _check(text: str) -> str:
    return hashlib.blake2b(text.encode(), digest_size=16).hexdigest()


def _read(path: Path) -> MapFile | None:
    try:
        if path.stat().st_size > MAX_BYTES:
            return None
        whole = json.loads(path.read_text(encoding="utf-8"))
        body = whole["map"]
        if whole["needlewright_map"] != VERSION or whole["check"] != _check(json.dumps(body)):
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


def origin_of(path: Path) -> Origin | None:
    """Which medium the image at `path` was copied from; None where it is no copy of ours."""
    try:
        found = load(whole_image(path))
    except SourceError:
        return None
    return None if found is None else found.origin
