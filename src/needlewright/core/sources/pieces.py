"""A file's bytes in file order, wherever its extents lie: a source of its own."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterator, Sequence

from needlewright.core.sources.source import Source

Extents = Sequence[tuple[int | None, int]]


class PiecedSource(Source):
    """The bytes of `extents` (byte of `parent` or None: zeros, length), one behind another."""

    def __init__(self, parent: Source, extents: Extents) -> None:
        self.extents = tuple((o, n) for o, n in extents if n > 0)
        self.parent = parent
        self._starts = [0]
        for _, length in self.extents:
            self._starts.append(self._starts[-1] + length)
        self.name = parent.name
        self.sector_size = parent.sector_size

    @property
    def size(self) -> int:
        return self._starts[-1]

    def pieces(self, offset: int, length: int) -> Iterator[tuple[int | None, int]]:
        """(byte of the parent or None, length) of these bytes of the file, in order."""
        stop = min(offset + length, self.size)
        index = bisect_right(self._starts, offset) - 1
        while offset < stop:
            place, _ = self.extents[index]
            inside = offset - self._starts[index]
            fits = min(stop, self._starts[index + 1]) - offset
            yield None if place is None else place + inside, fits
            offset += fits
            index += 1

    def place(self, offset: int) -> int | None:
        """The byte of the parent that is byte `offset` of the file; None in a hole or behind it."""
        return next((place for place, _ in self.pieces(offset, 1)), None)

    def read_into(self, offset: int, target: memoryview) -> int:
        done = 0
        for place, length in self.pieces(offset, len(target)):
            part = target[done : done + length]
            if place is None:
                part[:] = bytes(length)
                done += length
                continue
            got = self.parent.read_into(place, part)
            done += got
            if got < length:
                break
        return done

    def lost_within(self, start: int, stop: int) -> int:
        return sum(self.parent.lost_within(place, place + length)
                   for place, length in self.pieces(start, stop - start) if place is not None)

    def local_pieces(self, offset: int, length: int) -> (
            tuple[str, list[tuple[int | None, int]]] | None):
        path = ""
        every: list[tuple[int | None, int]] = []
        for place, size in self.pieces(offset, length):
            if place is None:
                every.append((None, size))
                continue
            found = self.parent.local_pieces(place, size)
            if found is None:
                return None
            path = found[0]
            every += found[1]
        return (path, every) if path else None


def position(extents: Extents, byte: int) -> int | None:
    """Which byte of a file lies at `byte` of its source; None where it has none there."""
    start = 0
    for offset, length in extents:
        if offset is not None and offset <= byte < offset + length:
            return start + byte - offset
        start += length
    return None
