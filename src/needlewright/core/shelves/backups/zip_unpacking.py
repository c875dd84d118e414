"""What files of a ZIP archive are packed by (APPNOTE.TXT 6.3.10, 4.4.5), a little at a time, so
that what makes very much of very little takes no memory.

LZMA: 5.8.8, with the LZMA SDK's own five bytes of properties.
"""

from __future__ import annotations

import bz2
import lzma
import zlib
from collections.abc import Iterator

from needlewright.core.errors import FormatError

PIECE = 1 << 18
STORED, DEFLATED, BZIPPED, LZMA, ZSTANDARD, XZ = 0, 8, 12, 14, 93, 95
METHODS = frozenset((STORED, DEFLATED, BZIPPED, LZMA, ZSTANDARD, XZ))
MOST_DICTIONARY = 1 << 28  # bytes that LZMA may look back
LZMA_HEAD = 9  # version, length of the properties, properties
MOST_MEMORY = 512 << 20


class Unpacking:
    """Unpacks one file."""

    def __init__(self, method: int) -> None:
        self._method, self._head = method, b""
        self._bzip = bz2.BZ2Decompressor() if method == BZIPPED else None
        self._zlib = zlib.decompressobj(-15) if method == DEFLATED else None
        self._lzma = lzma.LZMADecompressor(lzma.FORMAT_XZ, MOST_MEMORY) if method == XZ else None
        self._zstd = None
        if method == ZSTANDARD:
            import zstandard

            self._zstd = zstandard.ZstdDecompressor(max_window_size=1 << 27).decompressobj()

    def feed(self, data: bytes) -> Iterator[bytes]:
        """What comes of the next bytes; many errors, see `is_error`."""
        if self._method == LZMA and self._lzma is None:
            self._head += data
            if len(self._head) < LZMA_HEAD:
                return
            self._lzma, data = _lzma_of(self._head[:LZMA_HEAD]), self._head[LZMA_HEAD:]
        if self._zlib is not None:
            while data and not self._zlib.eof:
                yield self._zlib.decompress(data, PIECE)
                data = self._zlib.unconsumed_tail
        elif self._bzip is not None or self._lzma is not None:
            unpack = self._bzip or self._lzma
            assert unpack is not None
            while not unpack.eof and (data or not unpack.needs_input):
                yield unpack.decompress(data, PIECE)
                data = b""
        elif self._zstd is not None:
            for at in range(0, len(data), 1 << 12):  # a block of it makes 128 KiB at most
                yield self._zstd.decompress(data[at : at + (1 << 12)])
        else:
            yield data


def is_error(error: Exception) -> bool:
    """Whether an error says that what is packed is damaged."""
    return isinstance(error, zlib.error | lzma.LZMAError | OSError | EOFError | FormatError |
                      ValueError | MemoryError) or (
        type(error).__name__ == "ZstdError")  # its module is loaded when it is wanted


def _lzma_of(head: bytes) -> lzma.LZMADecompressor:
    """FormatError for what no program of this kind writes."""
    length, coded = int.from_bytes(head[2:4], "little"), head[4]
    dictionary = int.from_bytes(head[5:9], "little")
    if length != LZMA_HEAD - 4 or coded >= 9 * 5 * 5 or dictionary > MOST_DICTIONARY:
        raise FormatError("coded-data-damaged", 0)
    coded, lc = divmod(coded, 9)
    pb, lp = divmod(coded, 5)
    if lc + lp > 4:
        raise FormatError("coded-data-damaged", 0)
    return lzma.LZMADecompressor(lzma.FORMAT_RAW, filters=[{
        "id": lzma.FILTER_LZMA1, "dict_size": max(4096, dictionary), "lc": lc, "lp": lp,
        "pb": pb}])
