"""Removed files of ext2, ext3 and ext4, put together from the journal's older copies.

Removing clears an inode's extents and, lately, the entry in its folder. What the journal still
holds of both brings names and places back: copies of inode blocks give each file's last map while
it was there, copies of folder blocks its name. Generations tell apart files that used one inode one
after another. Without a journal, what deleted inodes and folders' slack still hold is told.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from needlewright.core.volumes.base import MAX_DEPTH, NO_TIMES, Doubts, Entry, Placed
from needlewright.core.volumes.ext.inodes import (
    ENCRYPTED,
    INLINE_DATA,
    USES_EXTENTS,
    Inode,
    dir_entries,
    file_extents,
    inline_data,
    is_directory_block,
    read_inode,
)
from needlewright.core.volumes.ext.journal import Journal
from needlewright.core.volumes.ext.tables import ExtTables

MAX_NAMES = 500_000  # that are collected of one volume
MAX_VERSIONS = 500_000
NOW = 1 << 62  # stands for what the medium holds now, behind every transaction


@dataclass(frozen=True, slots=True)
class _Version:
    """An inode as it was in a transaction."""

    sequence: int
    inode: Inode
    at: int  # where the copy lies, bytes on the volume


@dataclass(frozen=True, slots=True)
class _Named:
    """A name that a folder held in a transaction."""

    sequence: int
    name: str
    folder: int
    at: int
    kind: int


class RemovedInodes:
    """What was there once and is not now."""

    def __init__(self, reader: ExtTables, journal: Journal | None) -> None:
        self._reader, self._journal = reader, journal
        self._versions: dict[int, list[_Version]] = {}
        self._names: dict[int, list[_Named]] = {}
        self._owner: dict[int, int] = {}  # block of a folder -> its inode
        self._given: set[tuple[int, int, str]] = set()  # (inode, folder, name) told with content
        self._count = 0
        self._collect()

    # evidence

    def _collect(self) -> None:
        reader, journal = self._reader, self._journal
        others: list[int] = []
        if journal is not None:
            for block in journal.copies:
                first = reader.groups.inodes_of(block)
                if first is None:
                    others.append(block)
                else:
                    self._take_inodes(block, first)
        for number in reader.folders:
            inode = reader.inode(number)
            if inode is not None:
                self._own_blocks(number, inode, NOW)
        for number, versions in self._versions.items():
            for version in versions:
                if version.inode.folder:
                    self._own_blocks(number, version.inode, version.sequence)
        for block in others:
            self._take_names(block)
        self._take_slack()

    def _take_inodes(self, block: int, first: int) -> None:
        """The inodes of all copies of a block of an inode table, each state once."""
        assert self._journal is not None
        size = self._reader.geometry.inode_size
        last: dict[int, bytes] = {}
        now = self._reader.block(block)
        for copy in self._journal.copies[block]:
            raw = self._journal.read(copy)
            for index in range(len(raw) // size):
                piece = raw[index * size : (index + 1) * size]
                if last.get(index) == piece or self._count >= MAX_VERSIONS:
                    continue
                last[index] = piece
                inode = read_inode(piece)
                if inode is not None and inode.regular and _still_there(
                        now[index * size : (index + 1) * size], inode):
                    continue  # what is there tells more than its older states
                if inode is not None and inode.links and (inode.regular or inode.folder):
                    at = self._reader.groups.inode_at(first + index)
                    self._versions.setdefault(first + index, []).append(
                        _Version(copy.sequence, inode, at))
                    self._count += 1
                if inode is not None and inode.folder and inode.flags & INLINE_DATA:
                    self._take_inline(first + index, inode, copy.sequence)

    def _take_inline(self, number: int, inode: Inode, sequence: int) -> None:
        """The names of a folder that its inode holds itself."""
        data = inline_data(inode)
        at = self._reader.groups.inode_at(number)
        if inode.size >= 4:
            self._name(number, _Named(sequence, "", int.from_bytes(data[:4], "little"), at, 2))
        for piece in (data[4:60], data[60:]):
            for entry in dir_entries(piece, self._reader.geometry.inodes, slack=True):
                self._name(entry.inode, _Named(sequence, entry.name, number, at, entry.kind))

    def _own_blocks(self, number: int, inode: Inode, sequence: int) -> None:
        size = self._reader.geometry.block_size
        extents, _ = self._extents(inode, sequence)
        for offset, length in extents[:4096]:
            if offset is not None:
                for block in range(offset // size, -(-(offset + length) // size)):
                    self._owner.setdefault(block, number)

    def _take_names(self, block: int) -> None:
        """The names in all copies of a folder's block."""
        assert self._journal is not None
        inodes = self._reader.geometry.inodes
        for copy in self._journal.copies[block]:
            raw = self._journal.read(copy)
            if not is_directory_block(raw, inodes):
                continue
            folder = self._owner.get(block, 0)
            for entry in dir_entries(raw, inodes, slack=True):
                if entry.name == "." and entry.at == 0:
                    folder = entry.inode
                elif entry.name == ".." and entry.at == 12:
                    self._name(folder, _Named(copy.sequence, "", entry.inode, copy.at, 2))
                elif entry.name not in (".", ".."):
                    self._name(entry.inode, _Named(copy.sequence, entry.name, folder, copy.at,
                                                   entry.kind))

    def _name(self, number: int, named: _Named) -> None:
        known = self._names.setdefault(number, [])
        # The same name in copy after copy says nothing new but that it lasted.
        for index in range(len(known) - 1, -1, -1):
            if (known[index].name, known[index].folder) == (named.name, named.folder):
                if known[index].sequence < named.sequence:
                    known[index] = named
                return
        if len(self._names) < MAX_NAMES:
            known.append(named)

    def _take_slack(self) -> None:
        """Names in what is left over in folders as they are now, and in removed folders."""
        reader = self._reader
        for number in list(reader.folders):
            inode = reader.inode(number)
            if inode is None:
                continue
            for at, entry in reader.entries_of(number, inode, slack=True):
                if entry.slack and entry.name not in (".", ".."):
                    self._name(entry.inode, _Named(-1, entry.name, number, at, entry.kind))

    # maps

    def _extents(self, inode: Inode, sequence: int) -> tuple[Any, str]:
        """The extents of an inode as it was at `sequence`: lists and nodes from copies of then."""
        geometry = self._reader.geometry

        def read(block: int) -> bytes:
            if self._journal is not None and sequence != NOW:
                old = self._journal.version(block, sequence)
                if old:
                    return old
            return self._reader.block(block)

        return file_extents(inode, geometry.block_size, geometry.blocks, read)

    # entries

    def entries(self) -> Iterator[Entry]:
        """All removed files, the best that is known of each."""
        told: set[tuple[int, int]] = set()
        for number, versions in sorted(self._versions.items()):
            current = self._reader.inode(number)
            by_generation: dict[int, list[_Version]] = {}
            for version in versions:
                by_generation.setdefault(version.inode.generation, []).append(version)
            for generation, mine in by_generation.items():
                if current is not None and current.links and current.generation == generation:
                    continue  # it is still there
                told.add((number, generation))
                if any(v.inode.regular for v in mine):
                    yield from self._of_versions(number, generation, mine, current)
        yield from self._of_table(told)
        yield from self._of_names()

    def _of_versions(self, number: int, generation: int, versions: list[_Version],
                     current: Inode | None) -> Iterator[Entry]:
        first, last = versions[0].sequence, versions[-1].sequence
        removed = current.removed if current is not None and (
            current.generation == generation) else 0
        path, doubts, at = self._path(number, first, last)
        best = max(versions, key=lambda v: (_holds_map(v.inode), v.sequence))
        inode = best.inode
        times = inode.times(removed)
        if inode.flags & INLINE_DATA:
            yield Entry(path, inode.size, best.at + 40, True, times, Placed.CHAIN,
                        data=inline_data(inode), doubts=doubts,
                        locked=bool(inode.flags & ENCRYPTED))
            return
        extents, why = self._extents(inode, best.sequence)
        placed = Placed.CHAIN if extents and _holds_map(inode) else Placed.NONE
        if placed is Placed.NONE:
            extents = ()
        more: Doubts = ((why, {}),) if why else ()
        yield Entry(path, inode.size, at or best.at, True, times, placed, extents,
                    doubts=(*doubts, *more), locked=bool(inode.flags & ENCRYPTED))

    def _path(self, number: int, first: int, last: int) -> tuple[str, Doubts, int]:
        """(path, doubts about it, where its entry stands) of an inode in a stretch of time."""
        named = self._best_name(number, first, last)
        if named is None:
            return "", (("name-lost", {}),), 0
        self._given.add((number, named.folder, named.name))
        folder = self._folder_path(named.folder, named.sequence, 0)
        path = f"{folder}/{named.name}" if folder else named.name
        doubts: Doubts = ()
        if folder.startswith("lost folder "):
            doubts = (("folder-lost", {}),)
        return path, doubts, named.at

    def _best_name(self, number: int, first: int, last: int) -> _Named | None:
        """The name that an inode had between two transactions, or nearest to them."""
        names = [n for n in self._names.get(number, ()) if n.name]
        if not names:
            return None

        def distance(named: _Named) -> int:
            if named.sequence < 0:
                return 1 << 40  # slack has no time
            if named.sequence < first:
                return (first - named.sequence) * 4  # an earlier file's, most likely
            return max(0, named.sequence - last)

        return min(names, key=distance)

    def _folder_path(self, number: int, sequence: int, depth: int) -> str:
        if number == 2:
            return ""
        live = self._reader.folders.get(number)
        named = None if live is not None else self._best_name(number, sequence, sequence)
        parent, name = live if live is not None else (
            (named.folder, named.name) if named is not None else (0, ""))
        if not name or depth > MAX_DEPTH:
            return f"lost folder {number}"
        upper = self._folder_path(parent, sequence, depth + 1)
        return f"{upper}/{name}" if upper else name

    def _of_table(self, told: set[tuple[int, int]]) -> Iterator[Entry]:
        """Removed inodes that the tables themselves still hold with a map, as ext2 leaves them."""
        reader = self._reader
        for number, inode in removed_inodes(reader):
            if (number, inode.generation) in told or not _holds_map(inode):
                continue
            told.add((number, inode.generation))
            path, doubts, _ = self._path(number, -1, NOW)
            found = reader.entry(path, number, inode, removed=True)
            yield Entry(found.path, found.size, found.record_at, True, found.times,
                        Placed.CHAIN, found.extents, found.data, (), None,
                        (*doubts, *found.doubts), found.locked)

    def _of_names(self) -> Iterator[Entry]:
        """Names of which no inode tells where they lay: of files whose record is gone, or serves
        another file now. (A file that was renamed leaves such a name as well.)"""
        live = self._live_names()
        for number, names in self._names.items():
            current = self._reader.inode(number)
            used = current is not None and current.links > 0
            for named in names:
                key = (number, named.folder, named.name)
                if not named.name or named.kind != 1 or key in self._given or (
                        (named.folder, named.name) in live):
                    continue
                folder = self._folder_path(named.folder, named.sequence, 0)
                path = f"{folder}/{named.name}" if folder else named.name
                times = NO_TIMES if current is None or used else current.times(current.removed)
                doubts: Doubts = (("record-reused", {}),) if used else ()
                yield Entry(path, 0, named.at, True, times, Placed.NONE, doubts=doubts)

    def _live_names(self) -> set[tuple[int, str]]:
        """(folder, name) of what is there now, as far as leftovers have the same."""
        wanted = {(n.folder, n.name) for names in self._names.values() for n in names}
        found: set[tuple[int, str]] = set()
        for number in {folder for folder, _ in wanted if folder in self._reader.folders}:
            inode = self._reader.inode(number)
            if inode is not None:
                found.update((number, entry.name)
                             for _, entry in self._reader.entries_of(number, inode))
        return found & wanted


def _still_there(raw: bytes, inode: Inode) -> bool:
    """Whether the inode in `raw` is the same file, and still linked."""
    links, generation = (int.from_bytes(raw[a:b], "little") for a, b in ((26, 28), (100, 104)))
    return bool(links) and generation == inode.generation and len(raw) >= 128


def _holds_map(inode: Inode) -> bool:
    """Whether an inode still says where its content lies."""
    if not inode.size:
        return False
    if inode.flags & INLINE_DATA:
        return True
    if inode.flags & USES_EXTENTS:
        return inode.map[2:4] != b"\0\0"
    return any(inode.map)


def removed_inodes(reader: ExtTables) -> Iterator[tuple[int, Inode]]:
    """(number, inode) of all regular files in the tables that have no links left."""
    import numpy as np

    from needlewright.core.volumes.ext.superblock import INODES_UNUSED

    geometry, size = reader.geometry, reader.geometry.inode_size
    for group in range(geometry.groups):
        if reader.groups.flags[group] & INODES_UNUSED:
            continue
        first = group * geometry.inodes_per_group + 1
        count = min(geometry.inodes_per_group, geometry.inodes - first + 1)
        per_read = max(1, (1 << 20) // size)
        for start in range(0, count, per_read):
            rows = min(per_read, count - start)
            raw = reader._read(reader.groups.inode_at(first + start), rows * size)
            table = np.frombuffer(raw, np.uint8, rows * size).reshape(rows, size)
            words = np.ascontiguousarray(table[:, :128]).view("<u2")
            gone = (words[:, 13] == 0) & (words[:, 0] & 0xF000 == 0x8000) & (
                (words[:, 10] != 0) | (words[:, 11] != 0))
            for row in np.flatnonzero(gone).tolist():
                inode = read_inode(raw[row * size : (row + 1) * size])
                if inode is not None and first + start + row >= 11:
                    yield first + start + row, inode
