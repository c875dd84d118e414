"""Folders of files, and loose files, as a shelf: `files:` and a JSON list of paths, or a folder's
own path."""

from __future__ import annotations

import hashlib
import json
import os
from bisect import bisect_right
from collections.abc import Iterable, Sequence
from pathlib import Path

from needlewright.core.errors import SourceError
from needlewright.core.names import one_line
from needlewright.core.sources.files import ImageFile
from needlewright.core.sources.folders import files_in
from needlewright.core.sources.registry import Opener, register
from needlewright.core.sources.shelf import FILES, Shelf, Shelved, room
from needlewright.core.sources.source import Source

SCHEME = "files:"


class FilesShelf(Shelf):
    """The files in a folder, or a list of files and folders."""

    kind = FILES

    def __init__(self, paths: Sequence[Path], name: str) -> None:
        """Raises SourceError where one of `paths` is not there."""
        for path in paths:
            if not path.exists():
                raise SourceError("source-missing", path=str(path))
        self._paths, self.name = paths, name
        self._entries: list[Shelved] | None = None

    def entries(self) -> Sequence[Shelved]:
        if self._entries is None:
            self._entries, at, known = [], 0, set()
            for path in files_in(self._paths):
                key = self._key_of(path)
                try:
                    status = path.stat()
                except OSError:
                    continue  # removed meanwhile
                if key in known:
                    continue  # given twice: itself, and in a folder
                known.add(key)
                self._entries.append(Shelved(key, self._shown(path), at, status.st_size,
                                             status.st_mtime_ns, path))
                at += room(status.st_size)
            if not self._entries:
                raise SourceError("folder-empty", path=str(self._paths[0]))
        return self._entries

    @property
    def size(self) -> int:
        last = self.entries()[-1]
        return last.at + room(last.size)

    def read_into(self, offset: int, target: memoryview) -> int:
        """The files one behind the other, each filled up to its place's end with zeros."""
        entries, done = self.entries(), 0
        wanted = min(len(target), max(0, self.size - offset))
        target[:wanted] = bytes(wanted)
        starts = [entry.at for entry in entries]
        while done < wanted:
            index = bisect_right(starts, offset + done) - 1
            entry = entries[index]
            stop = starts[index + 1] if index + 1 < len(starts) else self.size
            part = target[done : min(wanted, stop - offset)]
            inside = offset + done - entry.at
            if inside < entry.size:
                assert entry.file is not None
                with ImageFile(entry.file) as file:
                    file.read_into(inside, part[: entry.size - inside])
            done += len(part)
        return wanted

    def fetch(self, key: str) -> Source:
        # A strange job may name any file of this computer, to be delivered with the others.
        for path in self._paths:
            file = Path(os.path.realpath(os.path.join(path, *key.split("/")[1:])))
            if hashed(path) == key.split("/")[0] and file.is_relative_to(os.path.realpath(path)):
                return ImageFile(file)
        raise SourceError("source-missing", path=key)

    def _top_of(self, path: Path) -> Path:
        return next(top for top in self._paths if path == top or top in path.parents)

    def _key_of(self, path: Path) -> str:
        top = self._top_of(path)
        return "/".join((hashed(top), *path.relative_to(top).parts))

    def _shown(self, path: Path) -> str:
        top = self._top_of(path)
        inside = path.relative_to(top).parts or (path.name,)
        if len(self._paths) > 1 and top != path:
            inside = (top.name, *inside)
        return one_line(os.fsencode("/".join(inside)).decode("utf-8", "replace"))


def hashed(path: Path) -> str:
    """A short name for one of the paths of a shelf, so that keys of two never clash."""
    return hashlib.sha256(os.fsencode(path)).hexdigest()[:12]


def spec_of(paths: Iterable[str | os.PathLike[str]]) -> str:
    """What to open these files and folders by, together."""
    every = [os.path.abspath(path) for path in paths]
    if len(every) == 1 and os.path.isdir(every[0]):
        return every[0]
    return SCHEME + json.dumps(every, ensure_ascii=False)


def place_of(spec: str) -> str:
    """Where what is opened by `spec` lies, to be read by people."""
    return ", ".join(str(path) for path in _paths_of(spec)) if spec.startswith(SCHEME) else spec


def _paths_of(spec: str) -> list[Path]:
    if not spec.startswith(SCHEME):
        return [Path(spec)]
    told = spec.removeprefix(SCHEME)
    try:
        paths = json.loads(told) if told.startswith("[") else [told]
    except ValueError:
        paths = [told]
    if not paths or not all(isinstance(path, str) and path for path in paths):
        raise SourceError("source-unknown", path=spec)
    return [Path(path) for path in paths]


def _claims(spec: str) -> bool:
    return spec.startswith(SCHEME) or os.path.isdir(spec)


def _open(spec: str, direct: bool) -> Source:
    return FilesShelf(_paths_of(spec), _short_name(spec))


def _short_name(spec: str) -> str:
    paths = _paths_of(spec)
    more = f" and {len(paths) - 1} more" if len(paths) > 1 else ""
    return (paths[0].name or str(paths[0])) + more


register(Opener("folder", _claims, lambda spec: spec_of(_paths_of(spec)), _open, _short_name))
