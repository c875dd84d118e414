"""F2FS: nodes by the node address table; removed files by older nodes still in the log.

Little-endian; layout in f2fs_layout, nodes in f2fs_nodes. Nothing is written in place, so a removed
file's inode, with its name, its folder's number and its blocks, stays until its segment is reused.
Contents that are encrypted file by file are told and never delivered.
"""

from __future__ import annotations

import struct
from collections import deque
from collections.abc import Iterator, Mapping
from typing import Any

import numpy as np

from needlewright.core.errors import FormatError, SourceError
from needlewright.core.sources.source import Source
from needlewright.core.volumes.allocation import Allocation
from needlewright.core.volumes.base import (
    MAX_DEPTH,
    Doubts,
    Entry,
    FileSystem,
    Mark,
    Placed,
    Reader,
    VolumeFacts,
    VolumeState,
    path_in,
    stated,
)
from needlewright.core.volumes.f2fs.layout import (
    AT,
    MAGIC,
    NodeTable,
    Super,
    read_checkpoint,
    read_super,
)
from needlewright.core.volumes.f2fs.nodes import (
    BLOCK,
    HOLE,
    INLINE_DATA,
    INLINE_DENTRY,
    NEW,
    SLOTS,
    Inode,
    blocks,
    extents,
    footer,
    inline_layout,
    names,
    read_inode,
)
from needlewright.core.volumes.registry import register

MAX_INODES = 1 << 20  # older versions that are kept in mind
SUMMARY_KIND_AT = BLOCK - 5


def _super(volume: Source) -> tuple[Super, int]:
    for at in (AT, AT + BLOCK):
        try:
            return read_super(volume.read_at(at, 3072)), at
        except (FormatError, SourceError):
            continue
    raise FormatError("no-f2fs-volume", offset=AT)


def probe(volume: Source) -> VolumeFacts | None:
    """Facts of an F2FS volume that begins at byte 0."""
    try:
        found, at = _super(volume)
    except FormatError:
        return None
    size = found.blocks * BLOCK
    state = VolumeState.DAMAGED if at != AT or size > volume.size else VolumeState.SOUND
    return VolumeFacts("f2fs", size, BLOCK, found.label, found.uuid.hex(), state)


class F2fsReader(Reader):
    """An open F2FS volume."""

    def __init__(self, volume: Source) -> None:
        super().__init__(volume, stated(probe(volume), "F2FS"))
        self.geometry, _ = _super(volume)
        self.checkpoint = read_checkpoint(volume, self.geometry)
        self.table = NodeTable(volume, self.geometry, self.checkpoint)
        self._folders: dict[int, str] = {}
        self._live: set[int] = set()
        self._used: np.ndarray | None = None  # type: ignore[type-arg]
        self._walked = False

    def allocation(self) -> Allocation:
        """What live files and nodes use, as found by walking them."""
        if self._used is None:
            self._walk_all()
        assert self._used is not None
        return Allocation.of_flags(BLOCK, 0, self._used)

    def _walk_all(self) -> None:
        self._used = np.zeros(self._fitting(self.geometry.blocks, BLOCK), np.bool_)
        self._used[: self.geometry.main] = True
        for _ in self.live():
            pass

    def _node(self, number: int) -> bytes:
        """The block of a node as it is now; b"" where there is none."""
        _, block = self.table.where(number)
        if block in (HOLE, NEW) or block >= self.geometry.blocks:
            return b""
        raw = self._read(block * BLOCK, BLOCK)
        if footer(raw)[0] != number:
            self._problems.add("node-wrong", block * BLOCK, node=number)
            return b""
        if self._used is not None and block < self._used.size:
            self._used[block] = True
        return raw

    def _node_at(self, number: int) -> int:
        return self.table.where(number)[1] * BLOCK

    # live

    def live(self) -> Iterator[Entry]:
        self._folders = {self.geometry.root: ""}
        self._live = {self.geometry.root}
        queue = deque([self.geometry.root])
        while queue:
            number = queue.popleft()
            path = self._folders[number]
            inode = read_inode(self._node(number))
            if inode is None or not inode.folder:
                self._problems.add("folder-damaged", self._node_at(number), path=path or "/")
                continue
            for inner, name, at in self._names(inode, removed=False):
                if name in (".", ".."):
                    continue
                found = read_inode(self._node(inner))
                whole = path_in(path, name)
                if found is None:
                    if not self._node(inner):
                        self._problems.add("inode-missing", at, path=whole)
                    continue
                self._live.add(inner)
                if found.folder:
                    if inner in self._folders or whole.count("/") > MAX_DEPTH:
                        self._problems.add("folder-loop", at, path=whole)
                        continue
                    self._folders[inner] = whole
                    queue.append(inner)
                elif found.regular:
                    yield self._entry(whole, found, self._node_at(inner), self._node, False)
        self._walked = True

    def _names(self, inode: Inode, removed: bool) -> Iterator[tuple[int, str, int]]:
        """(inode, name, byte) of what a folder names."""
        if inode.inline & INLINE_DENTRY:
            slots, start = inline_layout(len(inode.inline_data))
            at = self._node_at(inode.number)
            for inner, name, _ in names(inode.inline_data, slots, start, removed):
                yield inner, name, at
            return
        for address, _ in blocks(inode, self._node):
            if address in (HOLE, NEW) or address >= self.geometry.blocks:
                continue
            if self._used is not None and address < self._used.size:
                self._used[address] = True
            raw = self._read(address * BLOCK, BLOCK, "folder-unreadable")
            for inner, name, _ in names(raw, SLOTS, 30, removed):
                yield inner, name, address * BLOCK

    def _entry(self, path: str, inode: Inode, at: int, read: Any, removed: bool) -> Entry:
        if inode.inline & INLINE_DATA:
            return Entry(path, inode.size, at + 364, removed, inode.times,
                         data=inode.inline_data[: inode.size], locked=inode.encrypted)
        found, coded, why = extents(inode, read, self.geometry.blocks)
        if self._used is not None and not removed:
            for offset, length in found:
                if offset is not None:
                    self._used[offset // BLOCK : -(-(offset + length) // BLOCK)] = True
        doubts: Doubts = ((why, {}),) if why else ()
        placed = Placed.CHAIN if removed or why else Placed.EXACT
        return Entry(path, inode.size, at, removed, inode.times, placed, found, coded=coded,
                     doubts=doubts, locked=inode.encrypted)

    # removed

    def removed(self) -> Iterator[Entry]:
        if self._used is None:
            self._walk_all()
        newest: dict[int, tuple[int, int, int]] = {}  # inode -> version, block, generation
        lists: dict[tuple[int, int], list[tuple[int, int]]] = {}  # (inode, node) -> versions
        folders: dict[int, tuple[int, str]] = {}
        for block, raw in self._old_nodes():
            node, number, _, version = footer(raw)
            inode = read_inode(raw) if node == number else None
            if inode is None:
                if node != number:
                    lists.setdefault((number, node), []).append((version, block))
            elif inode.folder:
                folders.setdefault(number, (inode.parent, inode.name))
            elif number not in self._live and inode.size and len(newest) < MAX_INODES:
                known = newest.get(number)
                if known is None or version >= known[0]:
                    newest[number] = (version, block, inode.generation)
        for number, (version, block, _) in sorted(newest.items()):
            inode = read_inode(self._read(block * BLOCK, BLOCK))
            if inode is None:
                continue

            def read(node: int, number: int = number, version: int = version) -> bytes:
                fits = [v for v in lists.get((number, node), ()) if v[0] <= version + 1]
                return self._read(max(fits)[1] * BLOCK, BLOCK) if fits else b""

            path = self._path(inode.parent, folders)
            doubts: Doubts = (("folder-lost", {}),) if path.startswith("lost folder ") else ()
            found = self._entry(path_in(path, inode.name), inode, block * BLOCK, read, True)
            yield Entry(found.path, found.size, found.record_at, True, found.times, found.placed,
                        found.extents, found.data, found.coded, None, (*found.doubts, *doubts),
                        found.locked)

    def _path(self, number: int, folders: Mapping[int, tuple[int, str]], depth: int = 0) -> str:
        if number in self._folders:
            return self._folders[number]
        if number not in folders or depth > MAX_DEPTH:
            return f"lost folder {number}"
        parent, name = folders[number]
        return path_in(self._path(parent, folders, depth + 1), name)

    def _old_nodes(self) -> Iterator[tuple[int, bytes]]:
        """(block, node) of all nodes in segments that hold nodes, or held them."""
        geometry = self.geometry
        for segment in range(geometry.main_segments):
            first = geometry.main + (segment << geometry.segment_log)
            summary = self._read((geometry.summaries + segment) * BLOCK, BLOCK)
            if summary[SUMMARY_KIND_AT] != 1 and segment not in self.checkpoint.node_segments:
                continue
            size = BLOCK << geometry.segment_log
            raw = self._read(first * BLOCK, size)
            for index in range(size // BLOCK):
                block = raw[index * BLOCK : (index + 1) * BLOCK]
                node, number, _, _ = footer(block)
                if node and number and node < self.table.nodes and number < self.table.nodes:
                    yield first + index, block


def _by_super(source: Source, where: int) -> int | None:
    return where - AT


register(FileSystem("f2fs", probe, F2fsReader, (
    Mark(struct.pack("<I", MAGIC), 0, _by_super),
)))
