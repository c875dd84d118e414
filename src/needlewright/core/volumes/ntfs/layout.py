"""The boot sector of NTFS, and how compressed runs are cut into units. Little-endian."""

from __future__ import annotations

import struct
from dataclasses import dataclass

from needlewright.core.errors import FormatError
from needlewright.core.volumes.base import Coded, CodedParts, cut

MAGIC = b"NTFS    "


@dataclass(frozen=True, slots=True)
class Boot:
    """The geometry; sizes in bytes."""

    cluster_size: int
    size: int
    table_cluster: int
    mirror_cluster: int
    record_size: int
    index_size: int
    serial: int


def read_boot(head: bytes) -> Boot:
    """The geometry of a boot sector; FormatError where it states none."""
    if len(head) < 512 or head[3:11] != MAGIC or head[510:512] != b"\x55\xaa":
        raise FormatError("no-ntfs-boot-sector", offset=3)
    sector, per_cluster = struct.unpack_from("<HB", head, 11)
    sectors, table, mirror, record, index, serial = struct.unpack_from("<QQQb3xb3xQ", head, 40)
    if per_cluster > 0x80:
        per_cluster = 1 << (256 - per_cluster)
    cluster = sector * per_cluster
    if sector not in (256, 512, 1024, 2048, 4096) or cluster & (cluster - 1) or not (
            512 <= cluster <= 2 << 20) or not sectors:
        raise FormatError("sector-or-cluster-size", offset=11)

    def size_of(value: int) -> int:
        return value * cluster if value > 0 else 1 << min(-value, 31)

    record_size, index_size = size_of(record), size_of(index)
    if not 512 <= record_size <= 65536 or not 512 <= index_size <= 1 << 20:
        raise FormatError("record-size", offset=64)
    return Boot(cluster, sectors * sector, table, mirror, record_size, index_size, serial)


def coded_units(runs: list[tuple[int | None, int]], size: int, unit: int,
                cluster: int) -> CodedParts:
    """Compressed runs by units: whole ones are plain, empty ones holes, others packed."""
    parts: list[Coded | tuple[int | None, int]] = []
    waiting: list[tuple[int | None, int]] = list(runs)
    left = size
    while waiting and left > 0:
        skipped = waiting[0][1] // unit if waiting[0][0] is None else 0
        if skipped > 1:  # a hole of many units is one
            waiting[0] = (None, waiting[0][1] - skipped * unit)
            if not waiting[0][1]:
                waiting.pop(0)
            parts.append((None, min(left, skipped * unit * cluster)))
            left -= skipped * unit * cluster
            continue
        inside: list[tuple[int | None, int]] = []
        room = unit
        while waiting and room:
            first, count = waiting[0]
            taken = min(count, room)
            inside.append((first, taken))
            room -= taken
            waiting[0] = (None if first is None else first + taken, count - taken)
            if count == taken:
                waiting.pop(0)
        held = [(c, n) for c, n in inside if c is not None]
        length = min(left, unit * cluster)
        if not held:
            parts.append((None, length))
        elif len(held) == len(inside):  # room is left free only where packing gained it
            parts += cut([(c * cluster, n * cluster) for c, n in held], length)
        else:
            parts.append(Coded(tuple((c * cluster, n * cluster) for c, n in held), length,
                               "lznt1", unit * cluster))
        left -= length
    return tuple(parts)
