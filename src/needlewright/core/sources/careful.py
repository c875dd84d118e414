"""Reading past what cannot be read: a failing range is halved until only its core is lost."""

from __future__ import annotations

from needlewright.core.errors import SourceError
from needlewright.core.sources.source import Source, Span

PHYSICAL_BYTES = 4096  # what most media fail by; smaller pieces only cost more failing reads
LOOK_BYTES = 1 << 20


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


def first_unreadable(source: Source, start: int, stop: int) -> int:
    """The first byte from `start` on that cannot be read, to within a block; `stop` if none.

    Looks no farther than LOOK_BYTES.
    """
    length = max(0, min(stop - start, LOOK_BYTES))
    _, bad = read_around(source, start, memoryview(bytearray(length)))
    return bad[0].start if bad else stop
