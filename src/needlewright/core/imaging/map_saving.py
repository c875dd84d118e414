"""Saves read maps. Written whole, to a new file that is then moved into place, so that a crash
leaves either the old or the new one; the one before is kept as well."""

from __future__ import annotations

import json
import os
from pathlib import Path
from typing import Any

from needlewright.core.sources.map_file import (
    BEFORE,
    CHUNKS,
    LETTERS,
    VERSION,
    MapFile,
    check_of,
    map_path,
)


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
    path = map_path(image)
    _write(path, body, image.with_name(image.name + BEFORE))
    _write(image.with_name(image.name + CHUNKS),
           {**body, "ranges": [], "slow": [], "sha256": None}, None)


def _write(path: Path, body: dict[str, Any], before: Path | None) -> None:
    """Put a new file in the place of `path`, which becomes `before` where that is wanted."""
    whole = {"needlewright_map": VERSION, "check": check_of(json.dumps(body)), "map": body}
    partial = path.with_name(f".{path.name}.new")
    with partial.open("w", encoding="utf-8") as out:
        out.write(json.dumps(whole))
        out.flush()
        os.fsync(out.fileno())
    if before is not None and path.exists():
        os.replace(path, before)
    os.replace(partial, path)
