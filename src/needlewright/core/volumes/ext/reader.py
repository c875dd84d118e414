"""ext2, ext3 and ext4: live files by directories and inodes; removed ones see ext_removed.

Little-endian; geometry in ext_super, inodes in ext_inodes, the journal in ext_journal.
Not read: directories whose names are encrypted, external journals, fast commits.
"""

from __future__ import annotations

import struct
from collections import deque
from collections.abc import Iterator
from dataclasses import replace

from needlewright.core.errors import FormatError, SourceError
from needlewright.core.sources.pieces import PiecedSource
from needlewright.core.sources.source import Source, Span
from needlewright.core.sources.windows import Window
from needlewright.core.volumes.base import (
    MAX_DEPTH,
    Entry,
    Extents,
    FileSystem,
    Mark,
    path_in,
)
from needlewright.core.volumes.ext.inodes import (
    ENCRYPTED,
    read_inode,
)
from needlewright.core.volumes.ext.journal import Journal
from needlewright.core.volumes.ext.leaves import LostLeaves
from needlewright.core.volumes.ext.lists import LostLists
from needlewright.core.volumes.ext.removed import RemovedInodes
from needlewright.core.volumes.ext.superblock import (
    AT,
    SIZE,
    Groups,
    Super,
    read_super,
)
from needlewright.core.volumes.ext.tables import ROOT, ExtTables, copy_at, probe
from needlewright.core.volumes.registry import register


class ExtReader(ExtTables):
    """An open ext volume."""

    def __init__(self, volume: Source) -> None:
        super().__init__(volume)
        self._walked = False
        self._gone: RemovedInodes | None = None
        self._lists: LostLists | None = None

    def live(self) -> Iterator[Entry]:
        self.folders.clear()
        self.folders[ROOT] = (ROOT, "")
        queue = deque([(ROOT, "")])
        while queue:
            number, path = queue.popleft()
            inode = self.inode(number)
            if inode is None or not inode.folder:
                self._problems.add("folder-damaged", self.groups.inode_at(number), path=path or "/")
                continue
            if inode.flags & ENCRYPTED and not path:
                self._problems.add("folder-encrypted", self.groups.inode_at(number), path="/")
            for at, entry in self.entries_of(number, inode):
                if entry.name in (".", ".."):
                    continue
                inner = path_in(path, entry.name)
                found = self.inode(entry.inode)
                if found is None or found.links == 0:
                    self._problems.add("inode-missing", at, path=inner)
                elif found.folder:
                    if entry.inode in self.folders or inner.count("/") > MAX_DEPTH:
                        self._problems.add("folder-loop", at, path=inner)
                        continue
                    self.folders[entry.inode] = (number, entry.name)
                    queue.append((entry.inode, inner))
                elif found.regular:
                    yield self.entry(inner, entry.inode, found, removed=False)
        self._walked = True

    def removed(self) -> Iterator[Entry]:
        if not self._walked:
            for _ in self.live():
                pass
        if self._gone is None:
            self._gone = RemovedInodes(self, self._journal())
        known: set[int] = set()
        for entry in self._gone.entries():
            if entry.extents and entry.extents[0][0] is not None:
                known.add(entry.extents[0][0])
            yield entry
        if self.geometry.kind == "ext4":
            yield from LostLeaves(self).entries(known)
        else:
            self._lists = self._lists or LostLists(self)
            yield from self._lists.entries()

    def placements(self, entry: Entry) -> Iterator[Extents]:
        places = self._lists.placements(entry) if self._lists is not None else None
        yield from super().placements(entry) if places is None else places

    def _journal(self) -> Journal | None:
        number = self.geometry.journal_inode
        inode = self.inode(number) if number else None
        if inode is None:
            return None
        extents, _ = self.extents(inode)
        return Journal(PiecedSource(self._volume, extents), self.geometry.block_size)


def _by_super(source: Source, where: int) -> int | None:
    """The volume's first byte, from a superblock or a copy in the sector at `where`."""
    try:
        found = read_super(source.read_at(where, SIZE))
    except (FormatError, SourceError):
        return None
    start = where - (AT if found.group == 0 else copy_at(found))
    return start if start >= 0 and _has_root(source, start, found) else None


def _has_root(source: Source, start: int, found: Super) -> bool:
    """Whether the uppermost folder stands where the superblock leads: journals hold copies, too."""
    try:
        window = Window(source, Span(start, source.size))
        at = Groups(window, replace(found, group=0)).inode_at(ROOT)
        inode = read_inode(window.read_at(at, found.inode_size))
    except (FormatError, SourceError, struct.error):
        return False
    return inode is not None and inode.folder


register(FileSystem("ext", probe, ExtReader, (
    Mark(struct.pack("<H", 0xEF53), 56, _by_super),
)))
