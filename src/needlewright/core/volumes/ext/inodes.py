"""Inodes, extents, block maps and directory entries of ext2, ext3 and ext4. Little-endian.

Sources: the kernel's fs/ext4 (ext4.h, ext4_extents.h, dir.c) and its admin guide's data structures.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from needlewright.core.volumes.base import Extents, Times
from needlewright.core.volumes.stamps import Stamp, unix

FOLDER, REGULAR = 0x4000, 0x8000
FORMAT = 0xF000
USES_EXTENTS, INLINE_DATA, ENCRYPTED = 0x80000, 0x10000000, 0x800
EXTENT_MAGIC = 0xF30A
MAX_EXTENTS = 1 << 20
MAX_TREE_DEPTH = 5
DIRECT = 12
INODE = struct.Struct("<H2xII4xII2xHII4x60sI4xI")
XATTR_MAGIC = 0xEA020000
ReadBlock = Callable[[int], bytes]  # one block by its number; b"" where it cannot be had


@dataclass(frozen=True, slots=True)
class Inode:
    """What an inode says. `map`: its 60 bytes of block pointers, extents or inline content."""

    mode: int
    size: int
    links: int
    flags: int
    generation: int
    blocks: int
    removed: int  # seconds since 1970; 0: not removed
    map: bytes
    stamps: tuple[tuple[int, int], ...]  # created, modified, accessed: seconds, extra bits
    extra: bytes  # what stands behind the fixed part

    @property
    def folder(self) -> bool:
        return self.mode & FORMAT == FOLDER

    @property
    def regular(self) -> bool:
        return self.mode & FORMAT == REGULAR

    def times(self, removed: int = 0) -> Times:
        created, modified, accessed = (_stamp(*s) for s in self.stamps)
        return Times(created, modified, accessed, unix(removed) if removed else None)


def _stamp(seconds: int, extra: int) -> Stamp | None:
    signed = seconds - (1 << 32) if seconds & 0x8000_0000 else seconds
    return unix(signed + ((extra & 3) << 32), min(extra >> 2, 999_999_999))


def read_inode(raw: bytes) -> Inode | None:
    """The inode in `raw` (128 bytes or more); None where there is none."""
    (mode, low, accessed, modified, removed, links, blocks, flags, held, generation,
     high) = INODE.unpack_from(raw)
    if mode == 0 and links == 0 and removed == 0:
        return None
    extra_size = struct.unpack_from("<H", raw, 128)[0] if len(raw) >= 160 else 0
    more = (0, 0, 0, 0, 0)
    if extra_size >= 24:
        more = struct.unpack_from("<IIIII", raw, 132)
    stamps = ((more[3], more[4]), (modified, more[1]), (accessed, more[2]))
    size = low | high << 32 if mode & FORMAT == REGULAR else low
    return Inode(mode, size, links, flags, generation, blocks, removed,
                 held, stamps,
                 raw[128 + extra_size :] if len(raw) >= 160 else b"")


def file_extents(inode: Inode, block_size: int, blocks: int, read: ReadBlock) -> tuple[
        Extents, str]:
    """(extents in bytes of the volume, what is wrong with them) of an inode's map."""
    if inode.flags & USES_EXTENTS:
        pieces: list[tuple[int, int, int, bool]] = []
        why = walk_extents(inode.map, pieces, blocks, read, 0)
        return laid_out(pieces, inode.size, block_size, why)
    return _mapped(inode, block_size, blocks, read)


def walk_extents(node: bytes, pieces: list[tuple[int, int, int, bool]], blocks: int,
                  read: ReadBlock, level: int) -> str:
    """Collect (file block, count, block, written) below `node`; what is wrong, or ""."""
    if len(node) < 12:
        return "extents-unread"
    magic, entries, _, depth = struct.unpack_from("<HHHH", node)
    if magic != EXTENT_MAGIC or depth > MAX_TREE_DEPTH or 12 + 12 * entries > len(node):
        return "extents-wrong"
    why = ""
    for index in range(entries):
        at = 12 + 12 * index
        if depth == 0:
            first, count, high, low = struct.unpack_from("<IHHI", node, at)
            written = count <= 0x8000
            count = count if written else count - 0x8000
            start = low | high << 32
            if start + count > blocks or not count or len(pieces) >= MAX_EXTENTS:
                return "extents-wrong"
            pieces.append((first, count, start, written))
        elif level >= MAX_TREE_DEPTH:
            return "extents-wrong"
        else:
            _, low, high = struct.unpack_from("<IIH", node, at)
            inner = read(low | high << 32) if low | high << 32 < blocks else b""
            if len(inner) >= 8 and struct.unpack_from("<H", inner, 6)[0] >= depth:
                return "extents-wrong"  # deeper ones lead nowhere but in circles
            why = walk_extents(inner, pieces, blocks, read, level + 1) or why
    return why


def laid_out(pieces: list[tuple[int, int, int, bool]], size: int, block_size: int,
              why: str) -> tuple[Extents, str]:
    """Extents in file order with holes between them, cut to the file's size."""
    out: list[tuple[int | None, int]] = []
    at = 0  # blocks laid out so far
    for first, count, start, written in pieces:
        if first < at:
            return tuple(out), "extents-wrong"
        if first > at:
            out.append((None, (first - at) * block_size))
        out.append((start * block_size if written else None, count * block_size))
        at = first + count
    if at * block_size < size:
        out.append((None, size - at * block_size))
    from needlewright.core.volumes.base import cut

    return cut(out, size), why


def _mapped(inode: Inode, block_size: int, blocks: int, read: ReadBlock) -> tuple[Extents, str]:
    """The block map of ext2 and ext3: twelve blocks, then three levels of lists."""
    wanted = -(-inode.size // block_size)
    if inode.size > blocks * block_size * 16 or wanted > 1 << 31:
        return (), "extents-wrong"
    pointers = struct.unpack("<15I", inode.map)
    out: list[tuple[int, int, int, bool]] = []
    why = ""
    at = 0
    for pointer in pointers[:DIRECT]:
        if at >= wanted:
            break
        if pointer >= blocks:
            return (), "extents-wrong"
        at = _append(out, at, pointer)
    for level, pointer in enumerate(pointers[DIRECT:], 1):
        if at >= wanted:
            break
        at, wrong = _list(out, at, pointer, level, wanted, blocks, block_size, read)
        why = why or wrong
    return laid_out(out, inode.size, block_size, why)


def _append(out: list[tuple[int, int, int, bool]], at: int, block: int) -> int:
    if block:
        if out and out[-1][0] + out[-1][1] == at and out[-1][2] + out[-1][1] == block:
            first, count, start, written = out[-1]
            out[-1] = (first, count + 1, start, written)
        else:
            out.append((at, 1, block, True))
    return at + 1


def _list(out: list[tuple[int, int, int, bool]], at: int, block: int, level: int, wanted: int,
          blocks: int, block_size: int, read: ReadBlock) -> tuple[int, str]:
    """Append what the list in `block` names; (blocks laid out, what is wrong)."""
    per_block = block_size // 4
    span = per_block ** level
    if block == 0:
        return min(wanted, at + span), ""
    raw = read(block) if block < blocks else b""
    if len(raw) < block_size:
        return min(wanted, at + span), "extents-unread"
    why = ""
    for pointer in struct.unpack(f"<{per_block}I", raw):
        if at >= wanted or len(out) >= MAX_EXTENTS:
            break
        if pointer >= blocks:
            return at, "extents-wrong"
        if level == 1:
            at = _append(out, at, pointer)
        else:
            at, wrong = _list(out, at, pointer, level - 1, wanted, blocks, block_size, read)
            why = why or wrong
    return at, why


def inline_data(inode: Inode) -> bytes:
    """The content that an inode holds itself: in its map, the rest in its attributes."""
    data = inode.map[: min(60, inode.size)]
    extra = inode.extra
    if inode.size <= 60 or len(extra) < 4 or int.from_bytes(extra[:4], "little") != XATTR_MAGIC:
        return data
    base, at = 4, 4
    while at + 16 <= len(extra) and extra[at]:
        length, index, value_at, _, size = struct.unpack_from("<BBHII", extra, at)
        name = extra[at + 16 : at + 16 + length]
        if index == 7 and name == b"data":
            return (data + extra[base + value_at : base + value_at + size])[: inode.size]
        at += (16 + length + 3) // 4 * 4
    return data


@dataclass(frozen=True, slots=True)
class DirEntry:
    """An entry of a directory. `at`: its byte in the block; `slack`: it stands in what is left
    over by others, so it was removed."""

    inode: int
    name: str
    kind: int  # 1 file, 2 folder, 0 unknown
    at: int
    slack: bool = False


def dir_entries(block: bytes, inodes: int, slack: bool = False) -> Iterator[DirEntry]:
    """The entries of one block of a directory; with `slack`, removed ones between them too."""
    at, size = 0, len(block)
    while at + 8 <= size:
        inode, length, name_length, kind = struct.unpack_from("<IHBB", block, at)
        if length == 0 and size == 65536:
            length = size
        if length < 8 or length % 4 or at + length > size or name_length + 8 > length:
            return
        own = 8 + (name_length + 3) // 4 * 4 if inode or name_length else 8
        if inode and inode <= inodes and name_length:
            yield DirEntry(inode, _name(block, at, name_length), kind & 7, at)
        if slack:
            yield from _slack(block, at + own if inode else at, at + length, inodes)
        at += length


def _name(block: bytes, at: int, length: int) -> str:
    return block[at + 8 : at + 8 + length].decode("utf-8", "replace")


def _slack(block: bytes, at: int, stop: int, inodes: int) -> Iterator[DirEntry]:
    while at + 12 <= stop:
        inode, length, name_length, kind = struct.unpack_from("<IHBB", block, at)
        name = block[at + 8 : at + 8 + name_length]
        if (0 < inode <= inodes and 0 < kind <= 7 and name_length and length % 4 == 0
                and length >= 8 + name_length and at + 8 + name_length <= stop
                and b"\0" not in name and b"/" not in name):
            yield DirEntry(inode, name.decode("utf-8", "replace"), kind, at, True)
            at += 8 + (name_length + 3) // 4 * 4
        else:
            at += 4


def is_directory_block(block: bytes, inodes: int) -> bool:
    """Whether a block is filled by a chain of plausible entries, as no other content is."""
    at, count = 0, 0
    while at + 8 <= len(block):
        inode, length, name_length, kind = struct.unpack_from("<IHBB", block, at)
        if length < 8 or length % 4 or at + length > len(block) or name_length + 8 > length or (
                inode > inodes or (kind > 7 and kind != 0xDE)):
            return False
        count += bool(inode and name_length)
        at += length
    return at == len(block) and count > 0
