"""Sub-blocks of GIF files (GIF89a, 15)."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from needlewright.core.sources.source import Source
from needlewright.core.stitching.chained.chains.base import Blocks, Next, Rows, register, walked


def follow(source: Source, bad: int) -> Next | None:
    """Sub-blocks of a picture (GIF89a, 15): all but the last are 255 bytes long."""
    head = source.read_at(0, 13)
    at = 13 + (3 << (head[10] & 7) + 1 if len(head) > 10 and head[10] & 0x80 else 0)

    def step(data: Blocks, at: int) -> int | None:
        mark = data.get(at, 11)
        if mark[:1] == b"!":
            return at + 2
        if mark[:1] == b"," and len(mark) > 10:
            return at + 11 + (3 << (mark[9] & 7) + 1 if mark[9] & 0x80 else 0)
        return at + 1 + mark[0] if mark else None

    def fits(rows: Rows) -> npt.NDArray[np.bool_]:
        return np.asarray((rows[:, 0] == 0xFF) & (rows[:, 256] == 0xFF) & (rows[:, 512] == 0xFF))

    found = walked(source, at, bad, step)
    return None if found is None else Next(*found, 513, fits)


register("gif", follow)
