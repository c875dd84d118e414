"""Removed files of XFS, from what the log, freed inodes, freed room in folders, and leaves of
extent trees in free space say together."""

from __future__ import annotations

import struct
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from itertools import pairwise

from needlewright.core.errors import SourceError
from needlewright.core.volumes.base import (
    MAX_DEPTH,
    Doubts,
    Entry,
    Extents,
    Placed,
    Times,
    cut,
    path_in,
)
from needlewright.core.volumes.xfs.layout import (
    BIG_TIME,
    EXTENTS,
    FOLDER,
    FORMAT,
    LOCAL,
    REGULAR,
    Inode,
    read_time,
)
from needlewright.core.volumes.xfs.leaves import LostLeaves, Piece
from needlewright.core.volumes.xfs.log import OldBlock, OldInode, read_log
from needlewright.core.volumes.xfs.tables import XfsTables

CHUNK = 64  # inodes


@dataclass(frozen=True, slots=True)
class _Old:
    """A file as the log last knew it."""

    sequence: int
    size: int
    times: Times
    extents: bytes


class RemovedInodes:
    """What was there once and is not now."""

    def __init__(self, reader: XfsTables) -> None:
        self._reader = reader
        self._old: dict[int, _Old] = {}
        self._strays: dict[int, tuple[int, str]] = {}  # lower half of a number -> folder, name
        self._named_at: dict[int, int] = {}  # where in the log a name stood last
        self._gone_folders: set[int] = set()
        self._chunks: set[int] = set()  # of 64 inodes each, those that the trees name
        self._leaves = LostLeaves(reader)
        self._read_log()

    def entries(self) -> Iterator[Entry]:
        """All removed files, the best that is known of each."""
        told: set[int] = set()
        for number in self._free_inodes():
            told.add(number)
            entry = self._removed_entry(number)
            if entry is not None:
                yield entry
        for number in sorted({*self._old, *self._low_numbers(), *self._leaves.owners()} - told):
            now = self._reader.inode(number)
            if now is None or not now.links or number // CHUNK not in self._chunks:
                entry = self._removed_entry(number)
                if entry is not None:
                    yield entry

    def _low_numbers(self) -> list[int]:
        """The numbers of inodes that leftovers name, where half of a number is all of it."""
        return [number for number in self._strays if number >> 32 == 0]

    def _removed_entry(self, number: int) -> Entry | None:
        """What the log and a freed inode's fork say together of a removed file."""
        at = self._reader.inode_at(number)
        inode = self._reader.parse(self._reader._read(at, self._reader.geometry.inode_size), number)
        old = self._old.get(number)
        if inode is not None and inode.mode & FORMAT and number // CHUNK in self._chunks:
            return None
        path = self._path_of(number)
        doubts: Doubts = () if path else (("name-lost", {}),)
        pieces: list[tuple[int, int, int, bool]] = []
        extents: Extents = ()
        size, loose = 0, self._reader.geometry.block_size
        listed, complete = self._listed(number)
        if inode is not None and inode.mode & FORMAT == REGULAR and inode.number == number:
            # Its whole chunk of inodes was freed, and nobody cared to clear them.
            extents, _ = self._reader.extents(inode)
            if extents:
                return Entry(path, inode.size, at, True, inode.times, Placed.CHAIN, extents,
                             doubts=doubts)
        elif inode is not None:
            extents = self._old_fork(inode, pieces)
            size = sum(n for _, n in extents)
        times = inode.times if inode is not None else Times()
        if old is not None and old.size:
            if old.extents and not extents:
                pieces.clear()
                self._reader.records(old.extents, pieces)
                extents, _ = self._reader.laid_out(pieces, old.size, "")
            elif extents and size - loose < old.size <= size:
                extents = cut(extents, old.size)
            if sum(n for _, n in extents) == old.size:
                size, loose = old.size, 0
            times = old.times
        by_leaves = sum(count for _, count, _, _ in listed) * self._reader.geometry.block_size
        if by_leaves > sum(n for o, n in extents if o is not None):
            return self._by_leaves(Entry(path, 0, at, True, times, Placed.CHAIN, doubts=doubts),
                                   listed, complete, old.size if old is not None else 0)
        if not extents and number in self._gone_folders:
            return None
        if not extents:
            return Entry(path, 0, at, True, times, Placed.NONE) if path else None
        return Entry(path, size, at, True, times, Placed.CHAIN, extents, doubts=doubts,
                     loose=loose)

    def _listed(self, number: int) -> tuple[list[Piece], bool]:
        """The pieces that leaves of its tree name, and whether all are there; none of a folder."""
        pieces, whole = self._leaves.pieces(number)
        folder = number in self._gone_folders or (
            pieces and self._reader._read(pieces[0][2], 4) in (b"XDD3", b"XDB3"))
        return ([], False) if folder else (pieces, whole)

    def _by_leaves(self, entry: Entry, listed: list[Piece], whole: bool, told: int) -> Entry:
        """`entry`, placed by the leaves of its tree; `told`: the size that the log knows, or 0."""
        block = self._reader.geometry.block_size
        reached = (listed[-1][0] + listed[-1][1]) * block
        size = told or reached
        extents, why = self._reader.laid_out(listed, size, "")
        gaps = any(a[0] + a[1] < b[0] for a, b in pairwise(listed)) or listed[0][0] > 0
        missing = gaps or size > reached or (not whole and not told)
        doubts = entry.doubts + ((("runs-missing", {}),) if missing else ())
        if why:
            doubts += ((why, {}),)
        return replace(entry, size=sum(n for _, n in extents), extents=extents, doubts=doubts,
                       loose=0 if 0 < told <= reached else block)

    # what the log still tells

    def _read_log(self) -> None:
        """The last state of each inode, and the names of folders' older blocks."""
        self._old.clear()
        raw = self._reader.volume.read_at(0, 512)
        start = self._reader.byte(struct.unpack_from(">Q", raw, 48)[0])
        length = struct.unpack_from(">I", raw, 96)[0] * self._reader.geometry.block_size
        owners = self._folder_blocks()
        self._strays = {n: (f, name) for f, n, name in self._removed_names()}
        if start is None or not length:
            return
        try:
            for item in read_log(self._reader.volume, start, length):
                if isinstance(item, OldBlock):
                    self._leaves.note(item)
                    self._take_block(item, owners)
                else:
                    self._take_inode(item)
        except SourceError:
            self._reader.problem("log-unreadable", start)
        self._leaves.settle()

    def _folder_blocks(self) -> dict[int, int]:
        """Byte of a block -> the folder whose entries it holds."""
        found: dict[int, int] = {}
        for number in self._reader.folders:
            inode = self._reader.inode(number)
            if inode is None or inode.form == LOCAL:
                continue
            for offset, length in self._reader.extents(inode)[0]:
                if offset is not None:
                    for at in range(offset, offset + length, self._reader.geometry.folder_size):
                        found[at] = number
        return found

    def _take_inode(self, item: OldInode) -> None:
        core = item.core
        mode, form = struct.unpack_from("<HxB", core, 2)
        number = item.number
        if mode & FORMAT == FOLDER:
            self._gone_folders.add(number)
        if mode & FORMAT == FOLDER and item.short:
            small = Inode(number, mode, LOCAL, 1, 0, 0, item.short, Times())
            for inner, name, _, _ in self._reader.short_names(small):
                self._name(inner, number, name, item.sequence)
            return
        size = struct.unpack_from("<Q", core, 56)[0]
        known = self._old.get(number)
        if mode & FORMAT != REGULAR or not size or (known and known.sequence > item.sequence):
            return
        big = len(core) >= 128 and bool(struct.unpack_from("<Q", core, 120)[0] & BIG_TIME)
        times = Times(read_time(core, 144, big, "<") if len(core) >= 152 else None,
                      read_time(core, 40, big, "<"), read_time(core, 32, big, "<"))
        extents = item.extents or (known.extents if known else b"")
        self._old[number] = _Old(item.sequence, size, times, extents if form == EXTENTS else b"")

    def _take_block(self, item: OldBlock, owners: Mapping[int, int]) -> None:
        """Names in a changed stretch of a folder's block; each entry knows where it stands."""
        size = self._reader.geometry.folder_size
        folder = owners.get(item.block_at // size * size, 0)
        if item.offset == 0 and item.data[:4] in (b"XDB3", b"XDD3") and len(item.data) >= 48:
            folder = struct.unpack_from(">Q", item.data, 40)[0] or folder
        at = -item.offset % 8
        while at + 16 <= len(item.data):
            length = item.data[at + 8]
            room = self._reader.room(length)
            name = item.data[at + 9 : at + 9 + length]
            tag = item.data[at + room - 2 : at + room]
            fits = length and len(tag) == 2 and int.from_bytes(tag, "big") == item.offset + at
            if fits and b"\0" not in name and b"/" not in name and name not in (b".", b".."):
                number = int.from_bytes(item.data[at : at + 8], "big")
                if item.data[at : at + 2] != b"\xff\xff":
                    self._name(number, folder, name.decode("utf-8", "replace"), item.sequence)
                at += room
            else:
                at += 8

    def _name(self, inode: int, folder: int, name: str, sequence: int) -> None:
        """Note a name of the log: it is dated, where freed room may be of any age."""
        low = inode & 0xFFFF_FFFF
        if self._named_at.get(low, -1) <= sequence:
            self._named_at[low] = sequence
            self._strays[low] = (folder, name)

    def _path_of(self, number: int, depth: int = 0) -> str:
        """The path that leftovers give to an inode; "" where they give none."""
        stray = self._strays.get(number & 0xFFFF_FFFF)
        if stray is None or depth > MAX_DEPTH:
            return ""
        folder, name = stray
        if folder in self._reader.folders:
            return path_in(self._reader.folders[folder], name)
        return path_in(self._path_of(folder, depth + 1) or f"lost folder {folder}", name)

    def _removed_names(self) -> Iterator[tuple[int, int, str]]:
        """(folder, lower half of an inode's number, name) of names in freed room."""
        for number in self._reader.folders:
            inode = self._reader.inode(number)
            for inner, name, removed, _ in self._reader.names(inode) if inode is not None else ():
                if removed and name not in (".", ".."):
                    yield number, inner, name

    def _free_inodes(self) -> Iterator[int]:
        """The numbers of the inodes that their trees call free."""
        geometry = self._reader.geometry
        shift = geometry.group_log + geometry.inodes_log
        for group in range(geometry.groups):
            at = self._reader.group_byte(group, 0)
            head = self._reader._read(at + 2 * geometry.sector_size, 64)
            if head[:4] != b"XAGI":
                self._reader.problem("group-damaged", at)
                continue
            root = struct.unpack_from(">I", head, 20)[0]
            for leaf in self._reader.tree(group, root, (b"IABT", b"IAB3"), (16, 56), 16, 4):
                for first, _, free in struct.iter_unpack(">IIQ", leaf[: len(leaf) // 16 * 16]):
                    self._chunks.add((group << shift | first) // CHUNK)
                    for bit in range(64):
                        if free >> bit & 1:
                            yield group << shift | first + bit

    def _old_fork(self, inode: Inode, pieces: list[tuple[int, int, int, bool]]) -> Extents:
        """The extents that a freed inode's fork still shows: records in order from byte 0."""
        at = 0
        for place in range(0, len(inode.fork) - 15, 16):
            raw = inode.fork[place : place + 16]
            if not any(raw):
                break
            before = len(pieces)
            if self._reader.records(raw, pieces) or len(pieces) == before or pieces[-1][0] < at or (
                    at == 0 and pieces[0][0] != 0) or not pieces[-1][3]:
                del pieces[before:]
                break
            at = pieces[-1][0] + pieces[-1][1]
        extents, why = self._reader.laid_out(pieces, at * self._reader.geometry.block_size, "")
        return () if why else extents
