"""Fragments of clips (ISO/IEC 14496-12, 8.8)."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from needlewright.core.sources.source import Source
from needlewright.core.stitching.chained.chains.base import (
    Blocks,
    Next,
    Rows,
    exact,
    register,
    walked,
)


def follow(source: Source, bad: int) -> Next | None:
    """The fragments of a clip (ISO/IEC 14496-12, 8.8): each states its number."""
    numbers: list[int] = []

    def step(data: Blocks, at: int) -> int | None:
        head = data.get(at, 24)
        if len(head) < 8 or not head[4:8].isalnum():
            return None
        if head[4:8] == b"moof" and head[12:16] == b"mfhd":
            numbers.append(int.from_bytes(head[20:24], "big"))
        size = int.from_bytes(head[:4], "big")
        return at + size if size >= 8 else None

    found = walked(source, 0, bad, step)
    if found is None or not numbers:
        return None
    following = b"\0\0\0\x10mfhd\0\0\0\0" + (numbers[-1] + 1).to_bytes(4, "big")

    def fits(rows: Rows) -> npt.NDArray[np.bool_]:
        fragment = exact(b"moof")(rows) & exact(following)(rows[:, 4:])
        return np.asarray(fragment | exact(b"mdat", b"mfra", b"sidx", b"free")(rows))

    return Next(found[0], found[1] + 4, 20, fits, (b"moof", b"mfra", b"mdat"))


register("mp4", follow)
