"""The bytes of finds on their way out."""

from __future__ import annotations

from collections.abc import Iterator
from io import RawIOBase

from needlewright.core.errors import DeliveryError, SourceError
from needlewright.core.jobfile.rows import FindRow
from needlewright.core.sources import blocks
from needlewright.core.sources.source import Source, Span


def write_all(out: RawIOBase, block: bytes) -> None:
    """Write all of `block`: a full disk may take a part of it."""
    rest = memoryview(block)
    while rest:
        rest = rest[out.write(rest) or 0 :]


def bytes_of(file: Source, row: FindRow) -> Iterator[bytes]:
    """All of a find; DeliveryError where its source has less."""
    try:
        yield from blocks.blocks(file, Span(0, row.size))
    except SourceError as error:
        if error.code != "source-shrank":
            raise
        raise DeliveryError("source-shorter", find=row.id) from error
