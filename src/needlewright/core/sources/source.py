"""The one way to touch bytes: `Source` (read-only, byte-addressed) and `Span` (checked ranges)."""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass
from types import TracebackType
from typing import ClassVar, Self

from needlewright.core.errors import FormatError
from needlewright.core.sources.budget import Budget


@dataclass(frozen=True, slots=True)
class Span:
    """A half-open byte range of a source: `start` <= byte < `stop`."""

    start: int
    stop: int

    @property
    def size(self) -> int:
        return self.stop - self.start

    def take(self, offset: int, size: int) -> Span:
        """The child of `size` bytes at absolute `offset`; FormatError if it would not fit."""
        if size < 0 or offset < self.start or offset + size > self.stop:
            raise FormatError("bytes-do-not-fit", offset=offset, bytes=size)
        return Span(offset, offset + size)


class Source(ABC):
    """Read-only bytes with a size and a sector size; `block_size`: what the medium fails by.

    All in bytes. Sources that hold something open are closed, or used in a `with` statement.
    """

    kind: ClassVar[str] = "bytes"  # in a line; others are shelves
    name: str
    sector_size: int = 512
    block_size: int = 512
    budget: Budget | None = None  # of the walk that this is read for

    def close(self) -> None:
        """Let go of what is open; reading afterwards raises SourceError."""
        return  # most hold nothing

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.close()

    @property
    @abstractmethod
    def size(self) -> int:
        """Size in bytes; constant while the source is open."""

    @abstractmethod
    def read_into(self, offset: int, target: memoryview) -> int:
        """Fill `target` from `offset`; return the bytes read, fewer only at the end.

        Raises SourceError naming the range that failed.
        """

    def read_at(self, offset: int, length: int) -> bytes:
        """Up to `length` bytes from `offset`; short past the end, empty beyond it."""
        length = max(0, min(length, self.size - offset))
        if offset < 0 or length == 0:
            return b""
        block = bytearray(length)
        filled = self.read_into(offset, memoryview(block))
        return bytes(block[:filled])

    @property
    def whole(self) -> Span:
        return Span(0, self.size)

    def lost_within(self, start: int, stop: int) -> int:
        """How many of these bytes are not the medium's own, since it could not be read there."""
        return 0

    @property
    def settled(self) -> int:
        """Bytes before this are final; behind it some are still being copied."""
        return self.size

    def next_data(self, offset: int) -> int:
        """The first byte from `offset` on that may be other than zero; `size` if none is.

        Only as much as is known without reading: holes of sparse images.
        """
        return offset

    def local_path(self) -> tuple[str, int] | None:
        """(path, byte offset in it) where another process may read the same bytes, else None."""
        return None

    def local_pieces(self, offset: int, length: int) -> (
            tuple[str, list[tuple[int | None, int]]] | None):
        """(path, (byte in it or None: zeros, length) in order) of these bytes, as `local_path`."""
        place = self.local_path()
        return None if place is None else (place[0], [(offset + place[1], length)])
