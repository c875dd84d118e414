"""Where each file of a delivery goes: the whole tree is planned before the first byte is written.

No two files share a place, even where case and accents do not count; no file stands where another
needs a folder; nothing is longer than the destination takes. What had to be shortened is told.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from types import MappingProxyType

from needlewright.core.jobfile.rows import FindRecord, FindRow, SourceRow
from needlewright.core.names import MAX_NAME_BYTES, Names, safe_name, safe_path
from needlewright.core.search.events import VolumeSeen

IN_TRASH = ("trash", "phone-trash")
MAX_PATH_BYTES = 3500  # of 4,096 that Linux takes in all; the rest is the destination's own
SPARE_NAME_BYTES = 12  # for ' (2)' and what encrypted file systems add
NOBODY: Mapping[int, tuple[int, str]] = MappingProxyType({})
SPARE_PATH_BYTES = 64  # for 'unfinished/payload' while it is written


@dataclass(frozen=True, slots=True)
class Planned:
    """A file of the delivery: its find, and its place below `data`; `shortened`: not all of its
    folders or name fit."""

    row: FindRow
    place: PurePosixPath
    shortened: bool = False


@dataclass(frozen=True, slots=True)
class Room:
    """What the destination takes: bytes of one name, and of a path below `data`."""

    name: int = MAX_NAME_BYTES
    path: int = MAX_PATH_BYTES


def room_at(destination: Path) -> Room:
    """What fits at a destination that may not exist yet."""
    nearest = destination
    while not nearest.exists() and nearest != nearest.parent:
        nearest = nearest.parent
    try:
        longest = os.statvfs(nearest).f_namemax
    except OSError:
        longest = 255
    name = max(32, min(MAX_NAME_BYTES, longest - SPARE_NAME_BYTES))
    own = len(os.fsencode(str(destination))) + SPARE_PATH_BYTES
    return Room(name, max(64, min(MAX_PATH_BYTES, 4095 - own)))


class Tops:
    """The uppermost folder of each source and volume, where a delivery holds several."""

    def __init__(self, sources: Sequence[SourceRow], volumes: Mapping[int, Sequence[VolumeSeen]],
                 wanted: Sequence[tuple[int, int | None]]) -> None:
        """`wanted`: (source, first byte of the volume or None) of every file."""
        self._names: dict[tuple[int, int | None], str] = {}
        several = len({source for source, _ in wanted}) > 1
        names = Names()
        for row in sources:
            mine = sorted({v for s, v in wanted if s == row.id and v is not None})
            upper = f"{row.name} " if several else ""
            for start in mine:
                title = self._title(start, volumes.get(row.id, ()))
                self._names[row.id, start] = names.unique(
                    PurePosixPath(), f"{upper}{title}").name if several or len(mine) > 1 else ""
            self._names[row.id, None] = names.unique(
                PurePosixPath(), row.name).name if several else ""

    @staticmethod
    def _title(start: int, known: Sequence[VolumeSeen]) -> str:
        found = next((v for v in known if v.start == start), None)
        if found is None:
            return f"volume at {start}"
        return found.label or f"{found.kind} at {start}"

    def of(self, source: int, volume: int | None) -> str:
        """The folder; "" where there is no need of one."""
        return self._names.get((source, volume), "")


def volume_of(record: FindRecord) -> int | None:
    """The first byte of the volume that a find was on; None for one that no record names."""
    return None if record.record is None else record.record.volume


def path_of(record: FindRecord) -> str | None:
    """Where a file goes in the bag: what was put into a trash goes back to where it was."""
    told = record.record
    if told is not None and told.original and told.kept in IN_TRASH:
        return told.original
    return record.row.path or record.row.name


def plan(records: Sequence[FindRecord], tops: Tops, room: Room, name: Callable[[FindRow], str],
         owners: Mapping[int, tuple[int, str]] = NOBODY) -> list[Planned]:
    """The place of every file, in order. `name`: what a find is called that has no name; `owners`:
    find -> (the one beside which it goes, under its name, what is added to that)."""
    wanted = []
    folders: set[str] = set()
    for record in records:
        path = path_of(record)
        top = tops.of(record.row.source, volume_of(record))
        parts = [safe_name(top)] if top else []
        parts += list(safe_path(path).parent.parts) if path else []
        leaf = path.rsplit("/", 1)[-1] if path else name(record.row)
        fitting, shortened = _fitting(parts, room)
        wanted.append((record.row, PurePosixPath(*fitting), leaf, shortened))
    names = Names(room.name)
    for _, folder, _, _ in wanted:
        for depth in range(1, len(folder.parts) + 1):
            folders.add(names.key(PurePosixPath(*folder.parts[:depth])))
    names.keep_free(folders)
    planned = []
    places: dict[int, PurePosixPath] = {}
    # Owners first: what goes with them takes their names, whatever these have become.
    for row, folder, leaf, shortened in sorted(wanted, key=lambda one: one[0].id in owners):
        owner, ending = owners.get(row.id, (row.id, ""))
        if owner in places:
            folder, leaf = places[owner].parent, f"{places[owner].name}{ending}"
        place = names.unique(folder, leaf)
        places[row.id] = place
        cut = len(place.name.encode()) < len(leaf.encode()) and len(leaf.encode()) > room.name
        planned.append(Planned(row, place, shortened or cut))
    return planned


def _fitting(parts: list[str], room: Room) -> tuple[list[str], bool]:
    """Folders that fit: each cut to its limit, and those in the middle left out where all of them
    are too long."""
    kept = [_cut(part, room.name) for part in parts]
    shortened = kept != parts
    limit = room.path - room.name - 1
    while len(kept) > 1 and sum(len(p.encode()) + 1 for p in kept) > limit:
        del kept[len(kept) // 2]
        shortened = True
    return kept, shortened


def _cut(part: str, most: int) -> str:
    raw = part.encode()
    return part if len(raw) <= most else raw[:most].decode("utf-8", "ignore").rstrip(". ") or "_"
