"""The GUID partition table: UEFI specification 2.10, section 5.3. Little-endian.

The header stands in sector 1, its copy in the last one; each carries a CRC-32 of itself and of its
entries. Where the first does not hold, the copy is read, and that is told.
"""

from __future__ import annotations

import struct
import uuid
import zlib

from needlewright.core.errors import SourceError
from needlewright.core.sources.source import Source, Span
from needlewright.core.volumes.base import Problem
from needlewright.core.volumes.registry import register_table
from needlewright.core.volumes.tables.base import Partition, Read, Table

HEADER = struct.Struct("<8sIII4xQQ16x16sQIII")
MAGIC = b"EFI PART"
MAX_ENTRIES = 1024
MAX_ENTRY = 4096  # bytes
KINDS = {
    "ebd0a0a2-b9e5-4433-87c0-68b6b72699c7": "basic data", "0fc63daf-8483-4772-8e79-3d69d8477de4":
    "linux", "c12a7328-f81f-11d2-ba4b-00a0c93ec93b": "efi", "48465300-0000-11aa-aa11-00306543ecac":
    "hfsplus", "7c3457ef-0000-11aa-aa11-00306543ecac": "apfs",
    "0657fd6d-a4ab-43c4-84e5-0933c84b4f4f": "swap", "e6d6d379-f507-44c2-a23c-238f2a3df928": "lvm",
    "a19d880f-05fc-4d3b-a006-743f0f84911e": "raid",
}


def read(source: Source) -> Read | None:
    """The partitions of the table, from its copy where the first is damaged."""
    for sector in (source.sector_size, 4096):
        first = _read_at(source, sector, sector)
        if isinstance(first, Read):
            return first
        copy = _read_at(source, source.size // sector * sector - sector, sector)
        if isinstance(copy, Read):
            problem = first or Problem("table-first-missing", sector)
            return Read(copy.partitions, (problem, *copy.problems))
        if isinstance(first, Problem):
            return Read((), (first,))
    return None


def _read_at(source: Source, at: int, sector: int) -> Read | Problem | None:
    """The table whose header is at byte `at`; a Problem where it is one, but damaged."""
    try:
        block = source.read_at(at, sector)
    except SourceError:
        return Problem("table-unreadable", at)
    if len(block) < HEADER.size or not block.startswith(MAGIC):
        return None
    (_, _, length, crc, _, _, _, entries_at, count, width, entries_crc) = HEADER.unpack_from(block)
    if not HEADER.size <= length <= sector or not 0 < count <= MAX_ENTRIES or (
            not 128 <= width <= MAX_ENTRY):
        return Problem("table-header-wrong", at)
    plain = block[:16] + bytes(4) + block[20:length]
    if zlib.crc32(plain) != crc:
        return Problem("table-header-wrong", at)
    try:
        entries = source.read_at(entries_at * sector, count * width)
    except SourceError:
        return Problem("table-unreadable", entries_at * sector)
    if len(entries) < count * width:
        return Problem("table-entries-wrong", entries_at * sector)
    if zlib.crc32(entries) != entries_crc:
        return Problem("table-entries-wrong", entries_at * sector)
    return _partitions(source, entries, width, sector, at)


def _partitions(source: Source, entries: bytes, width: int, sector: int, at: int) -> Read:
    found: list[Partition] = []
    problems: list[Problem] = []
    for index in range(0, len(entries), width):
        kind, _, first, last, _, name = struct.unpack_from("<16s16sQQQ72s", entries, index)
        if kind == bytes(16) or last < first:
            continue
        start, stop = first * sector, (last + 1) * sector
        if start >= source.size:
            problems.append(Problem("partition-outside", at, {"start": start}))
            continue
        if stop > source.size:
            problems.append(Problem("partition-cut", at, {"stop": stop, "size": source.size}))
        told = str(uuid.UUID(bytes_le=kind))
        label = name.decode("utf-16-le", "replace").split("\0", 1)[0]
        found.append(Partition(Span(start, min(stop, source.size)),
                               KINDS.get(told, f"type {told}"), label))
    return Read(tuple(found), tuple(problems))


register_table(Table("gpt", order=10, read=read))
