"""XFS, versions 4 and 5: allocation groups, inode trees, extents. Big-endian.

Source: the kernel's fs/xfs/libxfs/xfs_format.h and xfs_da_format.h. A removed inode loses its size,
but its fork keeps the extents for a while, and its folder the name beside half of its number. Such
files end where their own content does.
The log (xfs_log) knows both as they were.
Not read: realtime volumes, external logs.
"""

from __future__ import annotations

import struct
from collections import deque
from collections.abc import Iterator

from needlewright.core.errors import FormatError, SourceError
from needlewright.core.sources.source import Source
from needlewright.core.volumes.base import (
    MAX_DEPTH,
    Doubts,
    Entry,
    FileSystem,
    Mark,
    Placed,
    path_in,
)
from needlewright.core.volumes.registry import register
from needlewright.core.volumes.xfs.layout import (
    FOLDER,
    FORMAT,
    MAGIC,
    REGULAR,
    read_super,
)
from needlewright.core.volumes.xfs.removed import RemovedInodes
from needlewright.core.volumes.xfs.tables import XfsTables, probe


class XfsReader(XfsTables):
    """An open XFS volume."""

    def __init__(self, volume: Source) -> None:
        super().__init__(volume)
        self._walked = False
        self._gone: RemovedInodes | None = None

    def live(self) -> Iterator[Entry]:
        self.folders = {self.geometry.root: ""}
        queue = deque([self.geometry.root])
        while queue:
            number = queue.popleft()
            path = self.folders[number]
            inode = self.inode(number)
            if inode is None or inode.mode & FORMAT != FOLDER:
                self._problems.add("folder-damaged", self.inode_at(number), path=path or "/")
                continue
            for inner, name, removed, at in self.names(inode):
                if removed or name in (".", ".."):
                    continue
                found = self.inode(inner)
                whole = path_in(path, name)
                if found is None or not found.links:
                    self._problems.add("inode-missing", at, path=whole)
                elif found.mode & FORMAT == FOLDER:
                    if inner in self.folders or whole.count("/") > MAX_DEPTH:
                        self._problems.add("folder-loop", at, path=whole)
                        continue
                    self.folders[inner] = whole
                    queue.append(inner)
                elif found.mode & FORMAT == REGULAR:
                    extents, why = self.extents(found)
                    doubts: Doubts = ((why, {}),) if why else ()
                    yield Entry(whole, found.size, self.inode_at(inner), False, found.times,
                                Placed.CHAIN if why else Placed.EXACT, extents, doubts=doubts)
        self._walked = True

    def removed(self) -> Iterator[Entry]:
        if not self._walked:
            for _ in self.live():
                pass
        if self._gone is None:
            self._gone = RemovedInodes(self)
        yield from self._gone.entries()


def _by_copy(source: Source, where: int) -> int | None:
    """The volume's first byte, from the superblock of any of its groups."""
    try:
        found = read_super(source.read_at(where, 512))
        head = source.read_at(where + found.sector_size, 16)
    except (FormatError, SourceError):
        return None
    group = struct.unpack_from(">I", head, 8)[0] if head[:4] == b"XAGF" else 0
    return where - group * found.group_blocks * found.block_size


register(FileSystem("xfs", probe, XfsReader, (Mark(MAGIC, 0, _by_copy),)))
