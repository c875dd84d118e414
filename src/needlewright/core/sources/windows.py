"""A part of a source (a volume, a marked stretch) that looks like a source of its own."""

from __future__ import annotations

from needlewright.core.sources.source import Source, Span


class Window(Source):
    """Bytes `span` of `parent`, addressed from 0. Reads are cut at the end of the window."""

    def __init__(self, parent: Source, span: Span, name: str | None = None) -> None:
        self._span = parent.whole.take(span.start, span.size)
        self._parent = parent
        self.name = name or parent.name
        self.sector_size = parent.sector_size

    @property
    def size(self) -> int:
        return self._span.size

    def read_into(self, offset: int, target: memoryview) -> int:
        fits = max(0, min(len(target), self.size - offset))
        if offset < 0 or fits == 0:
            return 0
        return self._parent.read_into(self._span.start + offset, target[:fits])

    def lost_within(self, start: int, stop: int) -> int:
        shift = self._span.start
        return self._parent.lost_within(start + shift, min(stop + shift, self._span.stop))

    def next_data(self, offset: int) -> int:
        shift = self._span.start
        return min(self._parent.next_data(offset + shift) - shift, self.size)

    def local_path(self) -> tuple[str, int] | None:
        place = self._parent.local_path()
        return None if place is None else (place[0], place[1] + self._span.start)


class BlockReader:
    """Small reads of neighbouring bytes without a system call each: one cached block.

    Parsers step through headers a few bytes at a time; `block_size` is in bytes.
    """

    def __init__(self, source: Source, block_size: int = 1 << 16) -> None:
        self.source = source
        self._block_size = block_size
        self._start = 0
        self._block = b""

    def read(self, offset: int, length: int) -> bytes:
        """As `Source.read_at`."""
        at = offset - self._start
        if at < 0 or at + length > len(self._block):
            if length > self._block_size:
                return self.source.read_at(offset, length)
            self._start, self._block = offset, self.source.read_at(offset, self._block_size)
            at = 0
        return self._block[at:at + length]
