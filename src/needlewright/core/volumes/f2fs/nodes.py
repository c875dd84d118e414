"""Nodes of F2FS: inodes, lists of blocks, directory entries. Little-endian.

Source: the kernel's include/linux/f2fs_fs.h and fs/f2fs/f2fs.h.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from needlewright.core.volumes.base import Coded, CodedParts, Extents, Times, cut
from needlewright.core.volumes.stamps import unix

BLOCK = 4096
FOLDER, REGULAR, FORMAT = 0x4000, 0x8000, 0xF000
INLINE_XATTR, INLINE_DATA, INLINE_DENTRY, EXTRA = 0x01, 0x02, 0x04, 0x20
ENCRYPTED = 0x04  # of i_advise
COMPRESSED = 0x04  # of i_flags
ADDRESSES, PER_NODE = 923, 1018
HOLE, NEW, COMPRESS = 0, 0xFFFF_FFFF, 0xFFFF_FFFE
FOOTER = struct.Struct("<IIIQI")  # node, inode, flag, checkpoint, next
FOOTER_AT = BLOCK - 24
NAME_SLOT, SLOTS = 8, 214
ALGORITHMS = {0: "lzo", 1: "lz4", 2: "zstd", 3: "lzo"}
MAX_RUNS = 1 << 22  # blocks of one file: 16 GiB
MAX_PACKED_HOLE = 1 << 18  # blocks of a hole in a compressed file
ReadNode = Callable[[int], bytes]  # a node's block by its number; b"" where there is none


@dataclass(frozen=True, slots=True)
class Inode:
    """What an inode says. `addresses`: of its first blocks; `nodes`: of the lists of others."""

    number: int
    mode: int
    links: int
    size: int
    parent: int
    name: str
    encrypted: bool
    compressed: bool
    algorithm: int
    cluster_log: int
    inline: int
    inline_data: bytes
    addresses: tuple[int, ...]
    nodes: tuple[int, ...]
    times: Times
    version: int  # of the checkpoint that wrote it
    generation: int

    @property
    def folder(self) -> bool:
        return self.mode & FORMAT == FOLDER

    @property
    def regular(self) -> bool:
        return self.mode & FORMAT == REGULAR


def footer(raw: bytes) -> tuple[int, int, int, int]:
    """(node, inode, offset in the file's nodes, checkpoint) of a node's block."""
    node, inode, flag, version, _ = FOOTER.unpack_from(raw, FOOTER_AT)
    return node, inode, flag >> 3, version & 0xFFFF_FFFF


def read_inode(raw: bytes) -> Inode | None:
    """The inode in a node's block; None where it holds none."""
    if len(raw) < BLOCK:
        return None
    node, number, offset, version = footer(raw)
    mode, advise, inline = struct.unpack_from("<HBB", raw)
    if node != number or not node or offset or mode & FORMAT not in (FOLDER, REGULAR):
        return None
    links, size = struct.unpack_from("<IQ", raw, 12)
    accessed, modified = struct.unpack_from("<Q8xQ", raw, 32)
    accessed_n, _, modified_n, generation = struct.unpack_from("<IIII", raw, 56)
    flags, parent, length = struct.unpack_from("<III", raw, 80)
    if length > 255:
        return None
    extra = struct.unpack_from("<H", raw, 360)[0] if inline & EXTRA else 0
    if extra > 200 or extra % 4:
        return None
    created = None
    if extra >= 24:
        created = unix(*struct.unpack_from("<QI", raw, 372))
    algorithm, cluster_log = (raw[392], raw[393]) if extra >= 36 else (0, 0)
    attributes = 50 if inline & INLINE_XATTR else 0
    if extra and inline & INLINE_XATTR:
        attributes = min(struct.unpack_from("<H", raw, 362)[0], 200) or attributes
    count = ADDRESSES - extra // 4 - (attributes if inline & (
        INLINE_XATTR | INLINE_DATA | INLINE_DENTRY) or attributes else 0)
    at = 360 + extra
    times = Times(created, unix(modified, modified_n), unix(accessed, accessed_n))
    return Inode(
        number, mode, links, size, parent, raw[92 : 92 + length].decode("utf-8", "replace"),
        bool(advise & ENCRYPTED), bool(flags & COMPRESSED), algorithm, cluster_log, inline,
        raw[at + 4 : at + 4 * count], struct.unpack_from(f"<{count}I", raw, at),
        struct.unpack_from("<5I", raw, FOOTER_AT - 20), times, version, generation)


Run = tuple[int, int]  # (address, how many blocks have it: more than one only of holes)


def blocks(inode: Inode, read: ReadNode) -> Iterator[Run]:
    """The addresses of a file's blocks in order, through all lists of them."""
    wanted = -(-inode.size // BLOCK)
    told = 0
    for address in inode.addresses[:wanted]:
        yield address, 1
        told += 1
    for level, node in zip((1, 1, 2, 2, 3), inode.nodes):
        if told >= wanted:
            return
        for address, count in _list(node, level, wanted - told, read):
            yield address, count
            told += count


def _list(node: int, level: int, wanted: int, read: ReadNode) -> Iterator[Run]:
    span = PER_NODE ** level
    raw = read(node) if node else b""
    if len(raw) < BLOCK:
        yield HOLE, min(wanted, span)
        return
    told = 0
    for entry in struct.unpack_from(f"<{PER_NODE}I", raw):
        if told >= wanted:
            return
        if level == 1:
            yield entry, 1
            told += 1
        else:
            for address, count in _list(entry, level - 1, wanted - told, read):
                yield address, count
                told += count


def extents(inode: Inode, read: ReadNode, last_block: int) -> tuple[Extents, CodedParts, str]:
    """(extents, or compressed parts, what is wrong) of a file."""
    runs: list[Run] = []
    for address, count in blocks(inode, read):
        if address not in (HOLE, NEW, COMPRESS) and address >= last_block:
            return (), (), "extents-outside"
        if len(runs) > MAX_RUNS:
            return (), (), "extents-wrong"
        runs.append((address, count))
    if inode.compressed and any(a == COMPRESS for a, _ in runs):
        addresses = [a for a, count in runs for _ in range(min(count, MAX_PACKED_HOLE))]
        return (), _coded(inode, addresses), ""
    pieces: list[tuple[int | None, int]] = [
        (None if a in (HOLE, NEW, COMPRESS) else a * BLOCK, count * BLOCK) for a, count in runs]
    return cut(pieces, inode.size), (), ""


def _coded(inode: Inode, addresses: list[int]) -> CodedParts:
    """Clusters whose first address says that the blocks behind it hold them compressed."""
    span = 1 << min(inode.cluster_log, 8)
    parts: list[Coded | tuple[int | None, int]] = []
    left = inode.size
    for first in range(0, len(addresses), span):
        cluster = addresses[first : first + span]
        length = min(left, span * BLOCK)
        left -= length
        if cluster[0] != COMPRESS:
            pieces = [(None if a in (HOLE, NEW) else a * BLOCK, BLOCK) for a in cluster]
            parts += cut(pieces, length)
            continue
        held = [(a * BLOCK, BLOCK) for a in cluster[1:] if a not in (HOLE, NEW)]
        coding = "f2fs-" + ALGORITHMS.get(inode.algorithm, "unknown")
        parts.append(Coded(tuple(held), length, coding, span * BLOCK))
    return tuple(parts)


def names(raw: bytes, slots: int, start: int, removed: bool) -> Iterator[tuple[int, str, int]]:
    """(inode, name, slot) of a block of directory entries whose bitmap begins at byte 0.

    `slots` of it, entries from byte `start` on; `removed`: those that the bitmap has freed.
    """
    name_at = start + 11 * slots
    slot = 0
    while slot < slots:
        used = raw[slot // 8] >> (slot % 8) & 1
        _, inode, length, kind = struct.unpack_from("<IIHB", raw, start + 11 * slot)
        room = -(-length // NAME_SLOT) or 1
        fits = 0 < length <= 255 and slot + room <= slots and kind <= 7 and inode
        if bool(used) != removed and fits:
            text = raw[name_at + NAME_SLOT * slot : name_at + NAME_SLOT * slot + length]
            if b"\0" not in text and b"/" not in text:
                yield inode, text.decode("utf-8", "replace"), slot
        slot += room if used and fits else 1


def inline_layout(size: int) -> tuple[int, int]:
    """(slots, first byte of the entries) of directory entries held in `size` bytes of an inode."""
    slots = size * 8 // ((11 + NAME_SLOT) * 8 + 1)
    return slots, size - (11 + NAME_SLOT) * slots
