"""Tags of FLV files (Adobe FLV 10.1, E.4)."""

from __future__ import annotations

from needlewright.core.sources.source import Source
from needlewright.core.stitching.chained.chains.base import Blocks, Next, exact, register, walked


def follow(source: Source, bad: int) -> Next | None:
    def step(data: Blocks, at: int) -> int | None:
        head = data.get(at, 4)
        if len(head) < 4 or head[0] & 0x1F not in (8, 9, 18):
            return None
        return at + 15 + int.from_bytes(head[1:4], "big")

    found = walked(source, 13, bad, step)
    if found is None:
        return None
    back = (found[1] - found[0] - 4).to_bytes(4, "big")  # the size of the tag before
    return Next(found[0], found[1] - 4, 4, exact(back), (back,))


register("flv", follow)
