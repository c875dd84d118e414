"""Where the next item of a file begins: the one thing that a piece behind a seam can be told by.

PNG chunks (PNG 3rd edition, 5.3), Ogg pages (RFC 3533, 6), RIFF chunks (RIFF MCI 1991), FLV tags
(Adobe FLV 10.1, E.4), Matroska blocks (RFC 9559), members of ZIP archives (APPNOTE 6.3.10).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from needlewright.core.sources.source import Source

Rows = npt.NDArray[np.uint8]
MAX_ITEMS = 2_000_000
BLOCK = 1 << 16
MAX_BLOCK = 64 << 20  # bytes of a frame of Matroska
FLAC_FRAME = 1 << 16  # bytes of a frame, where nothing says how long they are


@dataclass(frozen=True, slots=True)
class Next:
    """`start`: of the item in which the damage lies; at `at`, in bytes of the file, `width` bytes
    must pass `fits`, bool[n] of uint8[n, width]. `magic`: what stands there in most cases, so that
    it can be searched for. `until`: where nothing says at which byte it stands, the last one that
    it may be at, `at` being the first; then `magic` alone tells."""

    start: int
    at: int
    width: int
    fits: Callable[[Rows], npt.NDArray[np.bool_]]
    magic: tuple[bytes, ...] = ()
    until: int = 0


Chain = Callable[[Source, int], Next | None]


class _Bytes:
    """A source read in blocks, as small reads come one behind another."""

    def __init__(self, source: Source) -> None:
        self._source, self._at, self._block = source, -1, b""

    def get(self, at: int, length: int) -> bytes:
        inside = at - self._at
        if self._at < 0 or inside < 0 or inside + length > len(self._block):
            self._at, self._block = at, self._source.read_at(at, max(BLOCK, length))
            inside = 0
        return self._block[inside : inside + length]


def _exact(*values: bytes) -> Callable[[Rows], npt.NDArray[np.bool_]]:
    def fits(rows: Rows) -> npt.NDArray[np.bool_]:
        good = np.zeros(len(rows), np.bool_)
        for value in values:
            good |= (rows[:, : len(value)] == np.frombuffer(value, np.uint8)).all(axis=1)
        return good
    return fits


def _walked(source: Source, first: int, bad: int, step: Callable[[_Bytes, int], int | None],
            ) -> tuple[int, int] | None:
    """(start of the last item that begins before `bad` and says where the next one does, that)."""
    data, at, last = _Bytes(source), first, None
    for _ in range(MAX_ITEMS):
        if at >= bad:
            break
        following = step(data, at)
        if following is None or following <= at:
            break
        last = at, following
        at = following
    return last


def png(source: Source, bad: int) -> Next | None:
    def step(data: _Bytes, at: int) -> int | None:
        head = data.get(at, 8)
        return at + 12 + int.from_bytes(head[:4], "big") if head[4:].isalpha() else None

    found = _walked(source, 8, bad, step)
    if found is None:
        return None
    names = (b"IDAT", b"IEND")
    return Next(found[0], found[1] + 4, 4, _exact(*names, b"fdAT", b"fcTL", b"tEXt"), names)


def ogg(source: Source, bad: int) -> Next | None:
    def step(data: _Bytes, at: int) -> int | None:
        head = data.get(at, 27 + 255)
        if head[:4] != b"OggS" or len(head) < 27:
            return None
        count = head[26]
        return at + 27 + count + sum(head[27 : 27 + count])

    found = _walked(source, 0, bad, step)
    return None if found is None else Next(*found, 4, _exact(b"OggS"), (b"OggS",))


def riff(source: Source, bad: int) -> Next | None:
    names: set[bytes] = set()

    def step(data: _Bytes, at: int) -> int | None:
        head = data.get(at, 12)
        size = int.from_bytes(head[4:8], "little")
        if len(head) < 8 or not all(32 <= c < 127 for c in head[:4]):
            return None
        if head[:4] in (b"RIFF", b"LIST") and head[8:12] in (b"AVI ", b"AVIX", b"WAVE", b"movi",
                                                             b"WEBP", b"rec "):
            return at + 12
        names.add(head[:4])
        return at + 8 + size + size % 2

    found = _walked(source, 0, bad, step)
    if found is None:
        return None
    known = tuple(sorted({n for n in names if n[:2].isdigit()} | {b"idx1"}))
    return Next(*found, 4, _exact(*known, b"JUNK", b"LIST"), known)


def zipped(source: Source, bad: int) -> Next | None:
    """Members whose length stands in front of them, then the directory (APPNOTE 4.3.7, 4.3.12)."""
    def step(data: _Bytes, at: int) -> int | None:
        head = data.get(at, 46)
        if head[:4] == b"PK\3\4" and len(head) >= 30:
            packed = int.from_bytes(head[18:22], "little")
            if packed == 0xFFFF_FFFF or (head[6] & 8 and not packed):
                return None
            return at + 30 + packed + sum(
                int.from_bytes(head[i : i + 2], "little") for i in (26, 28))
        if head[:4] == b"PK\1\2" and len(head) == 46:
            return at + 46 + sum(int.from_bytes(head[i : i + 2], "little") for i in (28, 30, 32))
        return None

    found = _walked(source, 0, bad, step)
    marks = (b"PK\3\4", b"PK\1\2", b"PK\5\6")
    return None if found is None else Next(*found, 4, _exact(*marks), marks)


def flv(source: Source, bad: int) -> Next | None:
    def step(data: _Bytes, at: int) -> int | None:
        head = data.get(at, 4)
        if len(head) < 4 or head[0] & 0x1F not in (8, 9, 18):
            return None
        return at + 15 + int.from_bytes(head[1:4], "big")

    found = _walked(source, 13, bad, step)
    if found is None:
        return None
    back = (found[1] - found[0] - 4).to_bytes(4, "big")  # the size of the tag before
    return Next(found[0], found[1] - 4, 4, _exact(back), (back,))


def matroska(source: Source, bad: int) -> Next | None:
    outer = (0x18538067, 0x1F43B675)  # Segment, Cluster: looked into
    blocks = (0xA3, 0xA0, 0xE7, 0xA7, 0xAB, 0xBF, 0xEC, 0x5854)  # what stands in clusters
    # EBML, SeekHead, Info, Tracks, Cues, Tags, Chapters, Attachments
    others = (0x1A45DFA3, 0x114D9B74, 0x1549A966, 0x1654AE6B, 0x1C53BB6B, 0x1254C367, 0x1043A770,
              0x1941A469)

    def number(head: bytes, at: int, keep: bool) -> tuple[int, int]:
        first = head[at] if at < len(head) else 0
        length = 9 - first.bit_length()
        if first == 0 or at + length > len(head):
            return -1, 0
        value = int.from_bytes(head[at : at + length], "big")
        return (value if keep else value & ((1 << 7 * length) - 1)), length

    def step(data: _Bytes, at: int) -> int | None:
        head = data.get(at, 12)
        name, wide = number(head, 0, True)
        size, more = number(head, wide, False)
        if size < 0 or name not in outer + blocks + others or (
                name in blocks and size > MAX_BLOCK):
            return None
        return at + wide + more + (0 if name in outer else size)

    def fits(rows: Rows) -> npt.NDArray[np.bool_]:
        block = (rows[:, 0] == 0xA3) & (rows[:, 1] > 0x0F)
        group = (rows[:, 0] == 0xA0) & (rows[:, 1] > 0x0F)
        cluster = (rows[:, :4] == np.frombuffer(b"\x1f\x43\xb6\x75", np.uint8)).all(axis=1)
        cues = (rows[:, :4] == np.frombuffer(b"\x1c\x53\xbb\x6b", np.uint8)).all(axis=1)
        return np.asarray(block | group | cluster | cues)

    found = _walked(source, 0, bad, step)
    return None if found is None else Next(*found, 4, fits)


def gif(source: Source, bad: int) -> Next | None:
    """Sub-blocks of a picture (GIF89a, 15): all but the last are 255 bytes long."""
    head = source.read_at(0, 13)
    at = 13 + (3 << (head[10] & 7) + 1 if len(head) > 10 and head[10] & 0x80 else 0)

    def step(data: _Bytes, at: int) -> int | None:
        mark = data.get(at, 11)
        if mark[:1] == b"!":
            return at + 2
        if mark[:1] == b"," and len(mark) > 10:
            return at + 11 + (3 << (mark[9] & 7) + 1 if mark[9] & 0x80 else 0)
        return at + 1 + mark[0] if mark else None

    def fits(rows: Rows) -> npt.NDArray[np.bool_]:
        return np.asarray((rows[:, 0] == 0xFF) & (rows[:, 256] == 0xFF) & (rows[:, 512] == 0xFF))

    found = _walked(source, at, bad, step)
    return None if found is None else Next(*found, 513, fits)


def boxes(source: Source, bad: int) -> Next | None:
    """The fragments of a clip (ISO/IEC 14496-12, 8.8): each states its number."""
    numbers: list[int] = []

    def step(data: _Bytes, at: int) -> int | None:
        head = data.get(at, 24)
        if len(head) < 8 or not head[4:8].isalnum():
            return None
        if head[4:8] == b"moof" and head[12:16] == b"mfhd":
            numbers.append(int.from_bytes(head[20:24], "big"))
        size = int.from_bytes(head[:4], "big")
        return at + size if size >= 8 else None

    found = _walked(source, 0, bad, step)
    if found is None or not numbers:
        return None
    following = b"\0\0\0\x10mfhd\0\0\0\0" + (numbers[-1] + 1).to_bytes(4, "big")

    def fits(rows: Rows) -> npt.NDArray[np.bool_]:
        fragment = _exact(b"moof")(rows) & _exact(following)(rows[:, 4:])
        return np.asarray(fragment | _exact(b"mdat", b"mfra", b"sidx", b"free")(rows))

    return Next(found[0], found[1] + 4, 20, fits, (b"moof", b"mfra", b"mdat"))


def flac(source: Source, bad: int) -> Next | None:
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
    return Next(at, at + min(least, 16), len(magic[0]), _exact(*magic), magic, at + most)


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


CHAINS: dict[str, Chain] = {
    "png": png, "ogg": ogg, "avi": riff, "flv": flv, "matroska": matroska, "gif": gif,
    "flac": flac, "mp4": boxes, "zip": zipped,
}
