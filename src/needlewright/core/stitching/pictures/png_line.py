"""PNG cluster by cluster: the inflater resumed at a boundary, the filter type of every row, and the
checksum behind every chunk (W3C PNG, third edition: 5 chunks, 7.2 scan lines, 9.2 filter types).

Foreign bytes inflate to noise, in which one row of fifty begins with a filter type that exists.
"""

from __future__ import annotations

import math
import struct
import zlib
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import numpy.typing as npt

from needlewright.core.errors import FormatError
from needlewright.core.stitching.base import REFUSED, Line, Step
from needlewright.core.structures.inflating import Inflater

FILTERS = 5  # filter types that exist
ROW = math.log(256 / FILTERS)  # nats of a row that begins with one
HEAD, CHECKSUM = 20.0, 22.0  # nats of a chunk where one must be, and of its checksum
PIECE = 1 << 14  # bytes that are inflated before rows are looked at
MAGIC = b"\x89PNG\r\n\x1a\n"
DATA, END = b"IDAT", b"IEND"
MAX_OTHER = 64 << 20  # bytes of a chunk that is not of the picture


@dataclass(frozen=True, slots=True)
class State:
    """At the end of a cluster. `left`: bytes of the chunk's contents that are to come; `carry`: the
    beginning of what stands before or behind them; `inflater`: as it stood (copied, never fed)."""

    name: bytes
    left: int
    carry: bytes
    crc: int
    inflater: Inflater


def at_start(expected: int) -> State:
    """Before the first byte of a picture of `expected` inflated bytes."""
    return State(b"", 0, b"", 0, Inflater(expected, piece=PIECE))


class PngLine(Line):
    """`row`: bytes of an inflated row with its filter type; `rows`: how many of them."""

    slow = 6  # than a kernel's trials
    work = 8, 8
    followed = 160  # a cluster may have no row's beginning: those in line behind it tell

    def __init__(self, row: int, rows: int) -> None:
        self._row, self._rows = row, rows

    def begin(self) -> State:
        """Before the first byte of the file."""
        return at_start(self._row * self._rows)

    def progress(self, state: State) -> float:
        return min(1.0, state.inflater.made / (self._row * self._rows))

    def judged(self, state: State) -> bool:
        return True

    def rank(self, state: State, rows: npt.NDArray[np.uint8], anyhow: bool = False) -> tuple[
            npt.NDArray[np.float64], npt.NDArray[np.int64]]:
        scores = np.array([self.take(state, row[1:]).score for row in rows], np.float64)
        return scores, np.zeros(len(rows), np.int64)

    def take(self, state: State, raw: npt.NDArray[np.uint8], since: Any = None) -> Step:
        data = state.carry + raw.tobytes()
        at, before, nats = 0, len(state.carry), 0.0
        state = replace(state, carry=b"", inflater=state.inflater.copy())
        if not state.name:
            if not data.startswith(MAGIC):
                return Step(REFUSED, 0, state)
            at, state = len(MAGIC), replace(state, name=MAGIC)
        while True:
            if state.name != MAGIC:
                part = data[at : at + state.left]
                rows = self._rows_in(state, part)
                if rows is None:
                    return Step(REFUSED, 0, state)
                nats += ROW * rows
                state = replace(state, left=state.left - len(part), crc=zlib.crc32(part, state.crc))
                at += len(part)
                if state.left or len(data) - at < 4:
                    break
                if state.crc != int.from_bytes(data[at : at + 4], "big"):
                    return Step(REFUSED, 0, state)
                at, nats = at + 4, nats + CHECKSUM
                if state.name == END:
                    whole = state.inflater.ended and state.inflater.made == self._row * self._rows
                    return Step(nats if whole else REFUSED, 0, state, at - before)
                state = replace(state, name=MAGIC)
            if len(data) - at < 8:
                break
            length, name = struct.unpack(">I4s", data[at : at + 8])
            if not self._possible(state, length, name):
                return Step(REFUSED, 0, state)
            nats += HEAD
            state, at = replace(state, name=name, left=length, crc=zlib.crc32(name)), at + 8
        return Step(nats, 0, replace(state, carry=data[at:]))

    def _rows_in(self, state: State, part: bytes) -> int | None:
        """Rows that begin in what `part` inflates to; None where it cannot be the picture's."""
        if state.name != DATA or not part:
            return 0
        count, inflater = 0, state.inflater
        at = inflater.made
        try:
            for out in inflater.feed(part):
                types = out[-at % self._row :: self._row]
                if types and max(types) >= FILTERS:
                    return None
                count += len(types)
                at += len(out)
        except FormatError:
            return None
        if inflater.made > self._row * self._rows or inflater.unused:
            return None
        return count

    def _possible(self, state: State, length: int, name: bytes) -> bool:
        if name == DATA:
            return not state.inflater.ended and length < 1 << 31
        if name == END:
            return length == 0 and state.inflater.ended
        return name.isalpha() and name[2:3].isupper() and length <= MAX_OTHER and (
            bool(name[0] & 0x20) or not state.inflater.made)
