"""Inodes and folders of a former ext volume over which a new one was made.

A new file system is laid over the old one with the same geometry more often than not, and its
inode tables are cleared late or never. Blocks of folders tell names and numbers; the tables, as far
as nobody cleared them, where the files lie.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator

import numpy as np

from needlewright.core.volumes.allocation import Allocation
from needlewright.core.volumes.base import (
    MAX_DEPTH,
    Entry,
    Placed,
    Reader,
    VolumeFacts,
    VolumeState,
    path_in,
)
from needlewright.core.volumes.ext.inodes import DirEntry, dir_entries, is_directory_block
from needlewright.core.volumes.ext.reader import ExtReader
from needlewright.core.volumes.ext.tables import ROOT
from needlewright.core.volumes.former.leftovers import (
    Collector,
    Leftover,
    Medium,
    Sectors,
    register_leftover,
)

MAX_FOLDERS = 1 << 18


class ExtCollector(Collector):
    """Collects blocks that begin with "." and ".." and the numbers that these state."""

    def __init__(self) -> None:
        self.begins: list[tuple[int, int, int]] = []  # byte, own inode, parent's

    def look(self, sectors: Sectors, base: int) -> None:
        size = sectors.shape[1]
        shape = (sectors[:, 4] == 12) & (sectors[:, 5] == 0) & (sectors[:, 6] == 1) & (
            sectors[:, 8] == 0x2E) & (sectors[:, 18] == 2) & (sectors[:, 20] == 0x2E)
        for row in np.flatnonzero(shape).tolist():
            own, parent = (struct.unpack_from("<I", sectors[row].tobytes(), at)[0]
                           for at in (0, 12))
            if own and parent and len(self.begins) < MAX_FOLDERS:
                self.begins.append((base + row * size, own, parent))

    @property
    def kept(self) -> int:
        return len(self.begins)

    def former(self, medium: Medium) -> Iterator[tuple[int, Reader]]:
        for volume, reader in medium.volumes:
            if not isinstance(reader, ExtReader):
                continue
            start = volume.span.start
            mine = [(at - start, own, parent) for at, own, parent in self.begins
                    if volume.span.start <= at < volume.span.stop and not medium.in_use(at)]
            if mine:
                yield start, FormerExt(reader, mine)


class FormerExt(Reader):
    """The files that leftover folders name. Offsets count from the volume's first byte."""

    def __init__(self, reader: ExtReader, begins: list[tuple[int, int, int]]) -> None:
        super().__init__(reader.volume, VolumeFacts("ext, formatted over", reader.facts.size,
                                              reader.facts.cluster_size, state=VolumeState.LOST))
        self._reader = reader
        self._parents: dict[int, int] = {}
        self._names: dict[int, str] = {}
        self._entries: list[tuple[int, int, DirEntry]] = []  # folder, byte of the block, entry
        size = reader.geometry.block_size
        for at, own, parent in begins:
            block = self._read(at, size)
            if not is_directory_block(block, reader.geometry.inodes):
                continue
            self._parents.setdefault(own, parent)
            for entry in dir_entries(block, reader.geometry.inodes, slack=True):
                if entry.name in (".", ".."):
                    continue
                if entry.kind == 2:
                    self._names.setdefault(entry.inode, entry.name)
                elif entry.kind == 1:
                    self._entries.append((own, at, entry))

    def allocation(self) -> Allocation | None:
        return self._reader.allocation()

    def _path(self, number: int) -> str:
        parts: list[str] = []
        for _ in range(MAX_DEPTH):
            if number == ROOT:
                break
            name = self._names.get(number)
            if name is None:
                parts.append(f"lost folder {number}")
                break
            parts.append(name)
            if number not in self._parents:
                parts.append("lost folder 0")
                break
            number = self._parents[number]
        return "/".join(reversed(parts))

    def live(self) -> Iterator[Entry]:
        return iter(())

    def removed(self) -> Iterator[Entry]:
        for folder, at, entry in self._entries:
            path = path_in(self._path(folder), entry.name)
            inode = self._reader.inode(entry.inode)
            if inode is not None and not inode.links and inode.removed:
                continue  # removed from the volume that is there now, whose records tell of it
            if inode is None or not inode.regular or not inode.links or not inode.size:
                yield Entry(path, 0, at + entry.at, True, placed=Placed.NONE)
                continue
            found = self._reader.entry(path, entry.inode, inode, removed=True)
            yield Entry(path, found.size, at + entry.at, True, inode.times(),
                        Placed.CHAIN if found.extents else Placed.NONE, found.extents, found.data,
                        doubts=found.doubts, locked=found.locked)


register_leftover(Leftover("ext", ExtCollector))
