"""HFS+ and HFSX: Apple's technical note TN1150. Big-endian.

Live files by the catalogue, with the overflow of their extents. A removed record stays behind the
end of its leaf until others move there, and in leaves that the tree has freed.
Not read: the journal, resource forks, contents compressed in attributes, hard links' own names.
"""

from __future__ import annotations

import re
import struct
import unicodedata
from collections.abc import Iterator
from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np

from needlewright.core.errors import FormatError, SourceError
from needlewright.core.sources.pieces import PiecedSource
from needlewright.core.sources.source import Source
from needlewright.core.volumes.allocation import Allocation
from needlewright.core.volumes.base import (
    MAX_DEPTH,
    Doubts,
    Entry,
    Extents,
    FileSystem,
    Mark,
    Placed,
    Reader,
    Times,
    VolumeFacts,
    VolumeState,
    cut,
    path_in,
    stated,
)
from needlewright.core.volumes.registry import register
from needlewright.core.volumes.stamps import hfs

AT = 1024
ROOT_PARENT, ROOT = 1, 2
FOLDER, FILE, FILE_THREAD = 1, 2, 4
LEAF = 0xFF
MAX_NODES = 1 << 22
FILE_BYTES, FOLDER_BYTES = 248, 88
THREAD = struct.Struct(">HIHHHIH")
# Where a thread's key begins, or the body of a file's or a folder's record.
TRACES = re.compile(rb"(?s)\x00\x06....\x00\x00\x00\x04\x00\x00|\x00[\x01\x02](?=..\x00\x00)")
Fork = tuple[int, tuple[tuple[int, int], ...]]  # size in bytes, (block, count)


@dataclass(frozen=True, slots=True)
class Header:
    """The volume header; `block` in bytes."""

    block: int
    blocks: int
    bitmap: Fork
    overflow: Fork
    catalogue: Fork


def read_header(raw: bytes) -> Header:
    """The 512 bytes of a volume header; FormatError where they are none."""
    if len(raw) < 512 or raw[:4] not in (b"H+\0\x04", b"HX\0\x05"):
        raise FormatError("no-hfs-header", offset=AT)
    block, blocks = struct.unpack_from(">II", raw, 40)
    if block < 512 or block & (block - 1) or block > 1 << 24 or not blocks:
        raise FormatError("geometry", offset=AT + 40)
    return Header(block, blocks, read_fork(raw, 112), read_fork(raw, 192), read_fork(raw, 272))


def read_fork(raw: bytes, at: int) -> Fork:
    size, _, _ = struct.unpack_from(">QII", raw, at)
    pairs = struct.unpack_from(">16I", raw, at + 16)
    return size, tuple((pairs[i], pairs[i + 1]) for i in range(0, 16, 2) if pairs[i + 1])


def _header(volume: Source) -> tuple[Header, int]:
    for at in (AT, volume.size - 1024, volume.size // 4096 * 4096 - 1024):
        try:
            return read_header(volume.read_at(at, 512)), at
        except (FormatError, SourceError):
            continue
    raise FormatError("no-hfs-volume", offset=AT)


def probe(volume: Source) -> VolumeFacts | None:
    """Facts of an HFS+ volume that begins at byte 0."""
    try:
        found, at = _header(volume)
    except FormatError:
        return None
    size = found.block * found.blocks
    state = VolumeState.DAMAGED if at != AT or size > volume.size else VolumeState.SOUND
    return VolumeFacts("hfsplus", size, found.block, "", "", state, ("hfs-removed",))


Runs = tuple[tuple[int, int], ...]  # (first block, count)
Further = dict[int, list[tuple[int, Runs]]]  # number of a file -> (its block, runs from there on)
OVERFLOW_KEY, OVERFLOW_BYTES = b"\0\x0a\0\0", 76  # of the data's fork (TN1150, extents overflow)


class _Tree:
    """A B-tree in a fork: its nodes by number."""

    def __init__(self, content: Source) -> None:
        self._content = content
        head = content.read_at(0, 512)
        if len(head) < 120:
            raise FormatError("tree-without-header", offset=0)
        self.first_leaf = struct.unpack_from(">I", head, 24)[0]
        self.node_size = struct.unpack_from(">H", head, 32)[0]
        if self.node_size < 512 or self.node_size & (self.node_size - 1):
            raise FormatError("tree-without-node-size", offset=32)
        self.nodes = min(content.size // self.node_size, MAX_NODES)

    def node(self, number: int) -> bytes:
        try:
            raw = self._content.read_at(number * self.node_size, self.node_size)
        except SourceError:
            return b""
        return raw if len(raw) == self.node_size else b""

    def leaves(self) -> Iterator[tuple[int, bytes]]:
        """(number, node) of the leaves in order."""
        number, seen = self.first_leaf, set[int]()
        while number and number < self.nodes and number not in seen:
            seen.add(number)
            raw = self.node(number)
            if not raw or raw[8] != LEAF:
                return
            yield number, raw
            number = struct.unpack_from(">I", raw)[0]

    def records(self, raw: bytes) -> Iterator[tuple[int, int]]:
        """(start, stop) of the records of a node."""
        count = struct.unpack_from(">H", raw, 10)[0]
        if 2 * (count + 1) > len(raw) - 14:
            return
        offsets = struct.unpack_from(f">{count + 1}H", raw, len(raw) - 2 * (count + 1))[::-1]
        for start, stop in pairwise(offsets):
            if 14 <= start < stop <= len(raw):
                yield start, stop


@dataclass(frozen=True, slots=True)
class _Record:
    """A record of the catalogue."""

    parent: int
    name: str
    kind: int
    number: int
    times: Times
    fork: Fork
    at: int


def _record(raw: bytes, at: int, stop: int) -> _Record | None:
    """The record whose key begins at `at`; None where there is none of a file or folder."""
    if at + 8 > stop:
        return None
    key, parent, length = struct.unpack_from(">HIH", raw, at)
    if key != 6 + 2 * length or length > 255 or at + 2 + key + 2 > stop:
        return None
    name = raw[at + 8 : at + 8 + 2 * length].decode("utf-16-be", "replace")
    body = at + 2 + key + key % 2
    kind = struct.unpack_from(">H", raw, body)[0]
    if kind not in (FOLDER, FILE) or body + (
            FILE_BYTES if kind == FILE else FOLDER_BYTES) > stop or not length:
        return None
    number, created, modified = struct.unpack_from(">III", raw, body + 8)
    accessed = struct.unpack_from(">I", raw, body + 24)[0]
    fork = read_fork(raw, body + 88) if kind == FILE else (0, ())
    return _Record(parent, _plain(name), kind, number,
                   Times(hfs(created), hfs(modified), hfs(accessed)), fork, at)


def _plain(name: str) -> str:
    """A name as other systems write it: composed, and with what HFS has for a slash."""
    return unicodedata.normalize("NFC", name).replace("/", ":")


class HfsReader(Reader):
    """An open HFS+ volume."""

    def __init__(self, volume: Source) -> None:
        super().__init__(volume, stated(probe(volume), "HFS+"))
        self.header, at = _header(volume)
        if at != AT:
            self._problems.add("boot-from-copy", AT)
        self._overflow: Further = {}
        self._lost: Further = {}  # of files that may be gone
        self._overflow = self._load_overflow()
        self._tree = _Tree(self._fork_source(self.header.catalogue, 4))
        self._allocation = self._bitmap()
        self._folders: dict[int, tuple[int, str]] | None = None
        self._names: set[int] = set()

    def allocation(self) -> Allocation:
        return self._allocation

    def _fork_source(self, fork: Fork, number: int) -> PiecedSource:
        extents, _ = self._extents(fork, number)
        return PiecedSource(self._volume, extents)

    def _extents(self, fork: Fork, number: int, removed: bool = False) -> tuple[Extents, str]:
        size, runs = fork
        block = self.header.block
        pieces = list(runs)
        further = self._overflow.get(number) or (self._lost.get(number, []) if removed else [])
        for start, more in sorted(further):
            if start == sum(n for _, n in pieces):
                pieces += more
        if any(b + n > self.header.blocks for b, n in pieces):
            return (), "extents-outside"
        out = cut([(b * block, n * block) for b, n in pieces], size)
        short = sum(n for _, n in out) < size
        return out, "extents-short" if short else ""

    def _load_overflow(self) -> Further:
        found: Further = {}
        try:
            tree = _Tree(self._fork_source(self.header.overflow, 3))
        except FormatError:
            self._problems.add("tree-wrong", AT + 192)
            return found
        for _, raw in tree.leaves():
            for start, stop in tree.records(raw):
                if stop - start >= OVERFLOW_BYTES and raw[start : start + 4] == OVERFLOW_KEY:
                    number, first, runs = _further(raw, start)
                    found.setdefault(number, []).append((first, runs))
        return found

    def _load_lost(self) -> None:
        """What the tree of further extents still holds of removed files."""
        try:
            tree = _Tree(self._fork_source(self.header.overflow, 3))
        except FormatError:
            return  # told when the others were read
        unused = {node: max((stop for _, stop in tree.records(raw)), default=14)
                  for node, raw in tree.leaves()}
        for node in range(1, tree.nodes):
            for number, first, runs in stray_extents(
                    tree.node(node), unused.get(node, 14), self.header.blocks):
                self._lost.setdefault(number, []).append((first, runs))

    def _bitmap(self) -> Allocation:
        source = self._fork_source(self.header.bitmap, 6)
        count = self._fitting(self.header.blocks, self.header.block)
        try:
            raw = source.read_at(0, -(-count // 8))
        except SourceError:
            raw = b""
        bits = np.frombuffer(raw.ljust(-(-count // 8), b"\0"), np.uint8)
        # The first block is the highest bit here.
        return Allocation.of_flags(self.header.block, 0,
                                   np.unpackbits(bits)[:count].astype(np.bool_))

    # entries

    def _load(self) -> None:
        """Folder -> (parent, name); and the numbers of all that is there."""
        self._folders = {}
        for _, raw in self._tree.leaves():
            for start, stop in self._tree.records(raw):
                record = _record(raw, start, stop)
                if record is None:
                    continue
                self._names.add(record.number)
                if record.kind == FOLDER:
                    self._folders[record.number] = (record.parent, record.name)

    def _path(self, number: int) -> str:
        parts: list[str] = []
        assert self._folders is not None
        for _ in range(MAX_DEPTH):
            if number in (ROOT, ROOT_PARENT):
                break
            if number not in self._folders:
                parts.append(f"lost folder {number}")
                break
            number, name = self._folders[number]
            parts.append(name)
        return "/".join(reversed(parts))

    def live(self) -> Iterator[Entry]:
        self._load()
        for number, raw in self._tree.leaves():
            for start, stop in self._tree.records(raw):
                record = _record(raw, start, stop)
                if record is not None and record.kind == FILE and record.number != ROOT:
                    yield self._entry(record, number, removed=False)

    def _entry(self, record: _Record, node: int, removed: bool) -> Entry:
        extents, why = self._extents(record.fork, record.number, removed)
        path = path_in(self._path(record.parent), record.name)
        doubts: Doubts = ((why, {}),) if why else ()
        if path.startswith("lost folder "):
            doubts = (*doubts, ("folder-lost", {}))
        at = self._fork_source(self.header.catalogue, 4).place(
            node * self._tree.node_size + record.at) or 0
        placed = Placed.CHAIN if why or removed else Placed.EXACT
        return Entry(path, record.fork[0], at, removed, record.times,
                     placed if extents else Placed.NONE, extents, doubts=doubts)

    def removed(self) -> Iterator[Entry]:
        if self._folders is None:
            self._load()
        assert self._folders is not None
        if not self._lost:
            self._load_lost()
        in_use = {number for number, _ in self._tree.leaves()}
        kept: dict[int, tuple[_Record, int]] = {}
        names: dict[int, tuple[int, str]] = {}
        for number in range(1, self._tree.nodes):
            raw = self._tree.node(number)
            if not raw:
                continue
            start = 14
            if number in in_use:
                ends = [stop for _, stop in self._tree.records(raw)]
                start = max(ends, default=14)
            for record in _strays(raw, start, self.header):
                if record.number in self._names:
                    continue
                if record.kind == FOLDER:
                    self._folders.setdefault(record.number, (record.parent, record.name))
                elif record.kind == FILE_THREAD:
                    names.setdefault(record.number, (record.parent, record.name))
                elif record.fork[0]:
                    known = kept.get(record.number)
                    if known is None or (record.name and not known[0].name):
                        kept[record.number] = (record, number)
        yield from self._kept(kept, names)

    def _kept(self, kept: dict[int, tuple[_Record, int]],
              names: dict[int, tuple[int, str]]) -> Iterator[Entry]:
        """The removed files of what was left over: whole records, and parts that fit together."""
        for number, (record, node) in kept.items():
            if not record.name and number in names:
                record = replace(record, parent=names[number][0], name=names[number][1])
            entry = self._entry(record, node, removed=True)
            if record.name:
                yield entry
            else:
                yield replace(entry, path="", doubts=(("name-lost", {}),))
        for number, (parent, name) in names.items():
            if number not in kept and self._folders is not None and number not in self._folders:
                yield Entry(path_in(self._path(parent), name), 0, 0, True, placed=Placed.NONE)


def _further(raw: bytes, at: int) -> tuple[int, int, Runs]:
    """(number of the file, its block from which on these lie, their runs) of a record at `at`."""
    number, first = struct.unpack_from(">II", raw, at + 4)
    pairs = struct.unpack_from(">16I", raw, at + 12)
    return number, first, tuple(
        (pairs[i], pairs[i + 1]) for i in range(0, 16, 2) if pairs[i + 1])


def stray_extents(raw: bytes, start: int, blocks: int) -> Iterator[tuple[int, int, Runs]]:
    """Records of further extents in room that a node of their tree does not use, from `start` on:
    those of removed files, and older states of others. `blocks`: of the volume."""
    at = raw.find(OVERFLOW_KEY, start)
    while 0 <= at <= len(raw) - OVERFLOW_BYTES:
        number, first, runs = _further(raw, at)
        if number >= 16 and first and runs and all(b and b + n <= blocks for b, n in runs):
            yield number, first, runs
        at = raw.find(OVERFLOW_KEY, at + 1)


def _strays(raw: bytes, start: int, header: Header) -> Iterator[_Record]:
    """Records in room that a node does not use: whole ones, names of numbers, nameless bodies."""
    for match in TRACES.finditer(raw, start):
        at = match.start()
        if raw[at + 1] == 6:
            found = _thread(raw, at)
        else:
            found = _keyed(raw, at, start) or _body(raw, at, header)
        if found is not None and found.number >= 16:
            yield found


def _keyed(raw: bytes, body: int, start: int) -> _Record | None:
    """The record whose body begins at `body`, if its key still stands before it."""
    for length in range(1, 256):
        at = body - 8 - 2 * length
        if at < start:
            return None
        if struct.unpack_from(">H", raw, at)[0] == 6 + 2 * length and (
                struct.unpack_from(">H", raw, at + 6)[0] == length):
            record = _record(raw, at, len(raw))
            if record is not None and record.parent >= ROOT and record.times.created is not None:
                return record
    return None


def _thread(raw: bytes, at: int) -> _Record | None:
    """A record that gives a file's number its name."""
    if at + 18 > len(raw):
        return None
    key, number, length, kind, reserved, parent, name_length = THREAD.unpack_from(raw, at)
    stop = at + 18 + 2 * name_length
    if key != 6 or length or kind != FILE_THREAD or reserved or not 0 < name_length <= 255 or (
            stop > len(raw) or number < 16 or parent < ROOT):
        return None
    name = raw[at + 18 : stop].decode("utf-16-be", "replace")
    return _Record(parent, _plain(name), FILE_THREAD, number, Times(), (0, ()), at)


def _body(raw: bytes, at: int, header: Header) -> _Record | None:
    """A file's record whose key was written over: its number, times and place are left."""
    if at + FILE_BYTES > len(raw) or raw[at : at + 2] != b"\0\x02" or any(raw[at + 4 : at + 8]):
        return None
    number, created, modified = struct.unpack_from(">III", raw, at + 8)
    size, _, blocks = struct.unpack_from(">QII", raw, at + 88)
    fork = read_fork(raw, at + 88)
    told = sum(n for _, n in fork[1])
    fits = (0 < size <= blocks * header.block < size + header.block * 65 and told <= blocks
            and fork[1] and all(b + n <= header.blocks for b, n in fork[1]))
    times = Times(hfs(created), hfs(modified), None)
    if number < 16 or not fits or times.created is None or times.modified is None:
        return None
    return _Record(0, "", FILE, number, times, fork, at)


register(FileSystem("hfsplus", probe, HfsReader, (
    Mark(b"H+\x00\x04", 0, lambda source, where: where - AT),
    Mark(b"HX\x00\x05", 0, lambda source, where: where - AT),
)))
