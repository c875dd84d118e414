"""The log of XFS: names and inodes as they were, in what transactions wrote down.

Source: the kernel's fs/xfs/libxfs/xfs_log_format.h. Records and operations are big-endian,
items are in the order of the machine that wrote them: little-endian is read. Every 512 bytes begin
with the number of the log's round; what stood there is in the record's head. Operations that
straddle records are passed over.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass

from needlewright.core.sources.source import Source

RECORD = b"\xfe\xed\xba\xbe"
SECTOR = 512
BLOCK = 1 << 20  # bytes that are looked through at once
OPERATION = struct.Struct(">IIBBH")
BUFFER, INODE = 0x123C, 0x123B
PARTIAL = 0x04 | 0x08
CHUNK = 128
MAX_LOG = 2 << 30  # bytes
MAX_RECORD = 4 << 20
DATA, EXTENTS = 0x002, 0x004  # of an inode item's fields


@dataclass(frozen=True, slots=True)
class OldInode:
    """An inode as a transaction wrote it. `extents`: its data fork's records as on the medium."""

    sequence: int
    number: int
    core: bytes
    extents: bytes
    short: bytes  # the entries of a small folder


@dataclass(frozen=True, slots=True)
class OldBlock:
    """A changed stretch of a block: where it lies on the volume, and its bytes."""

    sequence: int
    block_at: int
    offset: int
    data: bytes


def read_log(volume: Source, start: int, length: int) -> Iterator[OldInode | OldBlock]:
    """What the log between two bytes still tells, in the order in which it stands there."""
    for at in _records(volume, start, start + min(length, MAX_LOG)):
        head = volume.read_at(at, SECTOR)
        if len(head) < SECTOR:
            return
        size, sequence = struct.unpack_from(">IQ", head, 12)
        room = struct.unpack_from(">I", head, 320)[0]
        heads = max(1, min(8, -(-room // 32768)))
        if not 0 < size <= MAX_RECORD:
            continue
        raw = bytearray(volume.read_at(at + heads * SECTOR, size))
        _restore(raw, head, volume, at, heads)
        operations, _, _ = struct.unpack_from(">III", head, 40)
        yield from _items(bytes(raw), operations, sequence)


def _records(volume: Source, start: int, stop: int) -> Iterator[int]:
    """The sectors in which records begin."""
    for base in range(start, stop, BLOCK):
        block = volume.read_at(base, min(BLOCK, stop - base))
        at = block.find(RECORD)
        while at >= 0:
            if at % SECTOR == 0:
                yield base + at
            at = block.find(RECORD, at + 1)


def _restore(raw: bytearray, head: bytes, volume: Source, at: int, heads: int) -> None:
    """Put back the first four bytes of every sector."""
    words = head[44:300]
    for index in range(1, heads):
        words += volume.read_at(at + index * SECTOR, SECTOR)[4:260]
    for sector in range(0, len(raw), SECTOR):
        place = sector // SECTOR * 4
        if place + 4 <= len(words) and sector + 4 <= len(raw):
            raw[sector : sector + 4] = words[place : place + 4]


def _items(raw: bytes, count: int, sequence: int) -> Iterator[OldInode | OldBlock]:
    """The items of a record: a head that says how many regions follow, and those."""
    regions: list[bytes] = []
    at = 0
    for _ in range(min(count, len(raw) // 12)):
        if at + 12 > len(raw):
            break
        _, length, _, flags, _ = OPERATION.unpack_from(raw, at)
        at += 12
        if at + length > len(raw):
            break
        if length and not flags & PARTIAL:
            regions.append(raw[at : at + length])
        at += length
    index = 0
    while index < len(regions):
        head = regions[index]
        if len(head) < 24:
            index += 1
            continue
        kind, parts = struct.unpack_from("<HH", head)
        following = regions[index + 1 : index + parts]
        if kind == BUFFER and 1 <= parts <= 64:
            yield from _buffer(head, following, sequence)
            index += max(1, parts)
        elif kind == INODE and 1 <= parts <= 5 and len(head) >= 56:
            yield from _inode(head, following, sequence)
            index += max(1, parts)
        else:
            index += 1


def _buffer(head: bytes, following: list[bytes], sequence: int) -> Iterator[OldBlock]:
    sector = struct.unpack_from("<q", head, 8)[0]
    words = struct.unpack_from("<I", head, 16)[0]
    if sector < 0 or 20 + 4 * words > len(head):
        return
    bits = int.from_bytes(head[20 : 20 + 4 * words], "little")
    chunk = 0
    for data in following:
        while chunk < 32 * words and not bits >> chunk & 1:
            chunk += 1
        yield OldBlock(sequence, sector * SECTOR, chunk * CHUNK, data)
        chunk += -(-len(data) // CHUNK)


def _inode(head: bytes, following: list[bytes], sequence: int) -> Iterator[OldInode]:
    fields = struct.unpack_from("<I", head, 4)[0]
    number = struct.unpack_from("<Q", head, 16)[0]
    core = following[0] if following else b""
    fork = following[1] if len(following) > 1 else b""
    if len(core) < 96 or core[:2] != b"NI":
        return
    yield OldInode(sequence, number, core, fork if fields & EXTENTS else b"",
                   fork if fields & DATA else b"")
