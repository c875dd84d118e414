"""Files that were removed or hidden, but are still kept: trash folders and their like.

Desktop trash: the freedesktop.org trash specification 1.0 (`files` beside `info/*.trashinfo`). The
per-user recycle layout on NTFS and FAT: `$R…` beside `$I…`, which holds size, time and path. Phones
rename to `.trashed-<seconds>-NAME`, the seconds being when they will purge it. A folder with an
empty `.nomedia` in it is hidden from galleries; nothing was removed there.
"""

from __future__ import annotations

import re
import struct
from collections.abc import Collection, Iterator
from dataclasses import dataclass
from datetime import datetime
from urllib.parse import unquote

from needlewright.core.codes import GALLERY_TRASH, HIDDEN, PHONE_TRASH, TRASH, UNFINISHED, VERSION
from needlewright.core.errors import SourceError
from needlewright.core.sources.pieces import PiecedSource
from needlewright.core.sources.source import Source
from needlewright.core.volumes.base import Entry
from needlewright.core.volumes.stamps import nt, unix

MAX_NOTES = 200_000  # descriptions and marked folders that are remembered
MAX_INFO_BYTES = 8192
DESKTOP = re.compile(r"(?:^|.*/)(?:\.Trash(?:-\d+|/\d+)|Trash)(?=/files/)")
RECYCLE = re.compile(r"(?i)^(.*\$?recycle[rd]?(?:\.bin)?/(?:S-[\d-]+/)?)\$R([^/]+)(/.*)?$")
RECYCLE_INFO = re.compile(r"(?i)^.*\$?recycle[rd]?(?:\.bin)?/(?:S-[\d-]+/)?\$I[^/]+$")
RENAMED = re.compile(r"^\.(trashed|pending)-(\d{9,11})-(.+)$")
GALLERY = re.compile(
    r"(?i)(?:^|/)(?:\.trash(?:es|bin)?|\.?recycle[ _-]?bin|\.?recently[ _-]deleted|"
    r"removed[ _-]items|deleted[ _-](?:items|files))/")
MARKER = ".nomedia"


@dataclass(frozen=True, slots=True)
class Kept:
    """Why a file is still kept. `original`: its path before; times as RFC 3339."""

    code: str
    original: str | None = None
    removed_at: str | None = None
    purge_at: str | None = None


class Keeping:
    """What is known of the trash and the hidden folders of one volume of `source` at `base`."""

    def __init__(self, source: Source, base: int) -> None:
        self._source, self._base = source, base
        self._notes: dict[str, Kept] = {}
        self._hidden: set[str] = set()
        self.some = False  # whether anything that was noted concerns files that are kept

    def note(self, entry: Entry) -> None:
        """Take in what describes other files: trash descriptions and markers."""
        if entry.removed:
            return
        name = entry.name
        self.some = self.some or name == MARKER or self.of(entry) is not None
        if len(self._notes) + len(self._hidden) >= MAX_NOTES:
            return
        if name == MARKER:
            self._hidden.add(entry.path[: -len(MARKER)])
        elif name.endswith(".trashinfo") and "/info/" in entry.path:
            folder, _, last = entry.path.rpartition("/info/")
            kept = _trash_info(self._content(entry))
            if kept is not None:
                self._notes[f"{folder}/files/{last.removesuffix('.trashinfo')}"] = kept
        elif name[:2].upper() == "$I" and RECYCLE_INFO.match(entry.path):
            kept = _recycle_info(self._content(entry))
            if kept is not None:
                folder = entry.path[: -len(name)]
                self._notes[f"{folder}$R{name[2:]}".upper()] = kept

    def _content(self, entry: Entry) -> bytes:
        if entry.data is not None:
            return entry.data
        extents = [(None if o is None else o + self._base, n) for o, n in entry.extents]
        try:
            return PiecedSource(self._source, extents).read_at(0, MAX_INFO_BYTES)
        except SourceError:
            return b""

    def of(self, entry: Entry) -> Kept | None:
        """Why `entry` is still kept; None where it is an ordinary file."""
        path = entry.path
        if entry.version:
            return Kept(VERSION, removed_at=None, original=entry.version)
        renamed = _renamed(path)
        if renamed is not None:
            return renamed
        desktop = DESKTOP.match(path)
        if desktop:
            return self._noted(path, desktop.end() + len("/files/"), path) or Kept(TRASH)
        recycled = RECYCLE.match(path)
        if recycled:
            known = self._notes.get(f"{recycled[1]}$R{recycled[2]}".upper())
            return _inside(known, recycled[3] or "") if known else Kept(TRASH)
        return _by_folder(path, self._hidden)

    def _noted(self, path: str, start: int, key: str) -> Kept | None:
        """The description of `path`, or of the removed folder that it lies in."""
        stop = path.find("/", start)
        top, rest = (path, "") if stop < 0 else (path[:stop], path[stop:])
        known = self._notes.get(top)
        return None if known is None else _inside(known, rest)


def by_path(path: str, hidden: Collection[str] = ()) -> Kept | None:
    """Why a file is still kept, as far as its path tells; None where it is an ordinary file.
    `hidden`: folders with the marker in them, each with a slash behind it."""
    return _renamed(path) or (Kept(TRASH) if DESKTOP.match(path) or RECYCLE.match(path)
                              else _by_folder(path, hidden))


def _renamed(path: str) -> Kept | None:
    """What a phone renamed until a day, or has not finished."""
    folder, slash, name = path.rpartition("/")
    renamed = RENAMED.match(name)
    if renamed is None:
        return None
    until = unix(int(renamed[2]))
    code = PHONE_TRASH if renamed[1] == "trashed" else UNFINISHED
    return Kept(code, folder + slash + renamed[3], None, until.text() if until else None)


def _by_folder(path: str, hidden: Collection[str]) -> Kept | None:
    if GALLERY.search(path):
        return Kept(GALLERY_TRASH)
    if hidden and not path.endswith(f"/{MARKER}") and path != MARKER and any(
            folder in hidden for folder in _folders_above(path)):
        return Kept(HIDDEN)
    return None


def _folders_above(path: str) -> Iterator[str]:
    """Each folder that a path lies in, with a slash behind it; "" is the top."""
    yield ""
    at = path.find("/")
    while at >= 0:
        yield path[: at + 1]
        at = path.find("/", at + 1)


def _inside(kept: Kept, rest: str) -> Kept:
    original = None if kept.original is None else kept.original + rest
    return Kept(kept.code, original, kept.removed_at, kept.purge_at)


def _trash_info(raw: bytes) -> Kept | None:
    """From a `.trashinfo` file; None where it is none."""
    lines = raw.decode("utf-8", "replace").splitlines()
    if not lines or lines[0].strip() != "[Trash Info]":
        return None
    found = dict(line.split("=", 1) for line in lines[1:] if "=" in line)
    try:
        when = datetime.fromisoformat(found.get("DeletionDate", "")).isoformat()
    except ValueError:
        when = None
    original = unquote(found.get("Path", "")) or None
    return Kept(TRASH, original.lstrip("/") if original else None, when)


def _recycle_info(raw: bytes) -> Kept | None:
    """From a `$I…` file: version, size, time of removal, path."""
    if len(raw) < 24:
        return None
    version, _, when = struct.unpack_from("<QQQ", raw)
    if version == 1:
        name = raw[24 : 24 + 520]
    elif version == 2 and len(raw) >= 28:
        name = raw[28 : 28 + 2 * min(struct.unpack_from("<I", raw, 24)[0], 4096)]
    else:
        return None
    path = name.decode("utf-16-le", "replace").split("\0", 1)[0].replace("\\", "/")
    stamp = nt(when)
    return Kept(TRASH, re.sub(r"^[A-Za-z]:/", "", path) or None, stamp.text() if stamp else None)
