"""Where backups lie: files and folders of this computer, or of a file system in an image of a
drive, which is read as it is and never attached.

A path that goes on behind an image names what lies within: `/cases/drive.img/Backups/phone`. Where
an image holds several volumes, the name of one comes first.
"""

from __future__ import annotations

import errno
import io
import os
import stat
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Sequence
from functools import partial
from pathlib import Path, PurePosixPath
from typing import IO, Any, NamedTuple

from needlewright.core.errors import NeedlewrightError, SourceError
from needlewright.core.shelves.backups.trees import Tree, tree_of
from needlewright.core.sources.blocks import blocks
from needlewright.core.sources.files import ImageFile
from needlewright.core.sources.map_file import map_path
from needlewright.core.sources.registry import open_source
from needlewright.core.sources.source import Source, Span
from needlewright.core.volumes.base import Entry
from needlewright.core.volumes.stamps import unix

BLOCK = 1 << 20


class Status(NamedTuple):
    """What is told of a file. `modified`: RFC 3339; `seconds`: the same since 1970; `same`: each
    of these is equal for files that are the same one, under another name."""

    size: int
    modified: str | None
    seconds: float
    same: tuple[Any, ...]


class Seen(NamedTuple):
    """What a folder holds. `status`: of a file that is no link, None where it cannot be told, or
    is no file."""

    name: str
    is_dir: bool
    is_link: bool
    is_file: bool
    status: Callable[[], Status | None]


class Spot(ABC):
    """A file, a folder, or nothing at all."""

    name: str

    @property
    def suffix(self) -> str:
        return PurePosixPath(self.name).suffix

    @property
    @abstractmethod
    def path(self) -> Path:
        """What it is called by, from anywhere."""

    @property
    @abstractmethod
    def parent(self) -> Spot:
        """The folder that it lies in; of what is in no other, itself."""

    @abstractmethod
    def __truediv__(self, below: str) -> Spot:
        """What lies at a path below it."""

    @abstractmethod
    def is_dir(self) -> bool:
        """Whether it is a folder."""

    @abstractmethod
    def is_file(self) -> bool:
        """Whether it is a file."""

    def exists(self) -> bool:
        return self.is_dir() or self.is_file()

    @abstractmethod
    def scan(self) -> Sequence[Seen]:
        """What a folder holds; OSError."""

    @abstractmethod
    def names(self) -> list[str]:
        """What a folder holds, by names alone; OSError."""

    @abstractmethod
    def status(self) -> Status:
        """Of a file; OSError."""

    @abstractmethod
    def source(self) -> Source:
        """The bytes of a file, to be closed; SourceError."""

    @abstractmethod
    def read(self, begin: int) -> Iterator[bytes]:
        """The bytes of a file from `begin` on; OSError, SourceError."""

    @abstractmethod
    def file(self) -> IO[bytes]:
        """A file, open for reading; OSError."""

    @abstractmethod
    def mark(self) -> tuple[int, int]:
        """What differs once it was changed; zeros where it is not there."""

    def lost(self, start: int, stop: int) -> int:
        """How many of these bytes of a file are not its own, since the medium could not be read
        there."""
        return 0

    def head(self, count: int) -> bytes:
        """The first bytes of a file, as many as there are; OSError."""
        with self.file() as opened:
            return opened.read(count)

    def __str__(self) -> str:
        return str(self.path)


class DiskSpot(Spot):
    """On this computer."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self.name = path.name

    @property
    def path(self) -> Path:
        return self._path

    @property
    def parent(self) -> Spot:
        return DiskSpot(self._path.parent)

    def __truediv__(self, below: str) -> Spot:
        return DiskSpot(self._path / below)

    def is_dir(self) -> bool:
        return self._path.is_dir()

    def is_file(self) -> bool:
        return self._path.is_file()

    def exists(self) -> bool:
        return self._path.exists()

    def scan(self) -> Sequence[Seen]:
        with os.scandir(self._path) as listed:
            return [Seen(one.name, one.is_dir(follow_symlinks=False), one.is_symlink(),
                         one.is_file(follow_symlinks=False), partial(_told, one))
                    for one in listed]

    def names(self) -> list[str]:
        return os.listdir(self._path)

    def status(self) -> Status:
        return _status(self._path.stat())

    def source(self) -> Source:
        if map_path(self._path).exists():  # it was copied here, and the map tells what is lost
            return open_source(str(self._path))
        return ImageFile(self._path)

    def read(self, begin: int) -> Iterator[bytes]:
        flags = os.O_RDONLY | os.O_CLOEXEC | os.O_NOFOLLOW | os.O_NONBLOCK
        with open(os.open(self._path, flags), "rb", buffering=0) as file:
            file.seek(begin)
            while block := file.read(BLOCK):
                yield block

    def file(self) -> IO[bytes]:
        return self._path.open("rb")

    def mark(self) -> tuple[int, int]:
        try:
            status = self._path.stat()
        except OSError:
            return 0, 0
        return status.st_size, status.st_mtime_ns


def _told(one: os.DirEntry[str]) -> Status | None:
    try:
        return _status(one.stat(follow_symlinks=False))
    except OSError:
        return None


def _status(status: os.stat_result) -> Status:
    seconds, nanos = divmod(status.st_mtime_ns, 1_000_000_000)
    stamp = unix(seconds, nanos)
    return Status(status.st_size, stamp.text() if stamp else None, status.st_mtime,
                  ((status.st_dev, status.st_ino), (status.st_size, seconds)))


class InnerSpot(Spot):
    """In a file system of an image; `below`: the path in it, "" for all of it."""

    def __init__(self, tree: Tree, below: str = "") -> None:
        self._tree, self._below = tree, below
        self.name = below.rpartition("/")[2] or tree.image.name

    @property
    def path(self) -> Path:
        return self._tree.image / self._below

    @property
    def parent(self) -> Spot:
        return InnerSpot(self._tree, self._below.rpartition("/")[0])

    def __truediv__(self, below: str) -> Spot:
        return InnerSpot(self._tree, "/".join(part for part in (self._below, below) if part))

    def is_dir(self) -> bool:
        return self._below in self._tree.folders

    def is_file(self) -> bool:
        return self._entry() is not None

    def scan(self) -> Sequence[Seen]:
        every = self._tree.folders.get(self._below)
        if every is None:
            raise FileNotFoundError(errno.ENOENT, os.strerror(errno.ENOENT), str(self.path))
        return [Seen(name, held is None, False, held is not None,
                     partial(_of_held, held))
                for name, held in every.items()]

    def names(self) -> list[str]:
        return [one.name for one in self.scan()]

    def status(self) -> Status:
        return _of_entry(*self._there())

    def source(self) -> Source:
        return self._tree.content(*self._there())

    def read(self, begin: int) -> Iterator[bytes]:
        source = self.source()
        return blocks(source, Span(begin, source.size), size=BLOCK)

    def lost(self, start: int, stop: int) -> int:
        return self.source().lost_within(start, stop)

    def file(self) -> IO[bytes]:
        return io.BufferedReader(_Reading(self.source()), BLOCK)

    def mark(self) -> tuple[int, int]:
        return DiskSpot(self._tree.image).mark() if self.exists() else (0, 0)

    def _entry(self) -> tuple[Entry, int] | None:
        folder, _, name = self._below.rpartition("/")
        return self._tree.folders.get(folder, {}).get(name)

    def _there(self) -> tuple[Entry, int]:
        held = self._entry()
        if held is None:
            raise FileNotFoundError(errno.ENOENT, os.strerror(errno.ENOENT), str(self.path))
        return held


def _of_held(held: tuple[Entry, int] | None) -> Status | None:
    return None if held is None else _of_entry(*held)


def _of_entry(entry: Entry, base: int) -> Status:
    modified = entry.times.modified
    seconds = modified.seconds if modified else 0
    return Status(entry.size, modified.text() if modified else None, seconds,
                  ((base, entry.extents or entry.record_at), (entry.size, seconds)))


class _Reading(io.RawIOBase):
    """A source as a file."""

    def __init__(self, source: Source) -> None:
        self._source, self._at = source, 0

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        self._at = max(0, offset + (0, self._at, self._source.size)[whence])
        return self._at

    def tell(self) -> int:
        return self._at

    def readinto(self, target: Any) -> int:
        view = memoryview(target)[: max(0, self._source.size - self._at)]
        try:
            got = self._source.read_into(self._at, view) if view else 0
        except NeedlewrightError as error:
            raise OSError(errno.EIO, os.strerror(errno.EIO)) from error
        self._at += got
        return got


def spot_at(path: Path, breathe: Callable[[], None] = lambda: None) -> Spot:
    """What is at `path`, here or in an image; reading what an image holds may take long: `breathe`
    is called often then, and may raise. SourceError."""
    image = image_of(path)
    if image is None:
        return DiskSpot(path)
    return InnerSpot(tree_of(image, breathe), str(path.relative_to(image)))


def inside_of(image: Path, breathe: Callable[[], None]) -> InnerSpot | None:
    """All that is in an image; None where it holds no file system that can be read."""
    try:
        tree = tree_of(image, breathe)
    except (SourceError, OSError):
        return None
    return InnerSpot(tree) if tree.folders[""] else None


def image_of(path: Path) -> Path | None:
    """The image within which `path` lies; None where it is a path of this computer."""
    if path.exists():
        return None
    for above in path.parents:
        try:
            mode = above.stat().st_mode
        except OSError:
            continue
        return above if stat.S_ISREG(mode) or stat.S_ISBLK(mode) else None
    return None
