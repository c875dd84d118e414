"""The DOS partition table: four entries at byte 446 of sector 0, chained extended partitions.

Little-endian; LBA fields count sectors of the medium (512 bytes unless a table fits none but 4096).
An entry of type 0xEE says that a GPT stands behind it. Not read: CHS fields.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator

from needlewright.core.errors import SourceError
from needlewright.core.sources.source import Source, Span
from needlewright.core.volumes.base import Problem
from needlewright.core.volumes.registry import register_table
from needlewright.core.volumes.tables.base import Partition, Read, Table

ENTRY = struct.Struct("<B3sB3sII")  # status, CHS, type, CHS, first sector, sectors
ENTRIES_AT = 446
MARK = b"\x55\xaa"
EXTENDED = (0x05, 0x0F, 0x85)
PROTECTIVE = 0xEE
MAX_LOGICAL = 128  # links of a chain of extended partitions
KINDS = {
    0x01: "fat12", 0x04: "fat16", 0x06: "fat16", 0x0E: "fat16", 0x0B: "fat32", 0x0C: "fat32",
    0x07: "ntfs or exfat", 0x82: "swap", 0x83: "linux", 0x8E: "lvm", 0xAF: "hfsplus", 0xFD: "raid",
    0xEF: "efi",
}


def read(source: Source) -> Read | None:
    """The partitions that sector 0 and its chain of extended partitions name."""
    for sector in (source.sector_size, 4096):
        found = _read(source, sector)
        if found is not None and found.partitions:
            return found
    return None


def _entries(source: Source, at: int) -> list[tuple[int, int, int, int]] | None:
    """(status, type, first sector, sectors) of the four entries of the sector at byte `at`."""
    try:
        head = source.read_at(at, 512)
    except SourceError:
        return None
    if len(head) < 512 or head[510:] != MARK:
        return None
    found = []
    for index in range(4):
        status, _, kind, _, first, count = ENTRY.unpack_from(head, ENTRIES_AT + 16 * index)
        found.append((status, kind, first, count))
    return found


def _read(source: Source, sector: int) -> Read | None:
    entries = _entries(source, 0)
    if entries is None or any(status not in (0, 0x80) for status, *_ in entries):
        return None  # a boot sector of a file system ends with the same mark
    problems: list[Problem] = []
    found: list[Partition] = []
    for index, (_, kind, first, count) in enumerate(entries):
        if kind in (0, PROTECTIVE) or not count or not first:
            continue
        if kind in EXTENDED:
            found += _logical(source, first, sector, problems)
            continue
        span = _span(source, first, count, sector, ENTRIES_AT + 16 * index, problems)
        if span is not None:
            found.append(Partition(span, KINDS.get(kind, f"type {kind:#04x}")))
    return Read(tuple(found), tuple(problems))


def _logical(source: Source, base: int, sector: int, problems: list[Problem]) -> Iterator[
        Partition]:
    """The partitions inside the extended one at sector `base`."""
    at, seen = base, set()
    for _ in range(MAX_LOGICAL):
        if at in seen:
            problems.append(Problem("table-loop", at * sector))
            return
        seen.add(at)
        entries = _entries(source, at * sector)
        if entries is None:
            problems.append(Problem("table-chain-broken", at * sector))
            return
        onward = None
        for _, kind, first, count in entries[:2]:
            if kind in EXTENDED:
                onward = base + first
            elif kind and count:
                span = _span(source, at + first, count, sector, at * sector, problems)
                if span is not None:
                    yield Partition(span, KINDS.get(kind, f"type {kind:#04x}"))
        if onward is None:
            return
        at = onward
    problems.append(Problem("table-loop", at * sector))


def _span(source: Source, first: int, count: int, sector: int, at: int,
          problems: list[Problem]) -> Span | None:
    start, stop = first * sector, (first + count) * sector
    if start >= source.size:
        problems.append(Problem("partition-outside", at, {"start": start}))
        return None
    if stop > source.size:
        problems.append(Problem("partition-cut", at, {"stop": stop, "size": source.size}))
    return Span(start, min(stop, source.size))


register_table(Table("mbr", order=20, read=read))
