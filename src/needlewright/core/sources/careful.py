"""Reading past what cannot be read: a failing range is halved until only its core is lost."""

from __future__ import annotations

from needlewright.core.errors import SourceError
from needlewright.core.sources.source import Source, Span

PHYSICAL_BYTES = 4096  # what most media fail by; smaller pieces only cost more failing reads
LOOK_BYTES = 1 << 20
MOST_PAST = 1 << 20  # bytes that cannot be read and are read past, of one file


def read_around(source: Source, offset: int, target: memoryview) -> tuple[int, list[Span]]:
    """Fill `target` from `offset`, zeros where nothing can be read; (bytes, unreadable spans).

    The spans are ascending, apart, and whole blocks of PHYSICAL_BYTES, cut to what was asked for.
    Raises SourceError when the source itself is gone.
    """
    wanted = max(0, min(len(target), source.size - offset))
    bad: list[Span] = []
    waiting = [Span(offset, offset + wanted)]
    while waiting:
        span = waiting.pop()
        view = target[span.start - offset : span.stop - offset]
        try:
            source.read_into(span.start, view)
        except SourceError as error:
            if error.code != "source-range":
                raise
            middle = (span.start + span.size // 2) // PHYSICAL_BYTES * PHYSICAL_BYTES
            if middle > span.start:
                waiting += [Span(middle, span.stop), Span(span.start, middle)]
                continue
            if span.size > PHYSICAL_BYTES:  # too short to halve at a block of its own
                edge = span.start // PHYSICAL_BYTES * PHYSICAL_BYTES + PHYSICAL_BYTES
                waiting += [Span(edge, span.stop), Span(span.start, edge)]
                continue
            view[:] = bytes(len(view))
            if bad and bad[-1].stop == span.start:
                bad[-1] = Span(bad[-1].start, span.stop)
            else:
                bad.append(span)
    return wanted, bad


def read_past(source: Source, offset: int, length: int) -> bytes:
    """As `Source.read_at`, with zeros where nothing can be read."""
    try:
        return source.read_at(offset, length)
    except SourceError as error:
        if error.code != "source-range":
            raise
    block = bytearray(max(0, min(length, source.size - offset)))
    filled, _ = read_around(source, offset, memoryview(block))
    return bytes(block[:filled])


class Past(Source):
    """A source that reads on past what cannot be read, with zeros, and says how much that was.

    Up to `most` bytes of it; behind that it raises, as its source does: a medium that is dead from
    somewhere on would be asked for each of its blocks, and each may take it seconds.
    """

    def __init__(self, source: Source, most: int = MOST_PAST) -> None:
        self._source, self._most = source, most
        self.name, self.sector_size = source.name, source.sector_size
        self._bad: dict[int, int] = {}  # first byte -> the one behind the last

    @property
    def size(self) -> int:
        return self._source.size

    def read_into(self, offset: int, target: memoryview) -> int:
        try:
            return self._source.read_into(offset, target)
        except SourceError as error:
            if error.code != "source-range" or self.unread >= self._most:
                raise
        filled, bad = read_around(self._source, offset, target)
        for span in bad:
            self._bad[span.start] = max(span.stop, self._bad.get(span.start, 0))
        return filled

    @property
    def unread(self) -> int:
        """Bytes, at most, that could not be read."""
        return sum(stop - start for start, stop in self._bad.items())

    def lost_within(self, start: int, stop: int) -> int:
        lost, reached = self._source.lost_within(start, stop), start
        for first, behind in sorted(self._bad.items()):  # reads may have overlapped
            lost += max(0, min(behind, stop) - max(first, reached))
            reached = max(reached, behind)
        return lost

    def next_data(self, offset: int) -> int:
        return self._source.next_data(offset)


def first_unreadable(source: Source, start: int, stop: int) -> int:
    """The first byte from `start` on that cannot be read, to within a block; `stop` if none.

    Looks no farther than LOOK_BYTES.
    """
    length = max(0, min(stop - start, LOOK_BYTES))
    _, bad = read_around(source, start, memoryview(bytearray(length)))
    return bad[0].start if bad else stop
