"""Blank sectors in the midst of plain samples.

Sectors that a reader could not read, and clusters that a device cleared, hold zeros (or, on flash,
0xFF). Decoders show them as black, as white or as silence. What was recorded is black or silent
too, but does not begin and end exactly where sectors of the medium do: only such runs count, with
other samples on every side.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from needlewright.core.kernels.foreign import BLANK
from needlewright.core.structures.view import View

Bytes = npt.NDArray[np.uint8]
BESIDE_FRAMES, LEAST_OTHER = 16, 12  # pixels (or moments of sound) looked at on each side
LEVEL_FRAMES = 1024  # whose loudness is what is usual beside a gap
EDGE_FRAMES = 4
# A sound that was turned down ends near zero. Of a cut one, four moments in a row are this much
# quieter than usual about once in fifteen, at both ends of a gap once in two hundred.
CUT_LEVEL = 0.1
LOUDEST = 1e9  # of floating numbers; bytes that are none make endless ones
MOST_JUDGED = 1 << 12  # runs of one file that are looked at closely


@dataclass(frozen=True, slots=True)
class Samples:
    """How plain samples lie in a file, from byte `start` to `stop` of its source.

    `row_bytes` is 0 for sound; `frame_bytes` are those of one pixel, or of one moment of all
    channels; `sample_bytes` 1 to 4, or 4 or 8 where they are `floating`.
    """

    start: int
    stop: int
    row_bytes: int
    frame_bytes: int
    sample_bytes: int = 1
    big_endian: bool = False
    floating: bool = False


class BlankRuns:
    """Finds blank runs among `samples` while their sectors are looked at in order."""

    def __init__(self, view: View, samples: Samples, first: int) -> None:
        """`first`: where the first of the sectors begins."""
        self._view, self._samples = view, samples
        self._sector = view.source.sector_size
        self._at = first  # of the sectors to come
        self._open: tuple[int, int] | None = None  # where a run began, and its value
        self._judged = 0

    def add(self, looks: Bytes, edges: Bytes) -> tuple[int, int] | None:
        """(offset, bytes) of the first gap that ends among these sectors, or None.

        `looks` uint8[n] as of `sector_looks`, `edges` uint8[n, 2]: first and last byte of each.
        """
        for start, stop, value in list(self._ended(looks, edges[:, 0])):
            self._judged += 1
            if self._judged <= MOST_JUDGED and self._is_gap(start, stop, value):
                return start, stop - start
        return None

    def _ended(self, looks: Bytes, values: Bytes) -> Iterator[tuple[int, int, int]]:
        """(start, stop, value) of the runs that end in front of one of these sectors."""
        kind = np.where(looks == BLANK, values.astype(np.int16), -1)
        changes = np.flatnonzero(kind[1:] != kind[:-1]) + 1
        begins = np.concatenate(([0], changes)) if kind.size else changes
        for index in begins.tolist():
            at, value = self._at + index * self._sector, int(kind[index])
            if self._open is not None and self._open[1] != value:
                yield self._open[0], at, self._open[1]
                self._open = None
            if self._open is None and value >= 0:
                self._open = at, value
        self._at += kind.size * self._sector

    def _read(self, start: int, stop: int) -> Bytes:
        """The bytes from `start` to `stop`, as far as they are samples."""
        start, stop = max(start, self._samples.start), min(stop, self._samples.stop)
        if stop <= start:
            return np.zeros(0, np.uint8)
        return np.frombuffer(self._view.source.read_at(start, stop - start), np.uint8)

    def _is_gap(self, start: int, stop: int, value: int) -> bool:
        frame = self._samples.frame_bytes
        before = self._read(start - BESIDE_FRAMES * frame, start)
        after = self._read(stop, stop + BESIDE_FRAMES * frame)
        if not (_others(before[::-1], frame, value) and _others(after, frame, value)):
            return False
        if self._samples.row_bytes:
            return self._among_rows(start, stop, value)
        if self._samples.sample_bytes == 1 and not self._samples.big_endian:
            return True  # WAVE: samples of 8 bits have no sign, and silence is 0x80
        return value == 0 and self._cut_sound(start, stop)

    def _among_rows(self, start: int, stop: int, value: int) -> bool:
        """Whether the rows above and below hold something else there. A bar across the whole
        picture, and something dark in it, do not pass."""
        row, begin = self._samples.row_bytes, self._samples.start
        if (start - begin) % row == 0 and (stop - begin) % row == 0:
            return False
        wide = min(row, stop - start)
        sides = (self._read(start - row, start - row + wide),
                 self._read(stop + row - wide, stop + row))
        return all(2 * side.size >= wide and 2 * np.count_nonzero(side == value) < side.size
                   for side in sides)

    def _cut_sound(self, start: int, stop: int) -> bool:
        """Whether the sound is as loud as usual right before or right behind."""
        frame = self._samples.frame_bytes
        before = self._read(start - (start - self._samples.start) % frame - LEVEL_FRAMES * frame,
                            start)
        skip = -(stop - self._samples.start) % frame
        after = self._read(stop + skip, stop + skip + LEVEL_FRAMES * frame)
        return any(
            levels.size > EDGE_FRAMES and levels.max() > 0
            and levels[:EDGE_FRAMES].mean() > CUT_LEVEL * levels.mean()
            for levels in (self._levels(before)[::-1], self._levels(after)))

    def _levels(self, data: Bytes) -> npt.NDArray[np.float64]:
        """float64[frames]: how far each moment is from zero, the loudest of its channels."""
        width, frame = self._samples.sample_bytes, self._samples.frame_bytes
        count = data.size // frame
        if self._samples.floating:
            numbers = np.nan_to_num(data[: count * frame].view(f"<f{width}").astype(np.float64))
            loud: npt.NDArray[np.float64] = np.abs(numbers).reshape(count, -1).max(axis=1)
            return np.minimum(loud, LOUDEST)
        values = data[: count * frame].reshape(count, frame // width, width).astype(np.int64)
        order = range(width) if self._samples.big_endian else range(width - 1, -1, -1)
        whole = np.zeros(values.shape[:2], np.int64)
        for place in order:
            whole = whole << 8 | values[:, :, place]
        half = 1 << (8 * width - 1)
        away = np.where(whole >= half, whole - 2 * half, whole)
        found: npt.NDArray[np.float64] = np.abs(away).max(axis=1).astype(np.float64)
        return found


def _others(beside: Bytes, frame: int, value: int) -> bool:
    """Whether the pixels `beside` a run, the nearest first, hold another value: the very next, and
    most of those behind it."""
    count = beside.size // frame
    if count < BESIDE_FRAMES:
        return False
    other = (beside[: count * frame].reshape(count, frame) != value).any(axis=1)
    return bool(other[0] and np.count_nonzero(other) >= LEAST_OTHER)
