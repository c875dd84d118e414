"""Directory entry sets of exFAT: revision 1.00 of its specification, sections 6 and 7.

Little-endian, 32 bytes an entry. A set is a file entry, a stream extension and the name's pieces;
a checksum in the first covers all. Removing clears the in-use bit of every type and nothing else.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from needlewright.core.kernels.checksums import entry_set_sum
from needlewright.core.volumes.base import Times
from needlewright.core.volumes.stamps import Stamp, dos

FILE, STREAM, NAME = 0x85, 0xC0, 0xC1
BITMAP, LABEL = 0x81, 0x83
IN_USE = 0x80
FOLDER = 0x10
NO_FAT_CHAIN = 0x02
MAX_SECONDARY = 18
HEAD = struct.Struct("<BBHH2xIIIBBBBB")
BODY = struct.Struct("<BBxBHxxQ4xIQ")


@dataclass(slots=True)
class EntrySet:
    """One file or folder. `at`: its byte in the directory. Sizes in bytes."""

    at: int
    removed: bool
    name: str
    attributes: int
    contiguous: bool  # its clusters follow each other and the table says nothing of them
    cluster: int
    size: int
    valid: int
    sound: bool  # the checksum is right, with the in-use bits restored
    stamps: tuple[int, ...]
    behind: bool = False

    @property
    def folder(self) -> bool:
        return bool(self.attributes & FOLDER)

    def times(self) -> Times:
        created, modified, accessed, created_10, modified_10, zone_c, zone_m, zone_a = self.stamps
        return Times(_stamp(created, created_10, zone_c), _stamp(modified, modified_10, zone_m),
                     _stamp(accessed, 0, zone_a))


def _stamp(value: int, tens: int, zone: int) -> Stamp | None:
    """A time with its zone: 7 bits of quarter hours, valid where the highest bit is set."""
    east = None
    if zone & 0x80:
        quarters = zone & 0x7F
        east = (quarters - 0x80 if quarters & 0x40 else quarters) * 15
    return dos(value >> 16, value & 0xFFFF, tens, east)


def entry_sets(data: bytes, removed_only: bool = False) -> Iterator[EntrySet]:
    """The sets in a directory's bytes, in order, removed ones and those behind its end too."""
    count = len(data) // 32
    table = np.frombuffer(data, np.uint8, count * 32).reshape(-1, 32)
    kinds = table[:, 0]
    ends = np.flatnonzero(kinds == 0)
    end = int(ends[0]) if ends.size else count
    primary = np.flatnonzero((kinds & 0x7F) == FILE & 0x7F)
    for index in primary.tolist():
        removed = not kinds[index] & IN_USE
        if removed_only and not removed and index < end:
            continue
        found = _entry_set(data, index, count, removed)
        if found is not None:
            found.behind = index > end
            if not found.behind or found.sound:
                yield found


def _entry_set(data: bytes, index: int, count: int, removed: bool) -> EntrySet | None:
    at = 32 * index
    (_, secondary, checksum, attributes, created, modified, accessed, c10, m10, zc, zm,
     za) = HEAD.unpack_from(data, at)
    if not 2 <= secondary <= MAX_SECONDARY or index + secondary >= count:
        return None
    if data[at + 32] & 0x7F != STREAM & 0x7F or (data[at + 32] & IN_USE) != (data[at] & IN_USE):
        return None
    _, flags, length, _, valid, cluster, size = BODY.unpack_from(data, at + 32)
    raw = bytearray(data[at : at + 32 * (secondary + 1)])
    for place in range(0, len(raw), 32):
        raw[place] |= IN_USE
    pieces = [bytes(raw[p + 2 : p + 32]) for p in range(64, len(raw), 32) if raw[p] == NAME]
    name = b"".join(pieces)[: 2 * length].decode("utf-16-le", "replace")
    if not name or not length:
        return None
    return EntrySet(at, removed, name, attributes, bool(flags & NO_FAT_CHAIN), cluster, size,
                    min(valid, size), entry_set_sum(raw) == checksum,
                    (created, modified, accessed, c10, m10, zc, zm, za))
