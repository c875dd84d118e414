"""The bytes of finds on their way out."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import ExitStack
from io import RawIOBase

from needlewright.core.errors import DeliveryError, NeedlewrightError
from needlewright.core.jobs.rows import FindRow
from needlewright.core.sources.registry import open_source
from needlewright.core.sources.source import Source

COPY_BYTES = 1 << 20


def opened(path: str, stack: ExitStack) -> Source | NeedlewrightError:
    """The source at `path`, closed with `stack`; or why it cannot be opened."""
    try:
        return stack.enter_context(open_source(path))
    except NeedlewrightError as error:
        return error


def write_all(out: RawIOBase, block: bytes) -> None:
    """Write all of `block`: a full disk may take a part of it."""
    rest = memoryview(block)
    while rest:
        rest = rest[out.write(rest) or 0 :]


def blocks(file: Source, row: FindRow) -> Iterator[bytes]:
    """All of a find; DeliveryError where its source has less."""
    for at in range(0, row.size, COPY_BYTES):
        size = min(COPY_BYTES, row.size - at)
        block = file.read_at(at, size)
        if len(block) != size:
            raise DeliveryError("source-shorter", find=row.id)
        yield block
