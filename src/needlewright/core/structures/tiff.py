"""TIFF directories (TIFF 6.0 section 2; BigTIFF; TIFF/EP ISO 12234-2): where everything lies.

Either byte order. A walk visits every directory that another refers to and takes note of each span
that an entry points to, so that the end is the furthest byte that anything refers to.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

from needlewright.core.errors import FormatError
from needlewright.core.structures.view import View

MAX_DIRECTORIES = 512
MAX_ENTRIES = 4096
MAX_SPANS = 2_000_000
MAX_VALUES_BYTES = 1 << 26
TYPE_BYTES = {1: 1, 2: 1, 3: 2, 4: 4, 5: 8, 6: 1, 7: 1, 8: 2, 9: 4, 10: 8, 11: 4, 12: 8, 13: 4,
              16: 8, 17: 8, 18: 8}
INTEGERS = {1: 1, 3: 2, 4: 4, 13: 4, 16: 8, 18: 8}
POINTERS = (0x014A, 0x8769, 0x8825, 0xA005, 0x0190)  # SubIFDs, EXIF, GPS, interoperability, global
PAIRS = ((0x0111, 0x0117), (0x0144, 0x0145), (0x0201, 0x0202))  # offsets and their byte counts
MAKER_NOTE = 0x927C
ORDERS = {
    b"II*\0": ("little", False), b"MM\0*": ("big", False), b"II+\0": ("little", True),
    b"MM\0+": ("big", True), b"IIRO": ("little", False), b"IIRS": ("little", False),
    b"MMOR": ("big", False), b"IIU\0": ("little", False)}


@dataclass(slots=True)
class Directory:
    """One directory's entries: tag -> (type, count, absolute place of the values)."""

    at: int
    entries: dict[int, tuple[int, int, int]] = field(default_factory=dict)


@dataclass(slots=True)
class Tiff:
    """A TIFF structure whose offsets count from `origin`."""

    view: View
    origin: int
    order: str = "little"
    large: bool = False
    nested: bool = False
    directories: list[Directory] = field(default_factory=list)
    furthest: int = 0
    spans: list[tuple[int, int]] = field(default_factory=list)  # picture data

    def number(self, at: int, size: int) -> int:
        raw = self.view.take(at, size)
        return int.from_bytes(raw, "little" if self.order == "little" else "big")

    def values(self, directory: Directory, tag: int) -> list[int]:
        """The integers of an entry; empty where it is absent or of another type."""
        kind, count, where = directory.entries.get(tag, (0, 0, 0))
        size = INTEGERS.get(kind, 0)
        if not size or size * count > MAX_VALUES_BYTES:
            return []
        raw = self.view.take(where, size * count)
        order = "little" if self.order == "little" else "big"
        return [int.from_bytes(raw[i : i + size], order)  # type: ignore[arg-type]
                for i in range(0, len(raw), size)]

    def value(self, directory: Directory, tag: int) -> int | None:
        found = self.values(directory, tag)
        return found[0] if found else None

    def reach(self, stop: int) -> None:
        self.furthest = max(self.furthest, stop)


def open_tiff(view: View, origin: int, nested: bool = False) -> Tiff:
    """The structure at `origin`; FormatError if no byte-order mark stands there."""
    mark = view.take(origin, 4)
    if mark not in ORDERS:
        raise FormatError("no-byte-order-mark", offset=origin)
    order, large = ORDERS[mark]
    return Tiff(view, origin, order, large, nested, furthest=origin + 8)


def read_all(tiff: Tiff) -> None:
    """Visit every directory; FormatError at the first that is damaged, what was read is kept."""
    wide = 8 if tiff.large else 4
    first = tiff.number(tiff.origin + (8 if tiff.large else 4), wide)
    waiting, seen = [first], set[int]()
    while waiting:
        offset = waiting.pop(0)
        if offset == 0 or offset in seen:
            continue
        seen.add(offset)
        if len(seen) > MAX_DIRECTORIES:
            raise FormatError("too-many-directories", offset=tiff.origin + offset)
        directory, following = _directory(tiff, tiff.origin + offset)
        tiff.directories.append(directory)
        waiting.append(following)
        for tag in POINTERS:
            waiting += tiff.values(directory, tag)[:64]
        _note_data(tiff, directory)
        _maker_note(tiff, directory)


def _directory(tiff: Tiff, at: int) -> tuple[Directory, int]:
    """(the directory at `at`, offset of the next one)."""
    count_bytes, entry_bytes, inline = (8, 20, 8) if tiff.large else (2, 12, 4)
    count = tiff.number(at, count_bytes)
    if not 1 <= count <= MAX_ENTRIES:
        raise FormatError("no-directory", offset=at)
    directory, place, known = Directory(at), at + count_bytes, 0
    for _ in range(count):
        tag, kind = tiff.number(place, 2), tiff.number(place + 2, 2)
        number = tiff.number(place + 4, inline)
        size = TYPE_BYTES.get(kind, 0) * number
        known += kind in TYPE_BYTES
        where = place + 4 + inline
        if size > inline:
            where = tiff.origin + tiff.number(where, inline)
            if where + size > tiff.view.stop:
                raise FormatError("entry-past-end", offset=tiff.view.stop)
            tiff.reach(where + size)
        if kind in TYPE_BYTES:
            directory.entries.setdefault(tag, (kind, number, where))
        place += entry_bytes
    if known * 2 < count:
        raise FormatError("no-directory", offset=at)
    following = tiff.number(place, inline)
    tiff.reach(place + inline)
    return directory, following


def _note_data(tiff: Tiff, directory: Directory) -> None:
    for at_tag, size_tag in PAIRS:
        starts, sizes = tiff.values(directory, at_tag), tiff.values(directory, size_tag)
        if not starts or len(starts) != len(sizes):
            continue
        for start, size in zip(starts, sizes):
            if len(tiff.spans) >= MAX_SPANS:
                raise FormatError("too-many-picture-pieces", offset=directory.at)
            tiff.spans.append((tiff.origin + start, tiff.origin + start + size))
            tiff.reach(tiff.origin + start + size)


def _maker_note(tiff: Tiff, directory: Directory) -> None:
    """Follow a maker note that holds a TIFF structure of its own."""
    kind, size, where = directory.entries.get(MAKER_NOTE, (0, 0, 0))
    if not kind or size < 32 or tiff.nested:
        return
    head = tiff.view.peek(where, 32)
    for mark in (b"II*\0", b"MM\0*"):
        at = head.find(mark)
        if at >= 0:
            inner = open_tiff(tiff.view, where + at, nested=True)
            try:
                read_all(inner)
            except FormatError:
                return  # a private structure that is not what it looked like
            tiff.reach(inner.furthest)
            tiff.spans += inner.spans
            return


def padded_end(tiff: Tiff) -> int:
    """The end of all, with the padding of writers that begin every page of a file anew.

    They write each page as if it were a file of its own, its byte-order mark included, padded to
    16 bytes; nothing refers to the padding behind the last.
    """
    end = tiff.furthest
    marks = [tiff.view.peek(d.at - 8, 4) for d in tiff.directories[1:] if d.at >= 8 + tiff.origin]
    padding = -(end - tiff.origin) % 16
    if marks and all(mark in ORDERS for mark in marks) and (
            tiff.view.peek(end, padding) == bytes(padding)):
        return end + padding
    return end


def previews(tiff: Tiff) -> Iterator[tuple[int, int]]:
    """Absolute spans of all embedded JPEG pictures."""
    for start, stop in tiff.spans:
        if stop - start > 128 and tiff.view.peek(start, 3) == b"\xff\xd8\xff":
            yield start, stop
