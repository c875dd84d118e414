"""The boot sector of FAT12, FAT16 and FAT32: Microsoft FAT specification 1.03, sections 3 and 4.

Little-endian. The kind follows from the number of clusters alone, as the specification says.
"""

from __future__ import annotations

import struct
from dataclasses import dataclass

from needlewright.core.errors import FormatError

BPB = struct.Struct("<11xHBHBHHBHHHII")
BPB32 = struct.Struct("<IHHIHH")  # at byte 36
MARK = b"\x55\xaa"
SECTORS = (512, 1024, 2048, 4096)
MAX_CLUSTERS = 0x0FFF_FFF5


@dataclass(frozen=True, slots=True)
class Boot:
    """The geometry; offsets and sizes in bytes. `root_cluster` is 0 where the root lies apart."""

    bits: int  # 12, 16 or 32
    cluster_size: int
    fat_offset: int
    fat_size: int
    fats: int
    root_offset: int
    root_size: int
    root_cluster: int
    data_offset: int
    clusters: int
    size: int
    serial: int
    label: str

    def offset(self, cluster: int) -> int:
        """Where cluster number `cluster` begins."""
        return self.data_offset + (cluster - 2) * self.cluster_size


def read_boot(head: bytes) -> Boot:
    """The geometry that the 512 bytes `head` state; FormatError where they make none."""
    if len(head) < 512 or head[510:512] != MARK:
        raise FormatError("no-boot-sector", offset=510)
    if head[0] not in (0xEB, 0xE9):
        raise FormatError("no-boot-jump", offset=0)
    (sector, per_cluster, reserved, fats, root_entries, small, media, fat16, _, _, _,
     large) = BPB.unpack_from(head)
    if sector not in SECTORS or per_cluster == 0 or per_cluster & (per_cluster - 1):
        raise FormatError("sector-or-cluster-size", offset=11)
    if not reserved or fats not in (1, 2, 3, 4) or (media < 0xF8 and media != 0xF0):
        raise FormatError("boot-fields-wrong", offset=14)
    fat32, _, _, root_cluster, _, _ = BPB32.unpack_from(head, 36)
    fat_sectors, total = fat16 or fat32, small or large
    if not fat_sectors or not total:
        raise FormatError("no-size", offset=32)
    root_sectors = -(-root_entries * 32 // sector)
    data_sector = reserved + fats * fat_sectors + root_sectors
    clusters = (total - data_sector) // per_cluster
    if data_sector >= total or not 0 < clusters <= MAX_CLUSTERS:
        raise FormatError("no-data-room", offset=32)
    # Only the count of clusters decides, but a FAT32 layout with few clusters exists in the world.
    bits = 32 if not fat16 else 12 if clusters < 4085 else 16
    clusters = min(clusters, fat_sectors * sector * 8 // bits - 2)
    if clusters <= 0:
        raise FormatError("no-data-room", offset=36)
    serial_at, label_at = (67, 71) if bits == 32 else (39, 43)
    signed = head[serial_at - 1] == 0x29
    label = head[label_at : label_at + 11].decode("cp437").strip() if signed else ""
    return Boot(
        bits, per_cluster * sector, reserved * sector, fat_sectors * sector, fats,
        (reserved + fats * fat_sectors) * sector, root_sectors * sector,
        root_cluster if bits == 32 else 0, data_sector * sector, clusters, total * sector,
        int.from_bytes(head[serial_at : serial_at + 4], "little") if signed else 0,
        "" if label == "NO NAME" else label)
