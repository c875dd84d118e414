"""Blocks of Matroska files (RFC 9559)."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from needlewright.core.sources.source import Source
from needlewright.core.stitching.chained.chains.base import Blocks, Next, Rows, register, walked

MAX_BLOCK = 64 << 20  # bytes of a frame


def follow(source: Source, bad: int) -> Next | None:
    outer = (0x18538067, 0x1F43B675)  # Segment, Cluster: looked into
    blocks = (0xA3, 0xA0, 0xE7, 0xA7, 0xAB, 0xBF, 0xEC, 0x5854)  # what stands in clusters
    # EBML, SeekHead, Info, Tracks, Cues, Tags, Chapters, Attachments
    others = (0x1A45DFA3, 0x114D9B74, 0x1549A966, 0x1654AE6B, 0x1C53BB6B, 0x1254C367, 0x1043A770,
              0x1941A469)

    def number(head: bytes, at: int, keep: bool) -> tuple[int, int]:
        first = head[at] if at < len(head) else 0
        length = 9 - first.bit_length()
        if first == 0 or at + length > len(head):
            return -1, 0
        value = int.from_bytes(head[at : at + length], "big")
        return (value if keep else value & ((1 << 7 * length) - 1)), length

    def step(data: Blocks, at: int) -> int | None:
        head = data.get(at, 12)
        name, wide = number(head, 0, True)
        size, more = number(head, wide, False)
        if size < 0 or name not in outer + blocks + others or (
                name in blocks and size > MAX_BLOCK):
            return None
        return at + wide + more + (0 if name in outer else size)

    def fits(rows: Rows) -> npt.NDArray[np.bool_]:
        block = (rows[:, 0] == 0xA3) & (rows[:, 1] > 0x0F)
        group = (rows[:, 0] == 0xA0) & (rows[:, 1] > 0x0F)
        cluster = (rows[:, :4] == np.frombuffer(b"\x1f\x43\xb6\x75", np.uint8)).all(axis=1)
        cues = (rows[:, :4] == np.frombuffer(b"\x1c\x53\xbb\x6b", np.uint8)).all(axis=1)
        return np.asarray(block | group | cluster | cues)

    found = walked(source, 0, bad, step)
    return None if found is None else Next(*found, 4, fits)


register("matroska", follow)
