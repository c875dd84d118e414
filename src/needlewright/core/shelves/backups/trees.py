"""The files that the volumes of an image hold now, by their folders."""

from __future__ import annotations

import os
import weakref
from collections.abc import Callable
from pathlib import Path

from needlewright.core.errors import FormatError, SourceError
from needlewright.core.names import one_line
from needlewright.core.shelves.item_shelf import MOST_DEPTH, MOST_ITEMS
from needlewright.core.sources.memory import MemorySource
from needlewright.core.sources.pieces import PiecedSource
from needlewright.core.sources.registry import open_source
from needlewright.core.sources.source import Source
from needlewright.core.volumes.base import Entry, VolumeState
from needlewright.core.volumes.codings import UnpackedSource
from needlewright.core.volumes.finding import Volume, find_volumes, open_volume

OFTEN = 256  # files between two breaths
#: path below its image -> what each folder holds: the record of a file and where its volume begins,
#: None for a folder
Folders = dict[str, dict[str, tuple[Entry, int] | None]]


def content_of(image: Source, entry: Entry, base: int) -> Source:
    """The bytes of a file whose volume begins at byte `base` of an image."""
    if entry.data is not None:
        return MemorySource(entry.data)
    if entry.coded:
        return UnpackedSource(image, base, entry.coded)
    return PiecedSource(image, [(None if at is None else at + base, length)
                                for at, length in entry.extents])


class Tree:
    """What is in an image, which is open as long as this, or a file of it, is used."""

    def __init__(self, image: Path, source: Source, folders: Folders) -> None:
        self.image, self.folders, self._source = image, folders, source
        weakref.finalize(self, source.close)

    def content(self, entry: Entry, base: int) -> Source:
        """The bytes of a file."""
        return _Lent(self, content_of(self._source, entry, base))


class _Lent(Source):
    """A file that keeps its image open."""

    def __init__(self, tree: Tree, source: Source) -> None:
        self._tree, self._source = tree, source
        self.name, self.sector_size = source.name, source.sector_size

    @property
    def size(self) -> int:
        return self._source.size

    def read_into(self, offset: int, target: memoryview) -> int:
        return self._source.read_into(offset, target)

    def lost_within(self, start: int, stop: int) -> int:
        return self._source.lost_within(start, stop)


_trees: weakref.WeakValueDictionary[tuple[str, int, int], Tree] = weakref.WeakValueDictionary()


def tree_of(image: Path, breathe: Callable[[], None]) -> Tree:
    """What is in `image`, read once while anybody uses it; SourceError, OSError."""
    status = os.stat(image)
    key = os.path.realpath(image), status.st_size, status.st_mtime_ns
    known = _trees.get(key)
    if known is None:
        source = open_source(str(image))
        try:
            known = _trees[key] = Tree(image, source, _read(source, breathe))
        except BaseException:
            source.close()
            raise
    return known


def _read(source: Source, breathe: Callable[[], None]) -> Folders:
    volumes = [volume for volume in find_volumes(source).volumes
               if volume.file_system and volume.facts.state is not VolumeState.LOCKED]
    folders: Folders = {"": {}}
    count = 0
    for number, volume in enumerate(volumes, 1):
        before = _name_of(volume, number, folders[""]) if len(volumes) > 1 else ""
        try:
            for entry in open_volume(source, volume).live():
                count += 1
                if count % OFTEN == 0:
                    breathe()
                if count > MOST_ITEMS:
                    return folders
                if entry.path and not entry.version and not entry.locked:
                    _add(folders, before + entry.path, entry, volume.span.start)
        except (FormatError, SourceError):
            continue  # what was read of it is there
    return folders


def _name_of(volume: Volume, number: int, others: dict[str, tuple[Entry, int] | None]) -> str:
    """What a volume among several is called, as a folder."""
    title = one_line(volume.title).replace("/", "_").strip(". ")
    name = title if title and title not in others else f"volume {number}"
    return f"{name}/"


def _add(folders: Folders, path: str, entry: Entry, base: int) -> None:
    if path.count("/") >= MOST_DEPTH:
        return
    folder, _, name = path.rpartition("/")
    if folder not in folders:
        above = ""
        for part in folder.split("/"):
            if part in ("", ".", "..") or folders.get(above, {}).get(part, None) is not None:
                return  # a file stands where a folder should
            folders[above][part] = None
            above = f"{above}/{part}" if above else part
            folders.setdefault(above, {})
    if name and name not in folders[folder]:
        folders[folder][name] = entry, base
