"""The pages of a SQLite database (sqlite.org file format, sections 1.1 to 1.6): its header, what
a log or a journal puts over it, and which pages are free. Pages count from 1; numbers are
big-endian.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Mapping
from dataclasses import dataclass, field

from needlewright.core.databases.records import ENCODINGS, Encoding
from needlewright.core.errors import FormatError
from needlewright.core.sources.source import Source

MAGIC = b"SQLite format 3\0"
HEADER = 100
MIN_PAGE = 512
KEPT = 256  # pages in memory
LOCK_BYTE = 1 << 30  # whose page holds nothing (1.3)


@dataclass(slots=True)
class Header:
    """The database header. `usable`: bytes of a page without what is reserved; `stated`: pages,
    0 where that does not count; `trunk`, `free`: the first page of the free list and how many
    pages are in it; `moved`: pages say where they belong (auto-vacuum)."""

    page_bytes: int
    usable: int
    encoding: Encoding
    stated: int
    trunk: int
    free: int
    moved: bool


def read_header(data: bytes) -> Header:
    """From the first 100 bytes; FormatError where they are none of a database."""
    if len(data) < HEADER or data[:16] != MAGIC:
        raise FormatError("no-database", offset=0)
    size = int.from_bytes(data[16:18], "big")
    size = 65_536 if size == 1 else size
    if size < MIN_PAGE or size & (size - 1) or size - data[20] < 480:
        raise FormatError("header-makes-no-sense", offset=16)

    def word(at: int) -> int:
        return int.from_bytes(data[at : at + 4], "big")

    stated = word(28) if word(24) == word(92) else 0
    return Header(size, size - data[20], ENCODINGS.get(word(56), "utf-8"), stated, word(32),
                  word(36), word(52) != 0)


@dataclass(slots=True)
class Pages:
    """One state of a database. `over`: pages that a log or journal puts in place of those of the
    file; `size`: pages of this state, 0 for as many as the file has."""

    source: Source
    over: Mapping[int, bytes] = field(default_factory=dict)
    size: int = 0
    header: Header = field(init=False)
    count: int = field(init=False)
    _kept: OrderedDict[int, bytes] = field(init=False, default_factory=OrderedDict)

    def __post_init__(self) -> None:
        first = self.over.get(1) or self.source.read_at(0, min(HEADER, self.source.size))
        self.header = read_header(first)
        there = self.source.size // self.header.page_bytes
        self.count = max(self.size or min(self.header.stated, there) or there,
                         0 if self.size else max(self.over, default=0))

    def page(self, number: int) -> bytes:
        """All bytes of a page; FormatError where it is not there."""
        size = self.header.page_bytes
        at = (number - 1) * size
        if not 1 <= number <= self.count:
            raise FormatError("page-outside", offset=max(0, at))
        if number in self.over:
            return self.over[number]
        kept = self._kept.get(number)
        if kept is not None:
            self._kept.move_to_end(number)
            return kept
        data = self.source.read_at(at, size)
        if len(data) < size:
            raise FormatError("data-ends", offset=at + len(data))
        self._kept[number] = data
        if len(self._kept) > KEPT:
            self._kept.popitem(last=False)
        return data

    def free_pages(self) -> tuple[list[int], list[int], bool]:
        """(trunk pages, leaf pages of the free list, whether all of it could be read)."""
        trunks: list[int] = []
        leaves: list[int] = []
        number, seen = self.header.trunk, set[int]()
        most = self.header.usable // 4 - 2
        while number and number not in seen and 1 < number <= self.count:
            seen.add(number)
            data = self.page(number)
            trunks.append(number)
            count = int.from_bytes(data[4:8], "big")
            if count > most:
                return trunks, leaves, False
            for index in range(count):
                leaf = int.from_bytes(data[8 + 4 * index : 12 + 4 * index], "big")
                if not 1 < leaf <= self.count or leaf in seen:
                    return trunks, leaves, False
                seen.add(leaf)
                leaves.append(leaf)
            number = int.from_bytes(data[:4], "big")
        return trunks, leaves, number == 0

    def was_trunk(self, number: int) -> bool:
        """Whether a page looks like one of those that hold the free list: then its first bytes are
        no longer what they were before it was freed (1.5)."""
        data = self.page(number)[: self.header.usable]
        count = int.from_bytes(data[4:8], "big")
        if count > self.header.usable // 4 - 2:
            return False
        leaves = [int.from_bytes(data[at : at + 4], "big") for at in range(8, 8 + 4 * count, 4)]
        if not leaves:
            return any(data[8:])
        return len(set(leaves)) == count and all(1 < leaf <= self.count for leaf in leaves)

    def is_map(self, number: int) -> bool:
        """Whether a page is a pointer map or holds the lock byte (1.3, 1.8)."""
        if number == LOCK_BYTE // self.header.page_bytes + 1:
            return True
        return self.header.moved and number >= 2 and (number - 2) % (
            self.header.usable // 5 + 1) == 0
