"""Coded pictures and what goes with them, found in the data without an index.

Each item is one HEVC picture as units with their lengths in front (ISO/IEC 14496-15, 8.3); the
first slice of a picture says that it is (ITU-T H.265, 7.3.6.1).
"""

from __future__ import annotations

import re

Span = tuple[int, int]

# A key picture's first slice: kinds 19, 20 and 21, layer 0, and the flag that it is the first.
FIRST = re.compile(rb"[\x26\x28\x2a]\x01[\x80-\xff]", re.DOTALL)
KEYS = (19, 20, 21)
BESIDE = frozenset((35, 36, 37, 38, 39, 40))  # delimiters, fillers and remarks
LEAST, LAST_KIND = 8, 40
EXIF = re.compile(rb"(?:\x00\x00\x00\x06Exif\x00\x00|\x00{4})(?:II\*\x00|MM\x00\*)", re.DOTALL)


def pictures(data: bytes, width: int) -> list[Span]:
    """(start, stop) of each coded picture, bytes; `width`: bytes of the lengths."""
    found: list[Span] = []
    at = 0
    while True:
        hit = FIRST.search(data, at + width)
        if hit is None:
            return found
        start = hit.start() - width
        stop = _stop(data, start, width)
        if stop is None or start < at:
            at = hit.start() + 1 - width
            continue
        found.append((start, stop))
        at = stop


def _unit(data: bytes, at: int, width: int) -> int | None:
    """Where the unit at `at` ends; None where none stands there."""
    if at + width + 3 > len(data):
        return None
    length = int.from_bytes(data[at : at + width], "big")
    stop = at + width + length
    head = data[at + width]
    fine = length >= LEAST and stop <= len(data) and not head & 0x81 and (
        head >> 1 <= LAST_KIND) and data[at + width + 1] & 0xF8 == 0 and data[at + width + 1] & 7
    return stop if fine else None


def may_begin(head: bytes, size: int, width: int) -> bool:
    """Whether a picture of `size` bytes may begin with `head`: a unit, or bytes that were cleared
    and so tell nothing. True where `width` is 0, and units have no lengths."""
    if not width or not head.strip(b"\0") or len(head) < width + 2:
        return True
    length = int.from_bytes(head[:width], "big")
    return LEAST <= length <= size - width and not head[width] & 0x81 and (
        head[width] >> 1 <= LAST_KIND) and head[width + 1] & 0xF8 == 0


def _stop(data: bytes, start: int, width: int) -> int | None:
    """Where the picture ends whose first slice is at `start`."""
    stop = _unit(data, start, width)
    end = stop
    while end is not None and (following := _unit(data, end, width)) is not None:
        kind, more = data[end + width] >> 1, data[end + width + 2] & 0x80
        if kind in BESIDE or (kind in KEYS and not more):
            end = following
            if kind in KEYS:
                stop = end
        else:
            break
    return stop


def exif(data: bytes, taken: list[Span]) -> Span | None:
    """(start, stop) of the block of Exif data between the coded pictures (23008-12, A.2.1); it ends
    where the next one begins."""
    for hit in EXIF.finditer(data):
        if any(a <= hit.start() < b for a, b in taken):
            continue
        behind = [a for a, _ in taken if a >= hit.end()]
        return hit.start(), min(behind, default=len(data))
    return None
