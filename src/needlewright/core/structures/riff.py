"""RIFF chunks (Multimedia Programming Interface 1.0, RIFF) and IFF chunks (EA IFF 85).

RIFF is little-endian, IFF big-endian; sizes exclude the header and the pad byte behind an odd one.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from needlewright.core.errors import FormatError
from needlewright.core.structures.view import View

MAX_CHUNKS = 1_000_000
PRINTABLE = frozenset(range(0x20, 0x7F))


@dataclass(frozen=True, slots=True)
class Chunk:
    """One chunk: its header at `start`, its content from `body` to `stop` as it is stated."""

    name: bytes
    start: int
    body: int
    stop: int

    @property
    def next(self) -> int:
        """Where the next chunk begins: behind the pad byte of an odd one."""
        return self.stop + (self.stop - self.body) % 2


def read_chunk(view: View, at: int, big_endian: bool = False) -> Chunk:
    """The chunk header at `at`; its content may reach past the view. FormatError if none is there.
    """
    head = view.take(at, 8)
    name = head[:4]
    if not PRINTABLE.issuperset(name):
        raise FormatError("no-chunk", offset=at)
    size = int.from_bytes(head[4:], "big" if big_endian else "little")
    return Chunk(name, at, at + 8, at + 8 + size)


def chunks(view: View, start: int, stop: int, big_endian: bool = False) -> Iterator[Chunk]:
    """The chunks from `start` to `stop`; FormatError at the first that does not fit there."""
    at = start
    for _ in range(MAX_CHUNKS):
        if at >= stop - 7:
            return  # at most a pad byte is left
        chunk = read_chunk(view, at, big_endian)
        if chunk.stop > stop:
            raise FormatError("chunk-reaches-past-end", offset=at)
        if chunk.stop > view.stop:
            yield Chunk(chunk.name, chunk.start, chunk.body, chunk.stop)
            raise FormatError("data-ends", offset=view.stop)
        yield chunk
        at = chunk.next
    raise FormatError("too-many-chunks", offset=at)
