"""Chunks of PNG files (PNG 3rd edition, 5.3)."""

from __future__ import annotations

from needlewright.core.sources.source import Source
from needlewright.core.stitching.chained.chains.base import Blocks, Next, exact, register, walked


def follow(source: Source, bad: int) -> Next | None:
    def step(data: Blocks, at: int) -> int | None:
        head = data.get(at, 8)
        return at + 12 + int.from_bytes(head[:4], "big") if head[4:].isalpha() else None

    found = walked(source, 8, bad, step)
    if found is None:
        return None
    names = (b"IDAT", b"IEND")
    return Next(found[0], found[1] + 4, 4, exact(*names, b"fdAT", b"fcTL", b"tEXt"), names)


register("png", follow)
