"""Where the next item of a file begins: the one thing that a piece behind a seam can be told by.

PNG chunks (PNG 3rd edition, 5.3), Ogg pages (RFC 3533, 6), RIFF chunks (RIFF MCI 1991), FLV tags
(Adobe FLV 10.1, E.4), Matroska blocks (RFC 9559).
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


@dataclass(frozen=True, slots=True)
class Next:
    """`start`: of the item in which the damage lies; at `at`, in bytes of the file, `width` bytes
    must pass `fits`, bool[n] of uint8[n, width]. `magic`: what stands there in most cases, so that
    it can be searched for."""

    start: int
    at: int
    width: int
    fits: Callable[[Rows], npt.NDArray[np.bool_]]
    magic: tuple[bytes, ...] = ()


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
        if name < 0 or size < 0 or wide > 4:
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


CHAINS: dict[str, Chain] = {
    "png": png, "ogg": ogg, "avi": riff, "flv": flv, "matroska": matroska,
}
#: Those in which a checksum stands behind every item.
CHECKED = frozenset(("png", "ogg"))
