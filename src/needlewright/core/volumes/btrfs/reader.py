"""btrfs on one device: live files of all subvolumes, snapshots as versions, removed ones from older
copies of the trees.

Little-endian; trees in btrfs_tree. Nothing is written in place, so leaves that no tree leads to any
more still tell of removed files, until their room is used again.
Not read: other devices of the same file system, striped chunks, the log tree, encrypted files.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field

import numpy as np

from needlewright.core.errors import FormatError, SourceError
from needlewright.core.sources.source import Source
from needlewright.core.volumes.allocation import Allocation
from needlewright.core.volumes.base import (
    MAX_DEPTH,
    NO_TIMES,
    Coded,
    CodedParts,
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
from needlewright.core.volumes.btrfs.tree import (
    MAGIC,
    SUPER_AT,
    Key,
    Super,
    Trees,
    read_node,
    read_super,
)
from needlewright.core.volumes.registry import register
from needlewright.core.volumes.stamps import Stamp, unix

INODE_ITEM, INODE_REF, INODE_EXTREF, EXTENT_DATA = 1, 12, 13, 108
ROOT_ITEM, ROOT_BACKREF, EXTENT_ITEM, METADATA_ITEM = 132, 144, 168, 169
FS_TREE, FIRST_FREE, LAST_FREE = 5, 256, (1 << 64) - 256
EXTENT_TREE = 2
ROOT_FOLDER = 256
FOLDER, REGULAR, FORMAT = 0x4000, 0x8000, 0xF000
CODINGS = {1: "zlib", 2: "btrfs-lzo", 3: "zstd"}
MAX_REMOVED = 1 << 19


def probe(volume: Source) -> VolumeFacts | None:
    """Facts of a btrfs device that begins at byte 0."""
    for at in (SUPER_AT, 64 << 20):
        try:
            found = read_super(volume.read_at(at, 4096))
        except (FormatError, SourceError):
            continue
        size = found.size or found.total
        damaged = at != SUPER_AT or size > volume.size or found.devices > 1
        state = VolumeState.DAMAGED if damaged else VolumeState.SOUND
        limits = ("btrfs-one-device",) if found.devices > 1 else ()
        return VolumeFacts("btrfs", size, found.sector, found.label, found.fsid.hex(), state,
                           limits)
    return None


@dataclass(slots=True)
class _File:
    """What the items of one inode say, as far as they have been read."""

    mode: int = 0
    size: int = 0
    times: Times = NO_TIMES
    at: int = 0
    links: list[tuple[int, str]] = field(default_factory=list)  # parent, name
    pieces: dict[int, tuple[int, bytes, int]] = field(default_factory=dict)
    # byte of the file -> generation, item, its byte on the volume
    version: tuple[int, int, int] = (-1, 0, 0)  # of its inode: `_version`


class BtrfsReader(Reader):
    """An open btrfs device."""

    def __init__(self, volume: Source) -> None:
        super().__init__(volume, stated(probe(volume), "btrfs"))
        self.geometry = self._super()
        self.trees = Trees(volume, self.geometry)
        if self.trees.map.missing:
            self._problems.add("chunks-elsewhere", SUPER_AT, count=self.trees.map.missing)
        self._allocation: Allocation | None = None
        self._roots: list[tuple[int, int, str, str]] | None = None

    def _super(self) -> Super:
        try:
            return read_super(self._volume.read_at(SUPER_AT, 4096))
        except (FormatError, SourceError):
            return read_super(self._volume.read_at(64 << 20, 4096))

    def allocation(self) -> Allocation:
        """What the tree of extents says is in use, on the device."""
        if self._allocation is None:
            unit = self.geometry.sector
            count = -(-self._volume.size // unit)
            found = Allocation(unit, 0, count, np.zeros(-(-count // 8), np.uint8))
            root = self._tree_root(EXTENT_TREE)
            for key, _, _, _ in self.trees.walk(root) if root else ():
                length = key.offset if key.kind == EXTENT_ITEM else self.geometry.node
                if key.kind in (EXTENT_ITEM, METADATA_ITEM):
                    found.take(self.trees.map.place(key.object, length) or ())
            self._allocation = found
        return self._allocation

    def _tree_root(self, number: int) -> int:
        for key, item, _, _ in self.trees.walk(self.geometry.root, Key(number, ROOT_ITEM, 0)):
            if key.object == number and key.kind == ROOT_ITEM:
                return int(struct.unpack_from("<Q", item, 176)[0])
            if key.object > number:
                break
        return 0

    def _subvolumes(self) -> list[tuple[int, int, str, str]]:
        """(number, root, path, version: "" or when the snapshot was made) of all subvolumes."""
        if self._roots is not None:
            return self._roots
        roots: dict[int, tuple[int, bool, str]] = {}
        names: dict[int, tuple[int, int, str]] = {}
        for key, item, _, _ in self.trees.walk(self.geometry.root):
            own = key.object == FS_TREE or FIRST_FREE <= key.object < LAST_FREE
            if key.kind == ROOT_ITEM and own and len(item) >= 239:
                copied = len(item) >= 279 and any(item[263:279])  # it has a parent's id
                stamp = unix(*struct.unpack_from("<QI", item, 339)) if len(item) >= 351 else None
                roots[key.object] = (struct.unpack_from("<Q", item, 176)[0], copied,
                                     stamp.text() if stamp else "")
            elif key.kind == ROOT_BACKREF and len(item) >= 18:
                folder, _, length = struct.unpack_from("<QQH", item)
                names[key.object] = (key.offset, folder,
                                     item[18 : 18 + length].decode("utf-8", "replace"))
        self._roots = []
        for number, (root, copied, made) in sorted(roots.items()):
            path, at = "", number
            for _ in range(MAX_DEPTH):
                if at not in names:
                    break
                path = path_in(names[at][2], path) if path else names[at][2]
                at = names[at][0]
            self._roots.append((number, root, path, f"{path} {made}".strip() if copied else ""))
        return self._roots

    # live

    def live(self) -> Iterator[Entry]:
        for _, root, path, version in self._subvolumes():
            yield from self._tree_files(root, path, version)

    def _tree_files(self, root: int, above: str, version: str) -> Iterator[Entry]:
        folders = self._folders(root)
        number, found = -1, _File()
        for key, item, at, _ in self.trees.walk(root):
            if key.object != number:
                yield from self._live_file(number, found, folders, above, version)
                number, found = key.object, _File()
            _take(found, key, item, at, 0)
        yield from self._live_file(number, found, folders, above, version)

    def _live_file(self, number: int, found: _File, folders: Mapping[int, tuple[int, str]],
                   above: str, version: str) -> Iterator[Entry]:
        if found.mode & FORMAT != REGULAR:
            return
        for parent, name in found.links:
            path = path_in(above, path_in(_path(parent, folders), name))
            yield self._entry(path, found, False, version)

    def _folders(self, root: int) -> dict[int, tuple[int, str]]:
        """Folder -> (parent, name), of the folders of one tree."""
        names: dict[int, tuple[int, str]] = {}
        number, found = -1, _File()
        for key, item, at, _ in self.trees.walk(root):
            if key.object != number:
                if found.mode & FORMAT == FOLDER and found.links:
                    names[number] = found.links[0]
                number, found = key.object, _File()
            if key.kind in (INODE_ITEM, INODE_REF, INODE_EXTREF):
                _take(found, key, item, at, 0)
        if found.mode & FORMAT == FOLDER and found.links:
            names[number] = found.links[0]
        return names

    def _entry(self, path: str, found: _File, removed: bool, version: str = "",
               doubts: Doubts = ()) -> Entry:
        extents, coded, data, why = self._content(found)
        if why:
            doubts = (*doubts, (why, {}))
        placed = Placed.CHAIN if removed or why else Placed.EXACT
        return Entry(path, found.size, found.at, removed, found.times, placed, extents, data, coded,
                     None, doubts, why == "file-encrypted", version)

    def _content(self, found: _File) -> tuple[Extents, CodedParts, bytes | None, str]:
        """(extents, compressed parts, inline content, what is wrong)."""
        parts: list[Coded | tuple[int | None, int]] = []
        at, why = 0, ""
        for start, (_, item, _) in sorted(found.pieces.items()):
            if start >= found.size:
                break
            if len(item) < 21 or start < at:
                why = "extents-wrong"
                continue
            made, coding, locked, kind = struct.unpack_from("<QBBxxB", item, 8)
            if locked:
                return (), (), None, "file-encrypted"
            if kind == 0:
                return self._inline(item[21:], made, coding, found.size)
            if len(item) < 53:
                why = "extents-wrong"
                continue
            address, stored, skip, length = struct.unpack_from("<QQQQ", item, 21)
            if start > at:
                parts.append((None, start - at))
            at = start + length
            if address == 0 or kind == 2:
                parts.append((None, length))
                continue
            places = self.trees.map.place(address if coding else address + skip,
                                          stored if coding else length)
            if places is None:
                parts.append((None, length))
                why = why or "extents-elsewhere"
            elif coding:
                parts.append(Coded(tuple(places), length, CODINGS.get(coding, "?"), made, skip))
            else:
                parts += places
        if at < found.size:
            parts.append((None, found.size - at))
        if any(isinstance(p, Coded) for p in parts):
            return (), _trimmed(parts, found.size), None, why
        return cut([p for p in parts if isinstance(p, tuple)], found.size), (), None, why

    def _inline(self, raw: bytes, made: int, coding: int, size: int) -> tuple[
            Extents, CodedParts, bytes | None, str]:
        from needlewright.core.volumes.codings import unpack

        if coding:
            try:
                raw = unpack(CODINGS.get(coding, "?"), raw, made)
            except (KeyError, FormatError):
                return (), (), None, "extents-wrong"
        return (), (), raw[:size].ljust(size, b"\0") if size <= 1 << 16 else None, ""

    # removed

    def removed(self) -> Iterator[Entry]:
        """Files of older leaves in the chunks that hold trees, that no tree names any more."""
        live: set[tuple[int, int]] = set()
        names: dict[int, dict[int, tuple[int, str]]] = {}
        above = {number: path for number, _, path, _ in self._subvolumes()}
        for number, root, _, version in self._subvolumes():
            if version:
                continue
            names[number] = self._folders(root)
            live |= {(number, k.object) for k, _, _, _ in self.trees.walk(root)
                     if k.kind == INODE_ITEM}
        old = self._old_files(live, names)
        for (owner, _), found in sorted(old.items()):
            if found.mode & FORMAT != REGULAR or not found.size:
                continue
            links = found.links or [(0, "")]
            parent, name = links[0]
            path = path_in(above.get(owner, ""), path_in(_path(parent, names.get(owner, {})), name))
            doubts: Doubts = (("folder-lost", {}),) if "lost folder " in path else ()
            if name:
                yield self._entry(path, found, True, "", doubts)
            else:
                yield self._entry("", found, True, "", (("name-lost", {}),))

    def _old_files(self, live: set[tuple[int, int]],
                   names: dict[int, dict[int, tuple[int, str]]]) -> dict[tuple[int, int], _File]:
        """(tree, inode) -> the newest state of what is not there any more."""
        found: dict[tuple[int, int], _File] = {}
        size = self.geometry.node
        for logical, physical, length in self.trees.map.metadata():
            for at in range(0, length - size + 1, size):
                if at % (1 << 20) == 0:
                    block = self._read(physical + at, min(1 << 20, length - at))
                inside = at % (1 << 20)
                raw = block[inside : inside + size]
                if raw[32:48] != self.geometry.metadata_id:
                    continue
                node = read_node(raw, self.geometry.metadata_id)
                if node is None or node.level or node.address != logical + at or (
                        node.owner != FS_TREE and not FIRST_FREE <= node.owner < LAST_FREE):
                    continue
                for key, item, start in node.items():
                    if key.kind not in (INODE_ITEM, INODE_REF, INODE_EXTREF, EXTENT_DATA) or (
                            node.owner, key.object) in live or len(found) >= MAX_REMOVED:
                        continue
                    file = found.setdefault((node.owner, key.object), _File())
                    _take(file, key, item, physical + at + start, node.generation)
        for (owner, number), file in found.items():
            if file.mode & FORMAT == FOLDER and file.links:
                names.setdefault(owner, {}).setdefault(number, file.links[0])
        return found


def _take(found: _File, key: Key, item: bytes, at: int, generation: int) -> None:
    """Note what one item says of its inode; newer ones count."""
    if key.kind == INODE_ITEM and len(item) >= 160:
        size = struct.unpack_from("<Q", item, 16)[0]
        # An empty state may be the one on the way to the removal: any other goes before it.
        if (size > 0, _version(item, generation)) < (found.size > 0, found.version):
            return
        found.size, found.version = size, _version(item, generation)
        found.mode = struct.unpack_from("<I", item, 52)[0]
        found.times = Times(_time(item, 148), _time(item, 136), _time(item, 112))
        found.at = at
    elif key.kind == INODE_REF:
        place = 0
        while place + 10 <= len(item):
            length = struct.unpack_from("<H", item, place + 8)[0]
            name = item[place + 10 : place + 10 + length].decode("utf-8", "replace")
            if (key.offset, name) not in found.links:
                found.links.append((key.offset, name))
            place += 10 + length
    elif key.kind == INODE_EXTREF:
        place = 0
        while place + 18 <= len(item):
            parent, _, length = struct.unpack_from("<QQH", item, place)
            name = item[place + 18 : place + 18 + length].decode("utf-8", "replace")
            if (parent, name) not in found.links:
                found.links.append((parent, name))
            place += 18 + length
    elif key.kind == EXTENT_DATA:
        known = found.pieces.get(key.offset)
        if known is None or (generation, _reach(item)) >= (known[0], _reach(known[1])):
            found.pieces[key.offset] = (generation, item, at)


def _version(item: bytes, generation: int) -> tuple[int, int, int]:
    """Which state of its inode an item is. A node may be written several times in a transaction,
    so that more than its generation tells: the inode's own, and the count of its changes."""
    transaction = struct.unpack_from("<Q", item, 8)[0]
    return generation, transaction, struct.unpack_from("<Q", item, 72)[0]


def _reach(item: bytes) -> int:
    """The bytes of the file for which an extent's item stands; a removal makes them fewer."""
    return struct.unpack_from("<Q", item, 45)[0] if len(item) >= 53 else 0


def _time(item: bytes, at: int) -> Stamp | None:
    return unix(*struct.unpack_from("<qI", item, at))


def _path(number: int, folders: Mapping[int, tuple[int, str]]) -> str:
    parts: list[str] = []
    for _ in range(MAX_DEPTH):
        if number == ROOT_FOLDER:
            break
        if number not in folders:
            parts.append(f"lost folder {number}")
            break
        number, name = folders[number]
        parts.append(name)
    return "/".join(reversed(parts))


def _trimmed(parts: list[Coded | tuple[int | None, int]], size: int) -> CodedParts:
    """The parts as far as the file goes."""
    import dataclasses

    out: list[Coded | tuple[int | None, int]] = []
    for part in parts:
        length = min(size, part[1] if isinstance(part, tuple) else part.length)
        size -= length
        if length > 0:
            out.append((part[0], length) if isinstance(part, tuple)
                       else dataclasses.replace(part, length=length))
    return tuple(out)


register(FileSystem("btrfs", probe, BtrfsReader, (
    Mark(MAGIC, 64, lambda source, where: where - SUPER_AT),
)))
