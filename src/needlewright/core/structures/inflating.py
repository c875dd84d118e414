"""Unpacking with a bound: the one way in which Deflate and Zstandard data is unpacked here.

zlib: RFC 1950. Raw Deflate: RFC 1951. Zstandard: RFC 8878. A few bytes may unpack to gibibytes, so
nothing is unpacked whole: it comes in pieces, and never more in all than the caller says.
"""

from __future__ import annotations

import zlib
from collections.abc import Iterator

from needlewright.core.errors import FormatError

PIECE_BYTES = 1 << 18  # made at once
WINDOW_LOG = 23  # of Zstandard: 8 MiB, more than any file system packs at once


class Inflater:
    """Unpacks one stream of Deflate; `made`: bytes so far, never more than `most` and a piece.

    `raw`: without the frame of zlib. `piece`: bytes made at once.
    """

    def __init__(self, most: int, raw: bool = False, piece: int = PIECE_BYTES) -> None:
        self._unpacker = zlib.decompressobj(-15 if raw else 15)
        self._most, self._piece = most, piece
        self.made = 0

    def copy(self) -> Inflater:
        """Another that goes on from here by itself."""
        other = Inflater.__new__(Inflater)
        other._unpacker = self._unpacker.copy()
        other._most, other._piece, other.made = self._most, self._piece, self.made
        return other

    @property
    def ended(self) -> bool:
        """Whether the stream came to its own end, where zlib's checksum is right as well."""
        return self._unpacker.eof

    @property
    def unused(self) -> int:
        """Bytes of the last block that stand behind the stream's own end."""
        return len(self._unpacker.unused_data)

    @property
    def too_much(self) -> bool:
        """Whether it makes more than it may; then no more is unpacked."""
        return self.made > self._most

    def feed(self, block: bytes) -> Iterator[bytes]:
        """What `block` makes, in pieces; FormatError where it is no such stream."""
        while block and not self.ended and not self.too_much:
            try:
                out = self._unpacker.decompress(block, self._piece)
            except zlib.error as error:
                raise FormatError("coded-data-damaged", offset=0) from error
            self.made += len(out)
            block = self._unpacker.unconsumed_tail
            if out:
                yield out


def inflate(data: bytes, most: int) -> bytes:
    """The first `most` bytes that a zlib stream makes; FormatError where it is none."""
    out = b"".join(Inflater(most).feed(data)) if most > 0 else b""
    return out[:most]


def unpack_zstd(data: bytes, most: int) -> bytes:
    """The first `most` bytes that a Zstandard frame makes; FormatError where it is none."""
    import zstandard

    if most <= 0:
        return b""
    try:
        reader = zstandard.ZstdDecompressor(max_window_size=1 << WINDOW_LOG).stream_reader(data)
        return reader.read(most)
    except (zstandard.ZstdError, MemoryError) as error:
        raise FormatError("coded-data-damaged", offset=0) from error
