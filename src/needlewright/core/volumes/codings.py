"""Contents that file systems store compressed, unpacked piece by piece.

LZNT1: [MS-XCA] 2.5 (chunks of 4 KiB). LZO1X: the kernel's lib/lzo, as btrfs and F2FS frame it.
zlib: RFC 1950. Zstandard: RFC 8878. LZ4: its block format. A piece that does not unpack is filled
with zeros, and the walk through the content shows it.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable, Mapping
from contextlib import suppress

from needlewright.core.errors import FormatError
from needlewright.core.sources.pieces import PiecedSource
from needlewright.core.sources.source import Source
from needlewright.core.structures.inflating import inflate, unpack_zstd
from needlewright.core.volumes.base import Coded, CodedParts

MAX_STORED = 4 << 20  # bytes of one compressed piece; more than any file system packs at once
MAX_MADE = 16 << 20
KEPT_PIECES = 4


def lznt1(data: bytes, made: int) -> bytes:
    """Unpack chunks of LZNT1 into at most `made` bytes."""
    out = bytearray()
    at = 0
    while at + 2 <= len(data) and len(out) < made:
        header = int.from_bytes(data[at : at + 2], "little")
        at += 2
        if header == 0:
            break
        stop = min(at + (header & 0x0FFF) + 1, len(data))
        if not header & 0x8000:
            out += data[at:stop]
            at = stop
            continue
        begin = len(out)
        while at < stop:
            flags = data[at]
            at += 1
            for bit in range(8):
                if at >= stop or len(out) - begin >= 4096:
                    break
                if not flags >> bit & 1:
                    out.append(data[at])
                    at += 1
                    continue
                if at + 2 > stop:
                    raise FormatError("compressed-chunk-ends-early", offset=at)
                pair = int.from_bytes(data[at : at + 2], "little")
                at += 2
                shift = 12
                while shift > 4 and (len(out) - begin - 1) >> (16 - shift):
                    shift -= 1
                length, back = (pair & ((1 << shift) - 1)) + 3, (pair >> shift) + 1
                _copy(out, back, length, begin, at)
        at = stop
        if len(out) - begin < 4096 and at < len(data):
            out += bytes(4096 - (len(out) - begin))
    return bytes(out[:made])


def _copy(out: bytearray, back: int, length: int, begin: int, at: int) -> None:
    start = len(out) - back
    if start < begin or len(out) + length > MAX_MADE:
        raise FormatError("compressed-piece-refers-nowhere", offset=at)
    if back >= length:
        out += out[start : start + length]
    else:
        piece = bytes(out[start:])
        out += (piece * (length // back + 1))[:length]


def lz4(data: bytes, made: int) -> bytes:
    """Unpack an LZ4 block into at most `made` bytes."""
    import imagecodecs

    try:
        return bytes(imagecodecs.lz4_decode(data, out=made))
    except imagecodecs.Lz4Error as error:
        raise FormatError("compressed-piece-damaged", offset=0) from error


def lzo(data: bytes, made: int) -> bytes:
    """Unpack one LZO1X stream into at most `made` bytes."""
    import imagecodecs

    try:
        return bytes(imagecodecs.lzo_decode(data, out=made))
    except imagecodecs.LzoError as error:
        raise FormatError("compressed-piece-damaged", offset=0) from error


def btrfs_lzo(data: bytes, made: int) -> bytes:
    """Unpack what btrfs packs with LZO: a length, then segments of a page with a length each."""
    total = min(int.from_bytes(data[:4], "little"), len(data))
    out = bytearray()
    at = 4
    while at + 4 <= total and len(out) < made:
        if 4096 - at % 4096 < 4:  # a length never straddles pages
            at += 4096 - at % 4096
            continue
        size = int.from_bytes(data[at : at + 4], "little")
        at += 4
        if size > total - at or size == 0:
            raise FormatError("compressed-piece-ends-early", offset=at)
        out += lzo(data[at : at + size], 4096)
        at += size
    return bytes(out[:made])


def _f2fs(unpack: Callable[[bytes, int], bytes]) -> Callable[[bytes, int], bytes]:
    """How F2FS frames a packed cluster: its length and 20 more bytes before it."""
    def framed(data: bytes, made: int) -> bytes:
        length = int.from_bytes(data[:4], "little")
        return unpack(data[24 : 24 + min(length, len(data))], made)
    return framed


CODINGS: Mapping[str, Callable[[bytes, int], bytes]] = {
    "lznt1": lznt1, "zlib": inflate, "zstd": unpack_zstd, "lz4": lz4, "lzo": lzo,
    "btrfs-lzo": btrfs_lzo,
    "f2fs-lz4": _f2fs(lz4), "f2fs-lzo": _f2fs(lzo), "f2fs-zstd": _f2fs(unpack_zstd),
}


def unpack(coding: str, data: bytes, made: int) -> bytes:
    """At most `made` bytes of a compressed piece; FormatError where it or its sizes are wrong."""
    if coding not in CODINGS:
        raise FormatError("compression-unknown", offset=0)
    if not 0 < made <= MAX_MADE or len(data) > MAX_STORED:
        raise FormatError("compressed-piece-too-large", offset=0)
    return CODINGS[coding](data, made)


class UnpackedSource(Source):
    """A file's bytes in file order, its compressed pieces unpacked as they are read."""

    def __init__(self, parent: Source, base: int, parts: CodedParts) -> None:
        """`base`: the byte of `parent` that the pieces' offsets count from."""
        self._parent, self._base, self._parts = parent, base, parts
        self._starts = [0]
        for part in parts:
            length = part[1] if isinstance(part, tuple) else part.length
            self._starts.append(self._starts[-1] + length)
        self._kept: dict[int, bytes] = {}
        self._short: set[int] = set()  # pieces that did not unpack to what they should
        self.name, self.sector_size = parent.name, parent.sector_size

    @property
    def size(self) -> int:
        return self._starts[-1]

    def read_into(self, offset: int, target: memoryview) -> int:
        done, wanted = 0, min(len(target), self.size - offset)
        while done < wanted:
            index = bisect_right(self._starts, offset + done) - 1
            inside = offset + done - self._starts[index]
            fits = min(wanted - done, self._starts[index + 1] - self._starts[index] - inside)
            part = self._parts[index]
            piece = target[done : done + fits]
            if not isinstance(part, tuple):
                block = self._made(index, part)[inside : inside + fits]
                piece[:] = block.ljust(fits, b"\0")
            elif part[0] is None:
                piece[:] = bytes(fits)
            elif self._parent.read_into(self._base + part[0] + inside, piece) < fits:
                return done
            done += fits
        return max(0, done)

    def lost_within(self, start: int, stop: int) -> int:
        """Of compressed pieces those as a whole of which something is lost, or which were read and
        did not unpack."""
        lost = 0
        for index, part in enumerate(self._parts):
            first, last = max(start, self._starts[index]), min(stop, self._starts[index + 1])
            if first >= last:
                continue
            if not isinstance(part, tuple):
                if index in self._short or any(
                        at is not None and self._parent.lost_within(
                            self._base + at, self._base + at + length)
                        for at, length in part.extents):
                    lost += last - first
            elif part[0] is not None:
                at = self._base + part[0] - self._starts[index]
                lost += self._parent.lost_within(at + first, at + last)
        return lost

    def _made(self, index: int, part: Coded) -> bytes:
        """The bytes that one compressed piece makes of the file."""
        if index not in self._kept:
            while len(self._kept) >= KEPT_PIECES:
                del self._kept[next(iter(self._kept))]
            extents = [(None if o is None else o + self._base, n) for o, n in part.extents]
            stored = PiecedSource(self._parent, extents)
            made = b""
            if stored.size <= MAX_STORED:
                with suppress(FormatError):
                    made = unpack(part.coding, stored.read_at(0, stored.size), part.made)
            piece = made[part.skip : part.skip + part.length]
            if len(piece) < part.length:
                self._short.add(index)
            self._kept[index] = piece.ljust(min(part.length, MAX_MADE), b"\0")
        return self._kept[index]
