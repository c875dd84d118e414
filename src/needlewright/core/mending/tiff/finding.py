"""The first directory of a TIFF whose header is lost, found by what directories must hold (TIFF
6.0, sections 2 and 8): entries in order of their tags, a width, a height, and where the picture
lies.
"""
from __future__ import annotations

import struct
from dataclasses import dataclass

from needlewright.core.sources.source import Source

BLOCK = 1 << 20
SPAN = 2 + 12 * 200  # bytes of a directory that are looked at
MOST_ENTRIES = 200
TYPES = range(1, 14)
WIDTH, HEIGHT, STRIPS, TILES, MAKE, WITHIN = 0x100, 0x101, 0x111, 0x144, 0x10F, 0x14A
BEFORE = 2  # entries that may stand in front of the width: kinds of subfile
MOST_FOUND = 64
SIDE = 1 << 17


@dataclass(frozen=True, slots=True)
class Place:
    """A directory at `at`, in byte order `order` ('<' or '>'), of a picture of `area` pixels.
    `main`: it says which camera made it, or has others within."""

    at: int
    order: str
    area: int
    main: bool


def directories(source: Source) -> list[Place]:
    """What looks like directories of pictures, the likeliest first one first."""
    found: list[Place] = []
    for at in range(0, source.size, BLOCK):
        block = source.read_at(at, BLOCK + SPAN)
        for order, mark in (("<", b"\0\1"), (">", b"\1\0")):
            place = block.find(mark)
            while 0 <= place < BLOCK and len(found) < MOST_FOUND:
                if _is_entry(block, place, order):
                    for before in range(BEFORE + 1):
                        start = place - 2 - 12 * before
                        one = _directory(block, start, order, at, source.size) if (
                            start >= 0) else None
                        if one is not None:
                            found.append(one)
                            break
                place = block.find(mark, place + 1)
    return sorted(found, key=lambda p: (not p.main, -p.area, p.at))


def _is_entry(block: bytes, at: int, order: str) -> bool:
    if at + 12 > len(block):
        return False
    tag, kind, count = struct.unpack_from(order + "HHI", block, at)
    return tag == WIDTH and kind in (3, 4) and count == 1


def _directory(block: bytes, start: int, order: str, at: int, size: int) -> Place | None:
    """The directory at `start` of `block`, which begins at byte `at`; None where none is."""
    (count,) = struct.unpack_from(order + "H", block, start)
    if not 4 <= count <= MOST_ENTRIES or start + 2 + 12 * count + 4 > len(block):
        return None
    last, values = -1, {}
    for index in range(count):
        tag, kind, number, value = struct.unpack_from(order + "HHII", block,
                                                      start + 2 + 12 * index)
        if tag <= last or kind not in TYPES:
            return None
        last = tag
        short = value >> 16 if order == ">" else value & 0xFFFF
        values[tag] = short if kind == 3 and number == 1 else value
    area = values.get(WIDTH, 0) * values.get(HEIGHT, 0)
    sides = 0 < values.get(WIDTH, 0) < SIDE and 0 < values.get(HEIGHT, 0) < SIDE
    (following,) = struct.unpack_from(order + "I", block, start + 2 + 12 * count)
    if not sides or following >= size or not ({STRIPS, TILES, WITHIN} & values.keys()):
        return None
    return Place(at + start, order, area, bool({MAKE, WITHIN} & values.keys()))
