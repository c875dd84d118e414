"""How the bytes of a find are had: one sum type for every way, with one JSON form.

Stretches of a source; pieces stored compressed; bytes that a record holds itself; a file of the
job, which is what mending writes; an object of a shelf, which is fetched by its key. Offsets are
bytes of the source, absolute; an offset of None is a hole.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass
from pathlib import Path
from typing import Any, ClassVar

from needlewright.core.errors import JobError, SourceError
from needlewright.core.sources.files import ImageFile
from needlewright.core.sources.memory import MemorySource
from needlewright.core.sources.pieces import PiecedSource
from needlewright.core.sources.shelf import Shelf
from needlewright.core.sources.source import Source
from needlewright.core.volumes.base import Coded, CodedParts
from needlewright.core.volumes.codings import UnpackedSource

Extents = tuple[tuple[int | None, int], ...]


@dataclass(frozen=True, slots=True)
class Place:
    """Where contents are opened: the source they lie on, and the job's folder."""

    medium: Source | None = None
    folder: Path | None = None


class Content(ABC):
    """The bytes of one find, in file order. `encoding`: as finds.json tells it; `on_shelf`: whether
    they are an object of a shelf."""

    __slots__ = ()
    encoding: ClassVar[str] = "plain"
    on_shelf: ClassVar[bool] = False

    @property
    @abstractmethod
    def size(self) -> int:
        """Bytes of the file."""

    @abstractmethod
    def spans(self) -> Extents:
        """(byte of the source or None: a hole, length) that it is stored in; empty where it lies
        on no bytes in a line."""

    @abstractmethod
    def open(self, place: Place) -> Source:
        """The file as a source of its own; SourceError where that cannot be had."""

    @abstractmethod
    def as_json(self) -> dict[str, Any]:
        """What `content_from` understands."""


@dataclass(frozen=True, slots=True)
class Stretches(Content):
    """Extents of the source as they are; none at all for a find that is gone."""

    extents: Extents = ()

    @property
    def size(self) -> int:
        return sum(length for _, length in self.extents)

    def spans(self) -> Extents:
        return self.extents

    def open(self, place: Place) -> Source:
        return PiecedSource(_medium(place), self.extents)

    def as_json(self) -> dict[str, Any]:
        return {"kind": "stretches", "extents": [list(e) for e in self.extents]}


@dataclass(frozen=True, slots=True)
class Packed(Content):
    """Pieces that a file system stores compressed, among others that it does not."""

    parts: CodedParts
    length: int
    encoding: ClassVar[str] = "compressed"

    @property
    def size(self) -> int:
        return self.length

    def spans(self) -> Extents:
        out: list[tuple[int | None, int]] = []
        for part in self.parts:
            out += [part] if isinstance(part, tuple) else part.extents
        return tuple(out)

    def open(self, place: Place) -> Source:
        return UnpackedSource(_medium(place), 0, self.parts)

    def as_json(self) -> dict[str, Any]:
        return {"kind": "packed", "size": self.length, "parts": [
            list(p) if isinstance(p, tuple) else {
                "extents": [list(e) for e in p.extents], "length": p.length, "coding": p.coding,
                "made": p.made, "skip": p.skip} for p in self.parts]}


@dataclass(frozen=True, slots=True)
class Inline(Content):
    """Bytes that a record holds itself, at byte `at` of the source."""

    data: bytes
    at: int
    encoding: ClassVar[str] = "resident"

    @property
    def size(self) -> int:
        return len(self.data)

    def spans(self) -> Extents:
        return ((self.at, len(self.data)),) if self.data else ()

    def open(self, place: Place) -> Source:
        return MemorySource(self.data)

    def as_json(self) -> dict[str, Any]:
        return {"kind": "inline", "at": self.at, "data": self.data.hex()}


@dataclass(frozen=True, slots=True)
class Stored(Content):
    """A file of the job, by its path inside the job's folder and its SHA-256 (hex)."""

    file: str
    sha256: str
    length: int

    @property
    def size(self) -> int:
        return self.length

    def spans(self) -> Extents:
        return ()

    def open(self, place: Place) -> Source:
        if place.folder is None:
            raise SourceError("source-missing", path=self.file)
        path = (place.folder / self.file).resolve()
        if not path.is_relative_to(place.folder.resolve()):
            # A strange job may name any file of this computer, to be delivered with the others.
            raise SourceError("source-missing", path=self.file)
        return ImageFile(path)

    def as_json(self) -> dict[str, Any]:
        return {"kind": "stored", "file": self.file, "sha256": self.sha256, "size": self.length}


@dataclass(frozen=True, slots=True)
class ShelfObject(Content):
    """An object of a folder, a phone, a backup or an album, by its key on that shelf."""

    on_shelf: ClassVar[bool] = True
    key: str
    length: int

    @property
    def size(self) -> int:
        return self.length

    def spans(self) -> Extents:
        return ()

    def open(self, place: Place) -> Source:
        if not isinstance(place.medium, Shelf):
            raise SourceError("source-missing", path=self.key)
        return place.medium.fetch(self.key)

    def as_json(self) -> dict[str, Any]:
        return {"kind": "object", "key": self.key, "size": self.length}


@dataclass(frozen=True, slots=True)
class Brought(ShelfObject):
    """An object of a shelf that is elsewhere, which was brought into the job's folder, where it
    stays: its path in there, and its SHA-256 (hex)."""

    file: str
    sha256: str

    def open(self, place: Place) -> Source:
        try:
            return Stored(self.file, self.sha256, self.length).open(place)
        except SourceError:
            return ShelfObject(self.key, self.length).open(place)

    def as_json(self) -> dict[str, Any]:
        return {"kind": "brought", "key": self.key, "size": self.length, "file": self.file,
                "sha256": self.sha256}


def _medium(place: Place) -> Source:
    if place.medium is None:
        raise SourceError("source-missing", path="")
    return place.medium


def content_from(told: dict[str, Any]) -> Content:
    """The content that `as_json` told; JobError where a job holds something else."""
    try:
        match told["kind"]:
            case "stretches":
                return Stretches(_extents(told["extents"]))
            case "packed":
                return Packed(tuple(_part(p) for p in told["parts"]), int(told["size"]))
            case "inline":
                return Inline(bytes.fromhex(told["data"]), int(told["at"]))
            case "stored":
                return Stored(str(told["file"]), str(told["sha256"]), int(told["size"]))
            case "object":
                return ShelfObject(str(told["key"]), int(told["size"]))
            case "brought":
                return Brought(str(told["key"]), int(told["size"]), str(told["file"]),
                               str(told["sha256"]))
    except (KeyError, TypeError, ValueError) as error:
        raise JobError("job-damaged", path="", reason=str(error)) from error
    raise JobError("job-damaged", path="", reason=str(told["kind"]))


def _part(told: Any) -> Coded | tuple[int | None, int]:
    if isinstance(told, list):
        return _extents([told])[0]
    return Coded(_extents(told["extents"]), int(told["length"]), str(told["coding"]),
                 int(told["made"]), int(told["skip"]))


def _extents(told: Any) -> Extents:
    return tuple((None if offset is None else int(offset), int(length)) for offset, length in told)
