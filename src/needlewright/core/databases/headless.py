"""Rows whose first four bytes were overwritten: the sizes in front of a record follow from the
serial types behind them (sqlite.org file format, 1.6 and 2.1).
"""

from __future__ import annotations

import bisect
import functools
import itertools
from collections.abc import Iterator

import numpy as np
import numpy.typing as npt

from needlewright.core.databases.fitting import Fit, Found, fits_text
from needlewright.core.databases.records import (
    FIRST_BLOB,
    Encoding,
    length_of,
    may_have,
    shape_at,
    size_of,
    values_of,
    varint,
)
from needlewright.core.databases.trees import local_bytes
from needlewright.core.errors import FormatError

SMALLEST, LARGEST = 1e-60, 1e60  # of numbers that anybody keeps
TOLD_LETTERS = 4  # of a text that makes a row by itself
LEAST = 12  # bytes of a row that is found by its looks alone: shorter ones stand everywhere
OVERWRITTEN = 4  # bytes at the start of a free block: the place of the next one, and its own size


class Headless:
    """Reads rows that have lost their first bytes; for pages of one database."""

    def __init__(self, usable: int, encoding: Encoding) -> None:
        self._usable, self._encoding = usable, encoding

    def readings(self, data: bytes, at: int, stop: int, fit: Fit) -> Iterator[Found]:
        """Ways to read a row of one table; see the cases in `_heads`."""
        for types, head, begin, prefix, lost in self._heads(data, at, stop, fit):
            body = sum(size_of(t) for t in types)
            payload = head + body
            number = prefix - length_of(payload)  # bytes of the row's number
            if number not in ((0,) if fit.table.without_rowid else range(1, 10)):
                continue
            if begin + body > stop:
                continue
            if local_bytes(payload, self._usable, not fit.table.without_rowid) != payload:
                continue
            try:
                values = values_of(data, begin, types, self._encoding, strict=True)
            except (UnicodeDecodeError, FormatError):
                continue
            values = tuple(None if i in lost else v for i, v in enumerate(values))
            if fits_text(values):
                yield Found(fit.table, None, values, at, begin + body, lost)

    def _heads(self, data: bytes, at: int, stop: int, fit: Fit) -> Iterator[
            tuple[tuple[int, ...], int, int, int, tuple[int, ...]]]:
        """(serial types, bytes of the head, where values begin, bytes of sizes in front of the
        head, values that are not known).

        A cell begins with the size of its payload (p bytes), the row's number (r bytes, none
        without) and the size of its head (h bytes). Four bytes are lost: with p + r + h = 4 the
        types are all there; with less, the first one is lost; with more, the size of the head is
        there, which must be right.
        """
        place = at + OVERWRITTEN
        read = self._types(data, place, stop, fit.count)
        if read is not None and fit.types(read[0]):
            head = read[1] - place + 1
            if length_of(head) == 1:
                yield read[0], head, read[1], 3, ()
        shown = data[:stop]
        for skip in range(8):  # bytes of the row's number that are left in front
            if not may_have(shown, place + skip, fit.count):
                continue
            try:
                shape = shape_at(shown, place + skip)
            except FormatError:
                continue
            if fit.types(shape.types):
                yield (shape.types, shape.head, place + skip + shape.head, 4 + skip, ())
        if fit.count > 1 and not fit.table.without_rowid:
            yield from self._type_lost(data, place, stop, fit)
        elif fit.count > 2 and fit.table.without_rowid:
            yield from self._two_lost(data, place, stop, fit)

    def _two_lost(self, data: bytes, place: int, stop: int, fit: Fit) -> Iterator[
            tuple[tuple[int, ...], int, int, int, tuple[int, ...]]]:
        """The same of a table without numbers, whose cells lose two serial types: they are known
        where those of all live rows are the same few."""
        read = self._types(data, place, stop, fit.count - 2)
        usual = [fit.table.usual.get(index) for index in range(2)]
        if read is None or not all(usual):
            return
        rest, begin = read
        if all(fit.one(i + 2, t) for i, t in enumerate(rest)):
            for pair in itertools.product(*(sorted(types or ()) for types in usual)):
                yield (*pair, *rest), begin - place + 3, begin, 1, ()

    def _type_lost(self, data: bytes, place: int, stop: int, fit: Fit) -> Iterator[
            tuple[tuple[int, ...], int, int, int, tuple[int, ...]]]:
        """The same where the first serial type is lost: it is known from the bytes that are left
        for its value, as far as the column allows one only; else the value is not known."""
        read = self._types(data, place, stop, fit.count - 1)
        if read is None:
            return
        rest, begin = read
        if not all(fit.one(i + 1, t) for i, t in enumerate(rest)):
            return
        head = begin - place + 2
        if fit.alias == 0:
            yield (0, *rest), head, begin, 2, ()
            return
        left = stop - begin - sum(size_of(t) for t in rest)
        if left < 0:
            return
        fixed = fit.of_size(0, left)
        if len(fixed) == 1:
            yield (fixed[0], *rest), head, begin, 2, ()
        elif fixed:  # a blob stands for what is not known: the rest is read where it stands
            yield (FIRST_BLOB + 2 * left, *rest), head, begin, 2, (0,)

    def _types(self, data: bytes, place: int, stop: int, count: int) -> tuple[
            tuple[int, ...], int] | None:
        """(`count` serial types from `place` on, the byte behind them)."""
        types = []
        try:
            for _ in range(count):
                serial, place = varint(data[:stop], place)
                size_of(serial)
                types.append(serial)
        except FormatError:
            return None
        return tuple(types), place


class OldBlocks(dict[int, int]):
    """Places, ascending, where free blocks may have begun, and the byte behind each."""

    @functools.cached_property
    def _ending(self) -> dict[int, list[int]]:
        found: dict[int, list[int]] = {}
        for place, end in self.items():
            found.setdefault(end, []).append(place)
        return found

    def same_end(self, at: int) -> int | None:
        """The first block behind `at` that ends where the one at `at` does."""
        places = self._ending[self[at]]
        index = bisect.bisect_right(places, at)
        return places[index] if index < len(places) else None


def old_blocks(data: bytes, start: int, stop: int, usable: int) -> OldBlocks:
    """Places from `start` to `stop` where the head of a free block may stand, or have stood, and
    the byte behind that block: blocks are in the order of their places."""
    raw = np.frombuffer(data, np.uint8)[start : min(stop, len(data))].astype(np.int64)
    if raw.size < OVERWRITTEN:
        return OldBlocks()
    following = raw[:-3] << 8 | raw[1:-2]
    sizes = raw[2:-1] << 8 | raw[3:]
    at: npt.NDArray[np.int64] = np.arange(start, start + following.size)
    fits = (sizes >= LEAST) & (at + sizes <= usable) & (
        (following == 0) | ((following >= at + sizes) & (following <= usable - OVERWRITTEN)))
    return OldBlocks(zip(at[fits].tolist(), (at + sizes)[fits].tolist()))


def says_something(found: Found) -> bool:
    """Whether a row whose sizes are lost holds more than what cleared bytes look like."""
    told = [v for v in found.values if v not in (None, 0, 1, "", b"")]
    return bool(told) and found.stop - found.at >= LEAST


def is_likely(found: Found) -> bool:
    """Whether values whose place in the row was guessed are such as people have: text that is read
    as a number becomes one of a hundred digits, and one number alone is no row."""
    if any(isinstance(v, float) and v and not SMALLEST < abs(v) < LARGEST for v in found.values):
        return False
    told = [v for v in found.values if v not in (None, 0, 1, "", b"")]
    return len(told) > 1 or any(isinstance(v, str) and len(v) >= TOLD_LETTERS for v in told)
