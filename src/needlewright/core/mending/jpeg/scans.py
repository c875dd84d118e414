"""The scans of a damaged progressive JPEG: their headers, tables and coded data (ITU-T T.81,
annexes B and G). What looks like a marker in damaged data is none: scans begin where a header
stands that makes sense, with the tables in front of it.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from needlewright.core.errors import FormatError
from needlewright.core.formats import jpeg_segments as seg
from needlewright.core.kernels.jpeg_bits import HuffmanTable
from needlewright.core.mending.jpeg.anatomy import Head

HEADER = re.compile(rb"\xff\xda\x00[\x08\x0a\x0c\x0e][\x01-\x04]", re.DOTALL)
TABLES = re.compile(rb"\xff[\xc4\xdd\xfe]")
NEAR = 4096  # bytes in front of a scan header in which its tables stand
MAX_SCANS = 256
TOP = 13  # the highest bit position that a scan may begin with


@dataclass(frozen=True, slots=True)
class Scan:
    """One scan. `data` uint8[n]: its coded bytes, without anything that looks like a marker other
    than RSTn where there are restart markers; `begin`: where they stand in the file; `restart`:
    MCUs between two of them, 0 for none."""

    header: seg.ScanHeader
    huffman: dict[tuple[int, int], HuffmanTable]
    restart: int
    begin: int
    data: npt.NDArray[np.uint8]

    @property
    def first(self) -> bool:
        return self.header.high == 0

    @property
    def dc(self) -> bool:
        return self.header.band[0] == 0


def scans_of(head: Head, stop: int) -> list[Scan]:
    """The scans of the file up to byte `stop`, in order. FormatError where they bring a table of
    quantisers of their own."""
    data = head.data
    assert head.scan is not None
    headers = head.headers
    found: list[Scan] = []
    header, begin = head.scan, head.begin
    for match in HEADER.finditer(data, begin, stop):
        at = match.start()
        if at < begin:
            continue
        tables = _tables_before(data, max(begin, at - NEAR), at)
        after = _with_tables(headers, data, tables)
        if after is None:
            continue
        size = int.from_bytes(data[at + 2 : at + 4], "big")
        try:
            following = seg.read_scan(after, data[at + 4 : at + 2 + size], at)
        except FormatError:
            continue
        if not _plausible(following, after):
            continue
        end = tables[0][0] if tables else at
        found.append(_scan(header, headers, begin, data[begin:end]))
        header, headers, begin = following, after, at + 2 + size
        if len(found) > MAX_SCANS:
            raise FormatError("too-many-segments", offset=at)
    found.append(_scan(header, headers, begin, data[begin:stop]))
    return found


def _plausible(header: seg.ScanHeader, headers: seg.Headers) -> bool:
    if header.low > TOP or (header.high and header.high != header.low + 1):
        return False
    if header.band[0] == 0 and header.high:
        return True  # refining DC takes no table
    return all(((0, m[1]) if header.band[0] == 0 else (1, m[2])) in headers.huffman
               for m in header.members)


def _tables_before(data: bytes, first: int, at: int) -> list[tuple[int, int]]:
    """(start, stop) of segments in a row that end just at `at`, as many as there are."""
    for match in TABLES.finditer(data, first, at):
        row, place = [], match.start()
        while place < at and TABLES.match(data, place):
            stop = place + 2 + int.from_bytes(data[place + 2 : place + 4], "big")
            row.append((place, stop))
            place = stop
        if place == at:
            return row
    return []


def _with_tables(headers: seg.Headers, data: bytes,
                 tables: list[tuple[int, int]]) -> seg.Headers | None:
    """The headers with more tables; None where they make no sense."""
    after = replace(headers, huffman=dict(headers.huffman))
    try:
        for start, stop in tables:
            seg.read_segment(after, data[start + 1], data[start + 4 : stop], start, 0)
    except (FormatError, IndexError):
        return None
    return after


def _scan(header: seg.ScanHeader, headers: seg.Headers, begin: int, data: bytes) -> Scan:
    coded = np.frombuffer(data, np.uint8).copy()
    marks = np.flatnonzero(coded[:-1] == 0xFF) if coded.size else np.zeros(0, np.int64)
    codes = coded[marks + 1]
    restarts = (codes >= 0xD0) & (codes <= 0xD7) & (headers.restart_interval > 0)
    false = marks[(codes != 0) & (codes != 0xFF) & ~restarts]
    coded[false + 1] = 0
    return Scan(header, headers.huffman, headers.restart_interval, begin, coded)
