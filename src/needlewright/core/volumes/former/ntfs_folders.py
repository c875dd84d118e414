"""Folders of NTFS volumes that are there, whose own records serve other files by now.

Their index blocks lie in free clusters and still name files, with sizes and times. What a record
tells by itself is left to it.
"""

from __future__ import annotations

import struct
from collections import Counter
from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from needlewright.core.errors import SourceError
from needlewright.core.volumes.allocation import Allocation
from needlewright.core.volumes.base import Entry, Placed, path_in
from needlewright.core.volumes.finding import Volume
from needlewright.core.volumes.former.leftovers import (
    Collector,
    Leftover,
    Medium,
    Sectors,
    StillThere,
    register_leftover,
)
from needlewright.core.volumes.ntfs.reader import NtfsReader
from needlewright.core.volumes.ntfs.records import (
    DOS_NAME,
    LOST_PARENT,
    FileName,
    fix_index,
    stray_names,
    stray_tails,
)

INDEX = 4096
MAX_BLOCKS = 1 << 16
FIRST_USER_RECORD = 16


class IndexCollector(Collector):
    """Collects where index blocks lie."""

    def __init__(self) -> None:
        self.blocks: list[int] = []  # bytes of the medium

    def look(self, sectors: Sectors, base: int) -> None:
        size = sectors.shape[1]
        mark = np.frombuffer(b"INDX", np.uint8)
        for row in np.flatnonzero((sectors[:, :4] == mark).all(axis=1)).tolist():
            at, count = struct.unpack_from("<HH", sectors[row, :8].tobytes(), 4)
            if at >= 24 and count == INDEX // 512 + 1 and len(self.blocks) < MAX_BLOCKS:
                self.blocks.append(base + row * size)

    @property
    def kept(self) -> int:
        return len(self.blocks)

    def former(self, medium: Medium) -> Iterator[tuple[int, StillThere]]:
        for volume, reader in medium.volumes:
            if not isinstance(reader, NtfsReader):
                continue
            blocks = [at for at in self.blocks
                      if volume.span.start <= at < volume.span.stop and not medium.in_use(at)]
            if blocks:
                yield volume.span.start, FolderNames(medium, volume, reader, blocks)


class FolderNames(StillThere):
    """The names in index blocks that no folder holds."""

    def __init__(self, medium: Medium, volume: Volume, reader: NtfsReader,
                 blocks: list[int]) -> None:
        super().__init__(medium.source, reader.facts)
        self._reader, self._blocks, self._base = reader, blocks, volume.span.start

    def allocation(self) -> Allocation | None:
        return self._reader.allocation()

    def live(self) -> Iterator[Entry]:
        return iter(())

    def removed(self) -> Iterator[Entry]:
        records = list(self._reader.told_names(True))
        told = {(name.parent, name.name) for _, name in records}
        named = {number for number, _ in records}
        for at in self._blocks:
            found = self._names_in(at)
            parents = Counter((name.parent, name.parent_sequence) for _, _, name, _ in found
                              if name.parent != LOST_PARENT)
            usual = next(iter(parents.most_common(1)), ((LOST_PARENT, 0), 0))[0]
            for ref, sequence, name, inside in found:
                if name.parent == LOST_PARENT:
                    name = replace(name, parent=usual[0], parent_sequence=usual[1])
                key = (name.parent, name.name)
                if name.of_folder or name.space == DOS_NAME or key in told or (
                        ref in named and self._reader.tells(ref, sequence)):
                    continue
                told.add(key)
                folder = self._reader.folder(name.parent, name.parent_sequence)
                if folder is not None:
                    yield Entry(path_in(folder[0], name.name), name.size,
                                at - self._base + max(0, inside), True, name.times(), Placed.NONE,
                                doubts=(("folder-lost", {}),))

    def _names_in(self, at: int) -> list[tuple[int, int, FileName, int]]:
        """(record, sequence, name, byte) of what the block at a byte of the medium names; records
        are 0 where no more of an entry is left."""
        try:
            raw = bytearray(self._volume.read_at(at, INDEX))
        except SourceError:
            return []
        if len(raw) < INDEX or not fix_index(raw):
            return []
        first = min(24 + struct.unpack_from("<I", raw, 24)[0], INDEX)
        found = list(stray_names(bytes(raw), first, INDEX))
        places = {inside for _, _, _, inside in found}
        found += [(0, 0, name, inside) for name, inside in stray_tails(
            bytes(raw), first, INDEX, self._reader.boot.cluster_size) if inside not in places]
        return [one for one in found if not 0 < one[0] < FIRST_USER_RECORD]


register_leftover(Leftover("ntfs-folders", IndexCollector))
