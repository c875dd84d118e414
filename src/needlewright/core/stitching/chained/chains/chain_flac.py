"""Frames of FLAC files (RFC 9639, 9)."""

from __future__ import annotations

from needlewright.core.sources.source import Source
from needlewright.core.stitching.chained.chains.base import Next, exact, register

FLAC_FRAME = 1 << 16  # bytes of a frame, where nothing says how long they are


def follow(source: Source, bad: int) -> Next | None:
    """Frames have numbers, no lengths (RFC 9639, 9.1): the next one's header, as far as it is
    known, may stand anywhere within the longest frame that the stream states."""
    head = source.read_at(0, 26)
    most = int.from_bytes(head[15:18], "big") or FLAC_FRAME
    least = int.from_bytes(head[12:15], "big") or 16
    at = max(0, bad - 1)  # the walk ends where a frame begins
    frame = source.read_at(at, 16)
    if frame[:1] != b"\xff" or len(frame) < 16:
        return None
    number, _ = _coded_number(frame, 4)
    if number is None or frame[1] & 1:
        return None  # counted by samples: their numbers go on by as many as a frame has
    # The last frame is as short as need be, and says so in another way.
    sizes = {frame[2], 0x60 | frame[2] & 15, 0x70 | frame[2] & 15}
    magic = tuple(frame[:2] + bytes([size, frame[3]]) + _number_coded(number + 1)
                  for size in sorted(sizes))
    return Next(at, at + min(least, 16), len(magic[0]), exact(*magic), magic, at + most)


def _coded_number(data: bytes, at: int) -> tuple[int | None, int]:
    """(number, bytes) as UTF-8 codes it, up to 36 bits."""
    first = data[at]
    if first < 0x80:
        return first, 1
    length = 8 - (first ^ 0xFF).bit_length()
    if not 2 <= length <= 7 or at + length > len(data):
        return None, 0
    value = first & (0x7F >> length)
    for byte in data[at + 1 : at + length]:
        value = value << 6 | byte & 0x3F
    return value, length


def _number_coded(value: int) -> bytes:
    """A number as UTF-8 would code it."""
    if value < 0x80:
        return bytes([value])
    rest: list[int] = []
    while value >= 1 << (6 - len(rest) if rest else 6) or not rest:
        rest.insert(0, 0x80 | value & 0x3F)
        value >>= 6
    lead = (0xFF00 >> (len(rest) + 1)) & 0xFF
    return bytes([lead | value, *rest])


register("flac", follow)
