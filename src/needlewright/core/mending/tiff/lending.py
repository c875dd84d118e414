"""A TIFF whose directory is lost, as that of one which was cut off and had it behind: another
picture of the same device lends what it says of size and coding; where the strips lie is found by
decoding them one behind another (TIFF 6.0, sections 2, 8, 9, 13 and 15; Adobe's Deflate).
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Sequence

import numpy as np

from needlewright.core.errors import FormatError
from needlewright.core.formats import tiff_strips
from needlewright.core.kernels.tiff_lzw import lzw_end
from needlewright.core.mending import plain_rows
from needlewright.core.mending.base import Reference, Unmendable
from needlewright.core.mending.tiff import strips
from needlewright.core.structures.tiff import Directory, Tiff, open_tiff, read_all
from needlewright.core.structures.view import View

HEAD = 8
#: What says how the samples are coded and to be seen; nothing of when, where and by whom.
SAID = (0x100, 0x101, 0x102, 0x103, 0x106, 0x10A, 0x115, 0x116, 0x11C, 0x13D, 0x140, 0x142, 0x143,
        0x152, 0x153)
WITHIN = ((0x111, 0x117), (0x144, 0x145))
MOST_STRIPS = 1 << 16
MOST_BETWEEN = 16  # bytes between two strips
MOST_NEED, AT_ONCE = 1 << 26, 1 << 16  # bytes of a strip, and that are inflated at once
Span = tuple[int, int]


def lent(data: bytes, references: Sequence[Reference]) -> tuple[bytes, Reference]:
    """(the file with a directory, which of `references` lent it); strips that were not found lie
    beyond its end. Raises Unmendable."""
    tried = 0
    for reference in references:
        try:
            tiff = open_tiff(View(reference.source, 0, reference.source.size), 0)
            read_all(tiff)
        except FormatError:
            continue
        for directory in tiff.directories:
            tags = next((t for t in WITHIN if t[0] in directory.entries), None)
            if tags is None or tiff.large:
                continue
            tried += 1
            found = _strips(data, tiff, directory, tags)
            if found is not None:
                return _with_directory(data, tiff, directory, tags, found), reference
    raise Unmendable("index-lost" if not references else
                     "index-picture-other" if tried else "reference-damaged")


def _strips(data: bytes, tiff: Tiff, directory: Directory, tags: Span) -> list[Span] | None:
    """(start, bytes) of the strips that `data` has where the reference has its own; None where it
    has none."""
    starts, sizes = tiff.values(directory, tags[0]), tiff.values(directory, tags[1])
    coding = tiff.value(directory, tiff_strips.CODING) or strips.PLAIN
    row = tiff_strips.row_bytes(tiff, directory)
    if not 0 < len(starts) == len(sizes) <= MOST_STRIPS or coding not in strips.KNOWN or not row:
        return None
    if any(b < a + n or b > a + n + MOST_BETWEEN
           for a, n, b in zip(starts, sizes, starts[1:])) or starts[0] >= len(data):
        return None
    if coding == strips.PLAIN:
        bits = tiff.values(directory, tiff_strips.BITS) or [1]
        samples = np.frombuffer(data, np.uint8)[starts[0] :]
        return list(zip(starts, sizes)) if plain_rows.continue_each_other(
            samples, row, max(1, sum(bits) // 8)) else None
    found: list[Span] = []
    at = starts[0]
    for index in range(len(starts)):
        need = row * tiff_strips.rows_of(tiff, directory, index)
        if need > MOST_NEED:
            break
        for begin in range(at, min(len(data), at + MOST_BETWEEN + 1)):
            end = _end(data, begin, need, row, coding)
            if end > 0:
                found.append((begin, end - begin))
                at = end
                break
        else:
            break
    return found or None


def _end(data: bytes, start: int, need: int, row: int, coding: int) -> int:
    """The byte behind the strip of `need` samples that begins at `start`; -1 where none does."""
    if coding == strips.LZW:
        return lzw_end(np.frombuffer(data, np.uint8), start, need)
    if coding == strips.PACKBITS:
        return _runs_end(data, start, need, row)
    inflating = zlib.decompressobj()
    at, made, left = start, 0, b""
    try:
        while not inflating.eof and (left or at < len(data)) and made <= need:
            if not left:
                left, at = data[at : at + AT_ONCE], at + AT_ONCE
            made += len(inflating.decompress(left, AT_ONCE))
            left = inflating.unconsumed_tail
    except zlib.error:
        return -1
    whole = inflating.eof and made == need
    return min(at, len(data)) - len(inflating.unused_data) if whole else -1


def _runs_end(data: bytes, at: int, need: int, row: int) -> int:
    made = 0
    while made < need and at < len(data):
        count = data[at]
        length = count + 1 if count < 128 else 257 - count if count > 128 else 0
        if made % row + length > row:
            return -1  # no run goes on into the next row (section 9)
        made += length
        at += 1 + (count + 1 if count < 128 else 1 if count > 128 else 0)
    return at if made == need and at <= len(data) else -1


def _with_directory(data: bytes, tiff: Tiff, directory: Directory, tags: Span,
                    found: list[Span]) -> bytes:
    """The file with a directory in front of its strips, which lie that much farther on."""
    mark = "<" if tiff.order == "little" else ">"
    count = len(tiff.values(directory, tags[0]))
    entries = {tag: (directory.entries[tag][0], tiff.values(directory, tag)) for tag in SAID
               if tag in directory.entries and tiff.values(directory, tag)}
    entries[tags[0]], entries[tags[1]] = (4, [0] * count), (4, [0] * count)
    length = len(_written(entries, mark))
    beyond = (len(data) + length, 1)  # a strip that is not there
    places = [(start + length, size) for start, size in found]
    places += [beyond] * (count - len(places))
    entries[tags[0]] = 4, [start for start, _ in places]
    entries[tags[1]] = 4, [size for _, size in places]
    head = (b"II*\0" if mark == "<" else b"MM\0*") + struct.pack(mark + "I", HEAD)
    return head + _written(entries, mark) + data[HEAD:]


def _written(entries: dict[int, tuple[int, list[int]]], mark: str) -> bytes:
    """A directory at byte HEAD, with its values behind it, of an even length."""
    forms = {1: "B", 3: "H", 4: "I"}
    table = struct.pack(mark + "H", len(entries))
    behind = b""
    begin = HEAD + 2 + 12 * len(entries) + 4
    for tag, (kind, values) in sorted(entries.items()):
        form = forms.get(kind, "I")
        raw = struct.pack(f"{mark}{len(values)}{form}", *values)
        table += struct.pack(mark + "HHI", tag, kind if kind in forms else 4, len(values))
        if len(raw) <= 4:
            table += raw.ljust(4, b"\0")
        else:
            table += struct.pack(mark + "I", begin + len(behind))
            behind += raw + bytes(len(raw) & 1)
    return table + bytes(4) + behind
