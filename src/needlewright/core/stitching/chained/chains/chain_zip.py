"""Members of ZIP archives (APPNOTE 6.3.10)."""

from __future__ import annotations

from needlewright.core.sources.source import Source
from needlewright.core.stitching.chained.chains.base import Blocks, Next, exact, register, walked


def follow(source: Source, bad: int) -> Next | None:
    """Members whose length stands in front of them, then the directory (APPNOTE 4.3.7, 4.3.12)."""
    def step(data: Blocks, at: int) -> int | None:
        head = data.get(at, 46)
        if head[:4] == b"PK\3\4" and len(head) >= 30:
            packed = int.from_bytes(head[18:22], "little")
            if packed == 0xFFFF_FFFF or (head[6] & 8 and not packed):
                return None
            return at + 30 + packed + sum(
                int.from_bytes(head[i : i + 2], "little") for i in (26, 28))
        if head[:4] == b"PK\1\2" and len(head) == 46:
            return at + 46 + sum(int.from_bytes(head[i : i + 2], "little") for i in (28, 30, 32))
        return None

    found = walked(source, 0, bad, step)
    marks = (b"PK\3\4", b"PK\1\2", b"PK\5\6")
    return None if found is None else Next(*found, 4, exact(*marks), marks)


register("zip", follow)
