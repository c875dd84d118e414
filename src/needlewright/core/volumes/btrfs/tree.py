"""Trees of btrfs: chunks, nodes, items. Little-endian.

Source: the kernel's include/uapi/linux/btrfs_tree.h. Addresses inside trees are logical; chunks map
them to the device. Not read: what lies on other devices of the same file system, striped chunks.
"""

from __future__ import annotations

import struct
from bisect import bisect_right
from collections.abc import Iterator
from dataclasses import dataclass
from typing import NamedTuple

from needlewright.core.errors import FormatError, SourceError
from needlewright.core.sources.source import Source

SUPER_AT = 0x10000
MAGIC = b"_BHRfS_M"
HEADER, KEY, ITEM, POINTER = 101, struct.Struct("<QBQ"), 25, 33
CHUNK = 228
STRIPED = 0x8 | 0x40 | 0x80 | 0x100  # RAID 0, 10, 5, 6
METADATA = 0x2 | 0x4
MAX_LEVEL = 8
MAX_NODES = 1 << 20


class Key(NamedTuple):
    object: int
    kind: int
    offset: int


@dataclass(frozen=True, slots=True)
class Super:
    """The geometry; sizes in bytes, trees by their logical addresses."""

    fsid: bytes
    generation: int
    root: int
    chunk_root: int
    total: int
    sector: int
    node: int
    device: int
    devices: int
    label: str
    chunks: bytes
    size: int
    metadata_id: bytes


def read_super(raw: bytes) -> Super:
    """The geometry of a superblock; FormatError where it states none."""
    if len(raw) < 4096 or raw[64:72] != MAGIC:
        raise FormatError("no-btrfs-superblock", offset=SUPER_AT + 64)
    generation, root, chunk_root, _, _, total, _, _, devices = struct.unpack_from("<9Q", raw, 72)
    sector, node, _, _, array = struct.unpack_from("<5I", raw, 144)
    device, size = struct.unpack_from("<QQ", raw, 201)
    if sector not in (4096, 8192, 16384, 32768, 65536) or node not in (
            4096, 8192, 16384, 32768, 65536) or array > 2048:
        raise FormatError("geometry", offset=SUPER_AT + 144)
    own = struct.unpack_from("<Q", raw, 188)[0] & 0x400  # metadata under another id
    return Super(raw[32:48], generation, root, chunk_root, total, sector, node,
                 device, devices, raw[299:555].split(b"\0")[0].decode("utf-8", "replace"),
                 raw[811 : 811 + array], size, raw[571:587] if own else raw[32:48])


class ChunkMap:
    """From logical addresses to bytes of the device."""

    def __init__(self, device: int) -> None:
        self._device = device
        self._starts: list[int] = []
        self._chunks: dict[int, tuple[int, int, int]] = {}  # logical -> length, physical, kind
        self.missing = 0

    def add(self, logical: int, item: bytes) -> None:
        """Take in a chunk item; FormatError where it is damaged."""
        if len(item) < 48:
            raise FormatError("chunk-ends-early", offset=0)
        length, _, _, kind = struct.unpack_from("<QQQQ", item)
        stripes = struct.unpack_from("<H", item, 44)[0]
        if len(item) < 48 + 32 * stripes or logical in self._chunks:
            return
        if kind & STRIPED and stripes > 1:
            self.missing += 1
            return
        for index in range(stripes):
            device, physical = struct.unpack_from("<QQ", item, 48 + 32 * index)
            if device == self._device:
                self._starts.append(logical)
                self._starts.sort()
                self._chunks[logical] = (length, physical, kind)
                return
        self.missing += 1

    def place(self, logical: int, length: int) -> list[tuple[int, int]] | None:
        """(byte of the device, length) pieces; None where a part is not on it."""
        found: list[tuple[int, int]] = []
        while length > 0:
            index = bisect_right(self._starts, logical) - 1
            if index < 0:
                return None
            start = self._starts[index]
            size, physical, _ = self._chunks[start]
            fits = min(length, start + size - logical)
            if fits <= 0:
                return None
            found.append((physical + logical - start, fits))
            logical += fits
            length -= fits
        return found

    def metadata(self) -> Iterator[tuple[int, int, int]]:
        """(logical, byte of the device, length) of the chunks that hold trees."""
        for start in self._starts:
            length, physical, kind = self._chunks[start]
            if kind & METADATA:
                yield start, physical, length

    def items(self) -> Iterator[tuple[int, int, int]]:
        """(logical, byte of the device, length) of all chunks."""
        for start in self._starts:
            length, physical, _ = self._chunks[start]
            yield start, physical, length


@dataclass(frozen=True, slots=True)
class Node:
    """A block of a tree."""

    address: int
    generation: int
    owner: int
    level: int
    count: int
    raw: bytes

    def items(self) -> Iterator[tuple[Key, bytes, int]]:
        """(key, content, its byte in the node) of a leaf; those that do not fit are left out."""
        size = len(self.raw)
        for index in range(self.count):
            at = HEADER + ITEM * index
            if at + ITEM > size:
                return
            key = Key(*KEY.unpack_from(self.raw, at))
            offset, length = struct.unpack_from("<II", self.raw, at + 17)
            start = HEADER + offset
            if start + length <= size:
                yield key, self.raw[start : start + length], start

    def pointers(self) -> Iterator[tuple[Key, int]]:
        for index in range(self.count):
            at = HEADER + POINTER * index
            if at + POINTER > len(self.raw):
                return
            yield Key(*KEY.unpack_from(self.raw, at)), struct.unpack_from(
                "<Q", self.raw, at + 17)[0]


def read_node(raw: bytes, fsid: bytes) -> Node | None:
    """The node in `raw`; None where it is none of this file system's."""
    if len(raw) < HEADER or raw[32:48] != fsid:
        return None
    address = struct.unpack_from("<Q", raw, 48)[0]
    generation, owner, count = struct.unpack_from("<QQI", raw, 80)
    level = raw[100]
    if level >= MAX_LEVEL or HEADER + count * (POINTER if level else ITEM) > len(raw):
        return None
    return Node(address, generation, owner, level, count, raw)


class Trees:
    """Reads trees through the chunk map."""

    def __init__(self, volume: Source, geometry: Super) -> None:
        self._volume, self.geometry = volume, geometry
        self.map = ChunkMap(geometry.device)
        at = 0
        raw = geometry.chunks
        while at + 17 + 48 <= len(raw):
            key = Key(*KEY.unpack_from(raw, at))
            stripes = struct.unpack_from("<H", raw, at + 17 + 44)[0]
            size = 48 + 32 * stripes
            self.map.add(key.offset, raw[at + 17 : at + 17 + size])
            at += 17 + size
        for key, item, _, _ in self.walk(geometry.chunk_root):
            if key.kind == CHUNK:
                self.map.add(key.offset, item)

    def node(self, address: int) -> Node | None:
        """The node at a logical address; None where it cannot be read or is another."""
        places = self.map.place(address, self.geometry.node)
        if places is None:
            return None
        try:
            raw = b"".join(self._volume.read_at(at, length) for at, length in places)
        except SourceError:
            return None
        found = read_node(raw, self.geometry.metadata_id)
        return found if found is not None and found.address == address else None

    def walk(self, root: int, first: Key | None = None) -> Iterator[tuple[Key, bytes, int, Node]]:
        """(key, content, its byte on the volume, leaf) of all items of a tree in order.

        `first`: items before it are passed over.
        """
        stack = [(root, MAX_LEVEL)]
        for _ in range(MAX_NODES):
            if not stack:
                return
            address, above = stack.pop()
            node = self.node(address)
            if node is None or node.level >= above:
                continue
            if node.level:
                pointers = list(node.pointers())
                if first is not None:
                    later = [i for i, (k, _) in enumerate(pointers) if k > first]
                    pointers = pointers[max(0, (later[0] if later else len(pointers)) - 1) :]
                stack += [(inner, node.level) for _, inner in reversed(pointers)]
                continue
            places = self.map.place(address, 1)
            base = places[0][0] if places else 0
            for key, item, at in node.items():
                if first is None or key >= first:
                    yield key, item, base + at, node
