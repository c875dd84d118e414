"""Chunks of AVI files (RIFF MCI 1991)."""

from __future__ import annotations

from needlewright.core.sources.source import Source
from needlewright.core.stitching.chained.chains.base import Blocks, Next, exact, register, walked


def follow(source: Source, bad: int) -> Next | None:
    names: set[bytes] = set()

    def step(data: Blocks, at: int) -> int | None:
        head = data.get(at, 12)
        size = int.from_bytes(head[4:8], "little")
        if len(head) < 8 or not all(32 <= c < 127 for c in head[:4]):
            return None
        if head[:4] in (b"RIFF", b"LIST") and head[8:12] in (b"AVI ", b"AVIX", b"WAVE", b"movi",
                                                             b"WEBP", b"rec "):
            return at + 12
        names.add(head[:4])
        return at + 8 + size + size % 2

    found = walked(source, 0, bad, step)
    if found is None:
        return None
    known = tuple(sorted({n for n in names if n[:2].isdigit()} | {b"idx1"}))
    return Next(*found, 4, exact(*known, b"JUNK", b"LIST"), known)


register("avi", follow)
