"""Writes a FAT32 volume with an MBR, as a camera and a computer would leave it.

Sources: Microsoft's FAT specification (version 1.03) for the boot sector, FSInfo, FAT and directory
entries; long names as in its section 7. Removing does what drivers do: 0xE5 into the first byte of
every entry of the name, zeros into the chain, nothing into the data.
"""

from __future__ import annotations

import struct
from dataclasses import dataclass, field
from datetime import datetime
from typing import BinaryIO

SECTOR = 512
PARTITION_SECTOR = 8192
RESERVED_SECTORS = 32
FATS = 2
END_OF_CHAIN = 0x0FFF_FFFF
ENTRY = 32
LETTERS = set("ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789!#$%&'()-@^_`{}~")


@dataclass(slots=True)
class Entry:
    """A file or folder on the volume. `entry_at`: absolute offset and count of its 32-byte
    entries, once they are written."""

    name: str
    first_cluster: int
    size: int
    modified: datetime
    folder: bool = False
    runs: tuple[tuple[int, int], ...] = ()  # (first cluster, how many) in file order
    children: list[Entry] = field(default_factory=list)
    removed: bool = False


def _short_name(name: str, taken: set[bytes]) -> tuple[bytes, bool]:
    """(11-byte short name, whether a long name is needed beside it)."""
    stem, _, suffix = name.rpartition(".") if "." in name else (name, "", "")
    plain_stem = "".join(c for c in stem.upper() if c in LETTERS)
    plain_suffix = "".join(c for c in suffix.upper() if c in LETTERS)[:3]
    fits = (plain_stem, plain_suffix) == (stem, suffix) and len(stem) <= 8 and len(suffix) <= 3
    short = f"{plain_stem[:8]:<8}{plain_suffix:<3}".encode("ascii")
    number = 0
    while not fits or short in taken:
        number += 1
        tail = f"~{number}"
        short = f"{plain_stem[: 8 - len(tail)] + tail:<8}{plain_suffix:<3}".encode("ascii")
        if short not in taken:
            break
    taken.add(short)
    return short, not fits


def _checksum(short: bytes) -> int:
    value = 0
    for byte in short:
        value = ((value & 1) << 7) + (value >> 1) + byte & 0xFF
    return value


def _long_entries(name: str, short: bytes) -> list[bytes]:
    units = name.encode("utf-16-le")
    padded = units + (b"\0\0" if len(units) % 26 else b"")
    padded += b"\xff" * (-len(padded) % 26)
    pieces = [padded[i : i + 26] for i in range(0, len(padded), 26)]
    total, entries = _checksum(short), []
    for index, piece in enumerate(pieces, 1):
        order = index | (0x40 if index == len(pieces) else 0)
        entries.append(
            struct.pack("<B10sBBB12sH4s", order, piece[:10], 0x0F, 0, total, piece[10:22], 0,
                        piece[22:26]))
    return entries[::-1]


def _stamp(when: datetime) -> tuple[int, int]:
    """(time, date) as FAT holds them: two-second grain, no zone."""
    clock = when.hour << 11 | when.minute << 5 | when.second // 2
    return clock, (when.year - 1980) << 9 | when.month << 5 | when.day


def _entry(short: bytes, attributes: int, cluster: int, size: int, when: datetime) -> bytes:
    clock, date = _stamp(when)
    return struct.pack(
        "<11sBBBHHHHHHHI", short, attributes, 0, 0, clock, date, date, cluster >> 16, clock, date,
        cluster & 0xFFFF, size)


class Fat32Volume:
    """A volume in the making, in `out` (a file of `image_size` bytes, sparse where untouched)."""

    def __init__(self, out: BinaryIO, image_size: int, sectors_per_cluster: int, label: str,
                 made: datetime) -> None:
        self.out, self.label, self.made = out, label, made
        self.sectors_per_cluster = sectors_per_cluster
        self.cluster_size = sectors_per_cluster * SECTOR
        self.partition_sectors = image_size // SECTOR - PARTITION_SECTOR
        self.fat_sectors = self._fat_sectors()
        data = self.partition_sectors - RESERVED_SECTORS - FATS * self.fat_sectors
        self.clusters = data // sectors_per_cluster
        self.fat = bytearray(4 * (self.clusters + 2))
        self.data_offset = (PARTITION_SECTOR + RESERVED_SECTORS + FATS * self.fat_sectors) * SECTOR
        self.root = Entry("", 2, 0, made, folder=True)
        self._set(0, 0x0FFF_FFF8)
        self._set(1, END_OF_CHAIN)
        self._set(2, END_OF_CHAIN)
        self.next_free = 3
        out.truncate(image_size)

    def _fat_sectors(self) -> int:
        room = self.partition_sectors - RESERVED_SECTORS
        per_fat_sector = SECTOR // 4 * self.sectors_per_cluster + FATS
        return -(-room // per_fat_sector)

    def _set(self, cluster: int, value: int) -> None:
        struct.pack_into("<I", self.fat, 4 * cluster, value)

    def offset(self, cluster: int) -> int:
        """Absolute byte offset of a cluster in the image."""
        return self.data_offset + (cluster - 2) * self.cluster_size

    def clusters_for(self, size: int) -> int:
        return max(1, -(-size // self.cluster_size))

    def _chain(self, *runs: tuple[int, int]) -> None:
        clusters = [c for first, count in runs for c in range(first, first + count)]
        for cluster, following in zip(clusters, [*clusters[1:], END_OF_CHAIN]):
            self._set(cluster, following)

    def make_folder(self, parent: Entry, name: str, when: datetime) -> Entry:
        """A folder of one cluster; keep it below `cluster_size / 32` entries."""
        made = Entry(name, self.next_free, 0, when, folder=True)
        self._chain((made.first_cluster, 1))
        self.next_free += 1
        parent.children.append(made)
        return made

    def write_file(self, parent: Entry, name: str, data: bytes, when: datetime,
                   at_cluster: int | None = None) -> Entry:
        """Write a file in one piece, at the next free cluster or at `at_cluster`."""
        count = self.clusters_for(len(data))
        first = self.take(count) if at_cluster is None else at_cluster
        # Over an older file the drivers' last sector shows: it is filled with zeros.
        padded = data + bytes(-len(data) % SECTOR) if at_cluster is not None else data
        return self._write(parent, name, padded, len(data), when, ((first, count),))

    def take(self, count: int) -> int:
        """The first of `count` free clusters in line, which are somebody's from now on."""
        first = self.next_free
        self.next_free += count
        if self.next_free > self.clusters + 2:
            raise ValueError("the volume is full")
        return first

    def write_pieces(self, parent: Entry, name: str, data: bytes, when: datetime,
                     runs: tuple[tuple[int, int], ...]) -> Entry:
        """Write a file into `runs` of clusters that were taken for it, in file order."""
        return self._write(parent, name, data, len(data), when, runs)

    def _write(self, parent: Entry, name: str, data: bytes, size: int, when: datetime,
               runs: tuple[tuple[int, int], ...]) -> Entry:
        self._chain(*runs)
        at = 0
        for first, count in runs:
            self.out.seek(self.offset(first))
            self.out.write(data[at : at + count * self.cluster_size])
            at += count * self.cluster_size
        made = Entry(name, runs[0][0], size, when, runs=runs)
        parent.children.append(made)
        return made

    def remove(self, entry: Entry) -> None:
        """Free the chain and mark the name; the data stays."""
        for first, count in entry.runs:
            for cluster in range(first, first + count):
                self._set(cluster, 0)
        entry.removed = True

    def finish(self) -> None:
        """Write the directories, both FATs, FSInfo, both boot sectors and the partition table."""
        self._write_folder(self.root, None)
        for copy in range(FATS):
            start = PARTITION_SECTOR + RESERVED_SECTORS + copy * self.fat_sectors
            self.out.seek(start * SECTOR)
            self.out.write(self.fat)
        for sector in (0, 6):
            self._write_sector(PARTITION_SECTOR + sector, self._boot_sector())
            self._write_sector(PARTITION_SECTOR + sector + 1, self._fs_info())
        self._write_sector(0, self._partition_table())

    def _write_sector(self, sector: int, content: bytes) -> None:
        self.out.seek(sector * SECTOR)
        self.out.write(content)

    def _write_folder(self, folder: Entry, parent: Entry | None) -> None:
        lines: list[bytes] = []
        if parent is None:
            lines.append(_entry(f"{self.label:<11}".encode("ascii"), 0x08, 0, 0, self.made))
        else:
            above = 0 if parent is self.root else parent.first_cluster
            lines.append(_entry(b".          ", 0x10, folder.first_cluster, 0, folder.modified))
            lines.append(_entry(b"..         ", 0x10, above, 0, folder.modified))
        taken: set[bytes] = set()
        for child in folder.children:
            short, needs_long = _short_name(child.name, taken)
            entries = _long_entries(child.name, short) if needs_long else []
            kind = 0x10 if child.folder else 0x20
            entries.append(_entry(short, kind, child.first_cluster, child.size, child.modified))
            lines += [b"\xe5" + e[1:] if child.removed else e for e in entries]
        block = b"".join(lines)
        if len(block) > self.cluster_size:
            raise ValueError(f"folder {folder.name} needs more than one cluster")
        self.out.seek(self.offset(folder.first_cluster))
        self.out.write(block.ljust(self.cluster_size, b"\0"))
        for child in folder.children:
            if child.folder:
                self._write_folder(child, folder)

    def _boot_sector(self) -> bytes:
        head = struct.pack(
            "<3s8sHBHBHHBHHHII", b"\xeb\x58\x90", b"FERNBECK", SECTOR, self.sectors_per_cluster,
            RESERVED_SECTORS, FATS, 0, 0, 0xF8, 0, 63, 255, PARTITION_SECTOR,
            self.partition_sectors)
        head += struct.pack("<IHHIHH12s", self.fat_sectors, 0, 0, 2, 1, 6, bytes(12))
        head += struct.pack("<BBBI11s8s", 0x80, 0, 0x29, 0x0B17_2031,
                            f"{self.label:<11}".encode("ascii"), b"FAT32   ")
        return head.ljust(510, b"\0") + b"\x55\xaa"

    def _fs_info(self) -> bytes:
        free = sum(1 for at in range(8, len(self.fat), 4) if self.fat[at : at + 4] == bytes(4))
        return (struct.pack("<I480sIII12s", 0x4161_5252, bytes(480), 0x6141_7272, free,
                            self.next_free, bytes(12)) + b"\0\0\x55\xaa")

    def _partition_table(self) -> bytes:
        row = struct.pack("<B3sB3sII", 0, b"\xfe\xff\xff", 0x0C, b"\xfe\xff\xff",
                          PARTITION_SECTOR, self.partition_sectors)
        return (bytes(440) + struct.pack("<IH", 0x0B17_2031, 0) + row).ljust(510, b"\0") + (
            b"\x55\xaa")
