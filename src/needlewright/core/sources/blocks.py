"""The one loop that reads a stretch of a source from its first byte to its last."""

from __future__ import annotations

from collections.abc import Iterator

from needlewright.core.errors import SourceError
from needlewright.core.sources.source import Source, Span
from needlewright.core.stopping import Interrupted, StopSignal

BLOCK_BYTES = 1 << 20


def blocks(source: Source, span: Span | None = None, *, size: int = BLOCK_BYTES,
           stop: StopSignal | None = None) -> Iterator[bytes]:
    """The bytes of `span` (None: all of the source), `size` at a time, in order.

    Whoever counts bytes by what came would wait for ever for those of a file that was cut short
    meanwhile, or take the rest for nothing. Raises SourceError where the source has less than
    `span`, or cannot be read; Interrupted when `stop` is set.
    """
    at, end = (0, source.size) if span is None else (span.start, span.stop)
    while at < end:
        if stop is not None and stop.is_set():
            raise Interrupted
        wanted = min(size, end - at)
        block = source.read_at(at, wanted)
        if len(block) != wanted:
            raise SourceError("source-shrank", path=source.name, start=at + len(block), stop=end)
        yield block
        at += wanted
