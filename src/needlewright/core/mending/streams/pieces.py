"""A new file of pieces of the damaged one and of what is written anew, and what was left out."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import BinaryIO

from needlewright.core.mending.base import Change
from needlewright.core.sources.blocks import blocks
from needlewright.core.sources.source import Source, Span

COPY_BYTES = 1 << 20
MOST_TOLD = 40
NEAR = 0.5  # seconds between two gaps that are told as one
Piece = bytes | tuple[int, int]  # as it is, or (start, stop) of the damaged file


class Pieces:
    """Pieces in the order in which they are written; stretches that touch become one."""

    def __init__(self) -> None:
        self.pieces: list[Piece] = []
        self.size = 0

    def add(self, piece: Piece) -> None:
        self.size += len(piece) if isinstance(piece, bytes) else piece[1] - piece[0]
        last = self.pieces[-1] if self.pieces else None
        if isinstance(piece, tuple) and isinstance(last, tuple) and last[1] == piece[0]:
            self.pieces[-1] = last[0], piece[1]
        elif isinstance(piece, bytes) and isinstance(last, bytes):
            self.pieces[-1] = last + piece
        else:
            self.pieces.append(piece)


def writing(source: Source, *parts: Sequence[Piece]) -> Callable[[BinaryIO], None]:
    """How the pieces are written, in one pass."""
    def write(out: BinaryIO) -> None:
        for pieces in parts:
            for piece in pieces:
                if isinstance(piece, bytes):
                    out.write(piece)
                else:
                    copy(source, *piece, out)
    return write


def copy(source: Source, start: int, stop: int, out: BinaryIO) -> None:
    """Write these bytes of `source`, as far as there are any."""
    for block in blocks(source, Span(start, min(stop, source.size)), size=COPY_BYTES):
        out.write(block)


def left_out(count: int, seconds: Sequence[tuple[float, float]]) -> list[Change]:
    """What is told of `count` units that were left out, at these times (from, to) of the original.
    """
    if not seconds and not count:
        return []
    told: list[list[float]] = []
    for begin, end in sorted(seconds):
        if told and begin - told[-1][1] < NEAR:
            told[-1][1] = max(told[-1][1], end)
        else:
            told.append([begin, end])
    return [Change("samples-dropped", {"samples": count, "seconds": [
        [round(a, 2), round(b, 2)] for a, b in told[:MOST_TOLD]]})]
