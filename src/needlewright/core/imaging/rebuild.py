"""Makes a map anew for an image whose maps are damaged: what agrees with its hashes is believed,
the rest is asked for again. The image itself is kept as it is."""

from __future__ import annotations

import os
from pathlib import Path

from needlewright.core.errors import SourceError
from needlewright.core.imaging.hash_child import chunk_hash
from needlewright.core.sources import map_file
from needlewright.core.sources.blocks import blocks
from needlewright.core.sources.map_file import MapFile, Origin
from needlewright.core.sources.read_map import ReadMap, State
from needlewright.core.sources.registry import open_source
from needlewright.core.sources.source import Span


def rebuild(image: Path, origin: Origin, block: int) -> MapFile:
    """The map of `image`, a copy of the medium `origin`; what was damaged is put aside."""
    known = map_file.load_chunks(image)
    for damaged in (map_file.map_path(image), image.with_name(image.name + map_file.BEFORE)):
        if damaged.exists():
            os.replace(damaged, damaged.with_name(f"{damaged.name}.damaged"))
    made = MapFile(known.origin if known else origin, ReadMap(origin.size), block)
    first = image if image.exists() else image.with_name(f"{image.name}.001")
    if known is None or not first.exists() or known.states.size != origin.size:
        return made
    made.chunk_bytes = known.chunk_bytes
    with open_source(str(first)) as copied:
        for number, digest in known.chunks.items():
            start = number * known.chunk_bytes
            stop = min(start + known.chunk_bytes, origin.size)
            found = chunk_hash()
            try:
                for part in blocks(copied, Span(start, stop)):
                    found.update(part)
            except SourceError:
                continue  # it is not there any more, and is read again
            if found.hexdigest() == digest:
                made.states.set(start, stop, State.READ)
                made.chunks[number] = digest
    return made
