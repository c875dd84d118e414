"""Pages of Ogg files (RFC 3533, 6)."""

from __future__ import annotations

from needlewright.core.sources.source import Source
from needlewright.core.stitching.chained.chains.base import Blocks, Next, exact, register, walked


def follow(source: Source, bad: int) -> Next | None:
    def step(data: Blocks, at: int) -> int | None:
        head = data.get(at, 27 + 255)
        if head[:4] != b"OggS" or len(head) < 27:
            return None
        count = head[26]
        return at + 27 + count + sum(head[27 : 27 + count])

    found = walked(source, 0, bad, step)
    return None if found is None else Next(*found, 4, exact(b"OggS"), (b"OggS",))


register("ogg", follow)
