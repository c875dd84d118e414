"""Layout of F2FS: superblock, checkpoint, node address table. Little-endian.

Source: the kernel's include/linux/f2fs_fs.h.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass

from needlewright.core.errors import FormatError, SourceError
from needlewright.core.sources.source import Source

AT = 1024
MAGIC = 0xF2F52010
BLOCK = 4096
LARGE_BITMAP, COMPACT = 0x400, 0x4
NAT_ENTRY, PER_NAT_BLOCK = 9, 455
JOURNAL_AT = 7 * 512  # in a summary block, behind its 512 entries
MAX_JOURNAL = 38
MAX_SEGMENTS = 1 << 24


@dataclass(frozen=True, slots=True)
class Super:
    """The geometry, in blocks of 4 KiB."""

    blocks: int
    segment_log: int
    segments: int
    checkpoint: int
    nat: int
    nat_segments: int
    summaries: int
    main: int
    main_segments: int
    root: int
    payload: int
    label: str
    uuid: bytes


def read_super(raw: bytes) -> Super:
    """The geometry of a superblock; FormatError where it states none."""
    if len(raw) < 1200 or struct.unpack_from("<I", raw)[0] != MAGIC:
        raise FormatError("no-f2fs-superblock", offset=AT)
    log_block, log_segment = struct.unpack_from("<II", raw, 16)
    blocks = struct.unpack_from("<Q", raw, 36)[0]
    (segments, _, _, nat_segments, _, main_segments, _, checkpoint, _, nat, summaries, main,
     root) = struct.unpack_from("<13I", raw, 48)
    payload = struct.unpack_from("<I", raw, 1664)[0] if len(raw) >= 1668 else 0
    if log_block != 12 or log_segment != 9 or not blocks or not (
            checkpoint < nat < summaries < main) or main_segments > MAX_SEGMENTS or (
            segments > MAX_SEGMENTS):
        raise FormatError("geometry", offset=AT)
    label = raw[124 : 124 + 1024].decode("utf-16-le", "replace").split("\0")[0]
    return Super(blocks, log_segment, segments, checkpoint, nat, nat_segments, summaries, main,
                 main_segments, root, payload, label, raw[108:124])


@dataclass(frozen=True, slots=True)
class Checkpoint:
    """The state that counts: which copy of each block of the node table is in use."""

    version: int
    at: int  # its first block
    bitmap: bytes
    node_segments: tuple[int, ...]
    journal: bytes

    def entries(self) -> Iterator[tuple[int, int, int]]:
        """(node, inode, block) of the changes that are not in the table yet."""
        count = min(struct.unpack_from("<H", self.journal)[0], MAX_JOURNAL) if self.journal else 0
        for index in range(count):
            at = 2 + 13 * index
            if at + 13 > len(self.journal):
                return
            node, _, inode, block = struct.unpack_from("<IBII", self.journal, at)
            yield node, inode, block


def read_checkpoint(volume: Source, geometry: Super) -> Checkpoint:
    """The newer of the two checkpoints that are complete; FormatError where none is."""
    best: Checkpoint | None = None
    for first in (geometry.checkpoint, geometry.checkpoint + (1 << geometry.segment_log)):
        found = _checkpoint(volume, geometry, first)
        if found is not None and (best is None or found.version > best.version):
            best = found
    if best is None:
        raise FormatError("no-checkpoint-complete", offset=geometry.checkpoint * BLOCK)
    return best


def _block(volume: Source, number: int) -> bytes:
    try:
        return volume.read_at(number * BLOCK, BLOCK).ljust(BLOCK, b"\0")
    except SourceError:
        return bytes(BLOCK)


def _checkpoint(volume: Source, geometry: Super, first: int) -> Checkpoint | None:
    raw = _block(volume, first)
    version = struct.unpack_from("<Q", raw)[0]
    flags, total, summary = struct.unpack_from("<III", raw, 132)
    sit_size, nat_size = struct.unpack_from("<II", raw, 156)
    if not version or not 2 <= total <= 1 << geometry.segment_log or (
            struct.unpack_from("<Q", _block(volume, first + total - 1))[0] != version):
        return None
    if sit_size > BLOCK * 64 or nat_size > BLOCK * 64:
        return None
    at = 192
    if flags & LARGE_BITMAP:
        at += 4
    elif not geometry.payload:
        at += sit_size
    bitmap = raw[at : at + nat_size]
    segments = struct.unpack_from("<8I", raw, 36)[:3]
    summaries = _block(volume, first + summary) if summary < total else b""
    journal = summaries[:507] if flags & COMPACT else summaries[JOURNAL_AT:]
    return Checkpoint(version, first, bitmap, segments, journal)


class NodeTable:
    """Where each node lies: the table in the copies that the checkpoint names, and its journal."""

    def __init__(self, volume: Source, geometry: Super, checkpoint: Checkpoint) -> None:
        self._volume, self._geometry, self._checkpoint = volume, geometry, checkpoint
        self._journal = {node: (inode, block) for node, inode, block in checkpoint.entries()}
        self._cached: tuple[int, bytes] = (-1, b"")
        self.nodes = (geometry.nat_segments // 2 << geometry.segment_log) * PER_NAT_BLOCK

    def where(self, node: int) -> tuple[int, int]:
        """(inode, block) of a node; (0, 0) where there is none."""
        if node in self._journal:
            return self._journal[node]
        index, inside = divmod(node, PER_NAT_BLOCK)
        if not 0 < node < self.nodes:
            return 0, 0
        if self._cached[0] != index:
            self._cached = (index, _block(self._volume, self._place(index)))
        _, inode, block = struct.unpack_from("<BII", self._cached[1], inside * NAT_ENTRY)
        return inode, block

    def _place(self, index: int) -> int:
        """The block that holds block `index` of the table: one of two copies."""
        log = self._geometry.segment_log
        at = self._geometry.nat + (index >> log << log << 1) + (index & (1 << log) - 1)
        bitmap = self._checkpoint.bitmap
        # Bits count from the highest of each byte.
        second = index // 8 < len(bitmap) and bitmap[index // 8] >> (7 - index % 8) & 1
        return at + (1 << log) if second else at
