"""Superblock and inodes of XFS: the kernel's fs/xfs/libxfs/xfs_format.h. Big-endian."""

from __future__ import annotations

import struct
from dataclasses import dataclass

from needlewright.core.errors import FormatError
from needlewright.core.volumes.base import Times
from needlewright.core.volumes.stamps import Stamp, unix

MAGIC = b"XFSB"
LOCAL, EXTENTS, TREE = 1, 2, 3
FOLDER, REGULAR, FORMAT = 0x4000, 0x8000, 0xF000
FTYPE_5, FTYPE_4 = 0x1, 0x200
META_UUID = 0x4  # the volume's own UUID was changed
BIG_TIME, BIG_COUNTS = 0x08, 0x10


@dataclass(frozen=True, slots=True)
class Super:
    """The geometry; sizes in bytes, `*_log` in bits."""

    block_size: int
    blocks: int
    root: int
    group_blocks: int
    groups: int
    sector_size: int
    inode_size: int
    inodes_log: int
    group_log: int
    folder_size: int
    version: int
    ftype: bool
    label: str
    uuid: bytes
    metadata_id: bytes  # the UUID that blocks of the volume's tables carry


def read_super(raw: bytes) -> Super:
    """The geometry of a superblock; FormatError where it states none."""
    if len(raw) < 264 or raw[:4] != MAGIC:
        raise FormatError("no-xfs-superblock", offset=0)
    block_size, blocks = struct.unpack_from(">IQ", raw, 4)
    root = struct.unpack_from(">Q", raw, 56)[0]
    group_blocks, groups = struct.unpack_from(">II", raw, 84)
    flags, sector, inode = struct.unpack_from(">HHH", raw, 100)
    inodes_log, group_log = raw[123], raw[124]
    if block_size not in (512, 1024, 2048, 4096, 8192, 16384, 32768, 65536) or not blocks or (
            not group_blocks or not 0 < groups <= 1 << 20 or inode not in (256, 512, 1024, 2048)
            or inodes_log > 8 or not 1 <= group_log <= 31 or sector not in (512, 1024, 2048, 4096)
            or raw[192] > 8):
        raise FormatError("geometry", offset=4)
    version = flags & 15
    incompatible = struct.unpack_from(">I", raw, 216)[0] if version == 5 else 0
    features_2 = struct.unpack_from(">I", raw, 200)[0]
    ftype = bool(incompatible & FTYPE_5) if version == 5 else bool(features_2 & FTYPE_4)
    own = raw[248:264] if incompatible & META_UUID else raw[32:48]
    return Super(block_size, blocks, root, group_blocks, groups, sector, inode, inodes_log,
                 group_log, block_size << raw[192], version, ftype,
                 raw[108:120].split(b"\0")[0].decode("utf-8", "replace"), raw[32:48], own)


@dataclass(frozen=True, slots=True)
class Inode:
    """What an inode says; `fork`: the bytes of its data fork."""

    number: int
    mode: int
    form: int
    links: int
    size: int
    extents: int
    fork: bytes
    times: Times


def parse_inode(raw: bytes, number: int) -> Inode | None:
    """The inode in `raw`; None where there is none."""
    if raw[:2] != b"IN":
        return None
    mode, version, form = struct.unpack_from(">HBB", raw, 2)
    links = struct.unpack_from(">I", raw, 16)[0]
    size = struct.unpack_from(">Q", raw, 56)[0]
    extents = struct.unpack_from(">I", raw, 76)[0]
    flags = struct.unpack_from(">Q", raw, 120)[0] if version == 3 else 0
    if flags & BIG_COUNTS:
        extents = struct.unpack_from(">Q", raw, 24)[0]
    start = 176 if version == 3 else 100
    stop = start + raw[82] * 8 if raw[82] else len(raw)
    big = bool(flags & BIG_TIME)
    created = read_time(raw, 144, big) if version == 3 else None
    times = Times(created, read_time(raw, 40, big), read_time(raw, 32, big), None)
    return Inode(number, mode, form, links, size, extents, raw[start:stop], times)


def read_time(raw: bytes, at: int, big: bool, order: str = ">") -> Stamp | None:
    """A time of an inode; `order`: of the bytes, as `struct` calls it."""
    if big:
        seconds, nanos = divmod(struct.unpack_from(f"{order}Q", raw, at)[0], 1_000_000_000)
        return unix(seconds - (1 << 31), nanos)
    seconds, nanos = struct.unpack_from(f"{order}iI", raw, at)
    return unix(seconds, nanos)
