"""Saves read maps. Written whole, to a new file that is then moved into place, so that a crash
leaves either the old or the new one; the one before is kept as well."""

from __future__ import annotations

import json
import os
from pathlib import Path

from needlewright.core.sources.map_file import (
    BEFORE,
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
    text = json.dumps(body)
    whole = {"needlewright_map": VERSION, "check": check_of(text), "map": body}
    path = map_path(image)
    partial = path.with_name(f".{path.name}.new")
    with partial.open("w", encoding="utf-8") as out:
        out.write(json.dumps(whole))
        out.flush()
        os.fsync(out.fileno())
    if path.exists():
        os.replace(path, image.with_name(image.name + BEFORE))
    os.replace(partial, path)
