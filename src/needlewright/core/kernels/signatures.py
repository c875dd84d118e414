"""Search for signatures, one pass for all formats: at sector boundaries, or at every byte.

At boundaries, a bitmap of two-byte values rejects nearly every sector with one load. At every byte,
three bytes of each signature are looked up at once (see `windows`), and what passes is compared in
full. Blank stretches are stepped over.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from numba import njit

from needlewright.core.kernels.steady import read_only
from needlewright.core.kernels.windows import (
    WINDOW_BYTES,
    WindowTable,
    build_windows,
    find_windows,
    mark_pairs,
)

MAX_MAGIC = 24  # bytes; longer signatures are cut, the format's own `accept` looks at the rest
ROOM = 1024  # matches that are made room for at first
MAX_AT = 64  # bytes from the file's start within which a signature must lie
COMMON = frozenset((0x00, 0xFF, 0x01, 0x20))  # values that media are full of
Bytes = npt.NDArray[np.uint8]
Longs = npt.NDArray[np.int64]


@dataclass(frozen=True, slots=True)
class Pattern:
    """A signature as the kernels see it; `mask` as long as `magic`, or empty for all bits."""

    magic: bytes
    at: int = 0
    mask: bytes = b""
    weak: bool = False


@dataclass(frozen=True, slots=True)
class SignatureTable:
    """Signatures as arrays: `magic`, `mask` uint8[s, 24]; `length`, `at`, `group` int64[s].

    `anchor` int64[g]: places, from a file's start, of the two bytes that each group is told by;
    `pairs` uint8[g, 8192]: bitmaps of their values. `windows`: for the search at every byte.
    """

    magic: Bytes
    mask: Bytes
    length: Longs
    at: Longs
    group: Longs
    anchor: Longs
    pairs: Bytes
    windows: WindowTable


def build_table(patterns: Sequence[Pattern]) -> SignatureTable:
    """A table of `patterns`; ValueError for one that is empty, too short or starts too far in."""
    count = len(patterns)
    magic, mask = np.zeros((count, MAX_MAGIC), np.uint8), np.zeros((count, MAX_MAGIC), np.uint8)
    length, at, place = (np.zeros(count, np.int64) for _ in range(3))
    for index, pattern in enumerate(patterns):
        text, bits = pattern.magic[:MAX_MAGIC], _mask(pattern)[:MAX_MAGIC]
        if len(text) < 2 or not 0 <= pattern.at <= MAX_AT or len(bits) != len(text):
            raise ValueError(f"signature {pattern.magic!r} at {pattern.at} cannot be looked for")
        mask[index, : len(text)] = np.frombuffer(bits, np.uint8)
        magic[index, : len(text)] = np.frombuffer(text, np.uint8)
        length[index], at[index] = len(text), pattern.at
        place[index] = pattern.at + _rarest(text, bits, 2)
    magic &= mask
    anchor = np.unique(place)
    group = np.searchsorted(anchor, place)
    pairs = np.zeros((len(anchor), 8192), np.uint8)
    for index in range(count):
        inside = place[index] - at[index]
        mark_pairs(pairs[group[index]], magic[index, inside : inside + 2],
                   mask[index, inside : inside + 2])
    return SignatureTable(magic, mask, length, at, group.astype(np.int64), anchor, pairs,
                          _windows(patterns, magic, mask))


def _mask(pattern: Pattern) -> bytes:
    return pattern.mask or b"\xff" * len(pattern.magic)


def _rarest(text: bytes, bits: bytes, width: int) -> int:
    """Where in a signature the `width` bytes stand that occur least on media."""
    def common(start: int) -> tuple[float, int]:
        cost = sum((8 - bits[i].bit_count()) * 2 + 4 * (text[i] in COMMON)
                   for i in range(start, start + width))
        return cost, start
    return min(range(len(text) - width + 1), key=common)


def _windows(patterns: Sequence[Pattern], magic: Bytes, mask: Bytes) -> WindowTable:
    """The three rarest bytes of every signature that is long enough not to be weak."""
    chosen, places, texts, masks = [], [], [], []
    for index, pattern in enumerate(patterns):
        text, bits = pattern.magic[:MAX_MAGIC], _mask(pattern)[:MAX_MAGIC]
        if pattern.weak or len(text) < WINDOW_BYTES:
            continue
        inside = _rarest(text, bits, WINDOW_BYTES)
        chosen.append(index)
        places.append(pattern.at + inside)
        texts.append(magic[index, inside : inside + WINDOW_BYTES])
        masks.append(mask[index, inside : inside + WINDOW_BYTES])
    return build_windows(chosen, places, texts, masks)


@njit(cache=True, nogil=True, inline="always")
def _same(data, start, s, magic, mask, length):
    i = 0
    while i < length[s] and data[start + i] & mask[s, i] == magic[s, i]:
        i += 1
    return i == length[s]


@njit(cache=True, nogil=True)
def _find(data, step, magic, mask, length, at, group, anchor, pairs, offsets, which):
    found = 0
    size = data.size
    for start in range(0, size, step):
        for g in range(anchor.size):
            place = start + anchor[g]
            if place + 2 > size:
                continue
            value = np.int64(data[place]) | (np.int64(data[place + 1]) << 8)
            if not (pairs[g, value >> 3] >> (value & 7)) & 1:
                continue
            for s in range(length.size):
                if group[s] != g or start + at[s] + length[s] > size:
                    continue
                if _same(data, start + at[s], s, magic, mask, length):
                    if found < offsets.size:
                        offsets[found] = start
                        which[found] = s
                    found += 1
    return found


@njit(cache=True, nogil=True)
def _confirm(data, hits, count, chosen, places, texts, masks, magic, mask, length, at, offsets,
             which):
    """The signatures that stand in full around the windows at `hits`."""
    found = 0
    for h in range(count):
        hit = hits[h]
        for w in range(chosen.size):
            same = True
            for i in range(3):
                if data[hit + i] & masks[w, i] != texts[w, i]:
                    same = False
                    break
            if not same:
                continue
            s = chosen[w]
            start = hit - places[w]
            if start < 0 or start + at[s] + length[s] > data.size:
                continue
            if _same(data, start + at[s], s, magic, mask, length):
                if found < offsets.size:
                    offsets[found] = start
                    which[found] = s
                found += 1
    return found


def _checked(data: Bytes) -> None:
    if data.dtype != np.uint8 or data.ndim != 1:
        raise TypeError(f"need uint8[n], got {data.dtype}{data.shape}")


def find_signatures(data: Bytes, step: int, table: SignatureTable) -> tuple[Longs, Longs]:
    """(offsets, signature indices) of all matches at multiples of `step` bytes in `data` uint8[n].

    Offsets are bytes from the start of `data`, ascending; equal offsets in table order.
    """
    data = read_only(data)
    _checked(data)
    room = ROOM
    while True:
        offsets, which = np.empty(room, np.int64), np.empty(room, np.int64)
        count = _find(data, step, table.magic, table.mask, table.length, table.at, table.group,
                      table.anchor, table.pairs, offsets, which)
        if count <= room:
            return _in_order(offsets[:count], which[:count])
        room = count  # dense matches: data made to be so


def find_everywhere(data: Bytes, table: SignatureTable,
                    portable: bool = False) -> tuple[Longs, Longs]:
    """As `find_signatures`, for every byte of `data`; weak signatures are not looked for.

    `portable` keeps to plain instructions where the processor knows wider ones.
    """
    data = read_only(data)
    _checked(data)
    windows = table.windows
    hits, count = find_windows(data, windows, portable)
    room = ROOM
    while True:
        offsets, which = np.empty(room, np.int64), np.empty(room, np.int64)
        found = _confirm(data, hits, count, windows.chosen, windows.places, windows.texts,
                         windows.masks, table.magic, table.mask, table.length, table.at, offsets,
                         which)
        if found <= room:
            return _in_order(offsets[:found], which[:found])
        room = found


def _in_order(offsets: Longs, which: Longs) -> tuple[Longs, Longs]:
    if offsets.size < 2:
        return offsets, which
    order = np.lexsort((which, offsets))
    return offsets[order], which[order]
