"""A stream of self-describing sound frames on a source, followed block by block."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from needlewright.core.kernels.sound_frames import AMR, follow, resume
from needlewright.core.structures.view import View

BLOCK_BYTES = 4 << 20
FIRST_BYTES = 1 << 14  # most of what looks like a frame is none
GAP_BYTES = 1 << 18  # how far behind damage the same stream is looked for
SURE_FRAMES = 6
MAX_FRAME = 2048  # bytes; of AAC longer ones are possible, and rare


@dataclass(slots=True)
class Chain:
    """Frames from `start` to `stop`. `damaged`: first byte where the chain broke and went on later.
    """

    start: int
    stop: int
    frames: int = 0
    samples: int = 0
    rate: int = 0
    key: int = 0
    damaged: int | None = None
    lost: int = 0  # bytes between the pieces

    @property
    def sure_until(self) -> int:
        """Bytes before this are the stream's own: the last frame before its end, or before its
        damage, may be cut off, and another file begin inside it."""
        stop = self.stop if self.damaged is None else self.damaged
        return max(self.start, stop - MAX_FRAME)

    @property
    def seconds(self) -> float:
        return self.samples / self.rate if self.rate else 0.0


def follow_chain(view: View, start: int, coding: int) -> Chain:
    """Follow the frames from `start` as far as they go, over damage where the stream continues."""
    chain = Chain(start, start)
    while True:
        _straight(view, chain, coding)
        if coding >= AMR or chain.frames < SURE_FRAMES or chain.stop >= view.stop:
            return chain
        gap = np.frombuffer(view.source.read_at(
            chain.stop, min(GAP_BYTES, view.stop - chain.stop)), np.uint8)
        begin = resume(gap, 1, chain.key, coding, SURE_FRAMES)
        if begin < 0 or _another_file(view, gap, chain.stop, begin):
            return chain
        if chain.damaged is None:
            chain.damaged = chain.stop
        chain.lost += begin
        chain.stop += begin


def _another_file(view: View, gap: npt.NDArray[np.uint8], at: int, begin: int) -> bool:
    """Whether the frames `begin` bytes behind `at` open a file of their own: at a sector boundary,
    behind a tag that stands at one, or with an information frame."""
    sector = view.source.sector_size
    if (at + begin - view.start) % sector == 0:
        return True
    # The last frame was believed by its header: the other file may have begun inside it.
    back = min(MAX_FRAME, at - view.start)
    data = view.source.read_at(at - back, back) + bytes(gap[: begin + 3])
    first = -(at - back - view.start) % sector
    if any(data[p : p + 3] == b"ID3" for p in range(first, back + begin, sector)):
        return True
    head = bytes(gap[begin : begin + 192])
    return b"Xing" in head or b"Info" in head or b"VBRI" in head


def _straight(view: View, chain: Chain, coding: int) -> None:
    block = FIRST_BYTES
    while chain.stop < view.stop:
        length = min(block, view.stop - chain.stop)
        block = min(BLOCK_BYTES, block * 8)
        data = np.frombuffer(view.source.read_at(chain.stop, length), np.uint8)
        at, frames, samples, rate, key, more = follow(
            data, 0, chain.key, coding, chain.stop + length >= view.stop)
        chain.stop += at
        chain.frames += frames
        chain.samples += samples
        chain.rate = rate or chain.rate
        chain.key = key
        if not more or at == 0:
            return
