"""Backups in given places and below them, each looked at without unpacking it onto anything."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Callable, Collection, Iterable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

from needlewright.core import secrets
from needlewright.core.errors import NeedlewrightError, SourceError
from needlewright.core.formats.recognising import kind_of_name
from needlewright.core.shelves.backups.base import (
    SCHEME,
    Facts,
    Layout,
    layout_of,
)
from needlewright.core.shelves.backups.layout_series import states_in
from needlewright.core.shelves.item_shelf import MOST_DEPTH
from needlewright.core.sources.shelf import Offered
from needlewright.core.stopping import Interrupted, StopSignal

#: Folders of older states that file systems and shares have without listing them.
UNLISTED = (".zfs/snapshot", ".snapshot", "~snapshot")
KERNELS = frozenset(("/proc", "/sys", "/dev"))  # no files of anybody's
#: What files are called that are backups.
SUFFIXES = frozenset(("", ".zip", ".tar", ".gz", ".tgz", ".zst", ".tzst", ".img", ".image", ".dd",
                      ".raw", ".bin"))
MOST_PLACES = 200_000  # files and folders that are looked at


@dataclass(slots=True)
class FoundBackup:
    """A backup that was found. `facts` None, and why in `problem`, where it was not opened;
    `counts`: files by kind; `size`: bytes of them; `offered`: all files."""

    path: Path
    facts: Facts | None = None
    counts: dict[str, int] = field(default_factory=dict)
    size: int = 0
    offered: list[Offered] = field(default_factory=list)
    problem: NeedlewrightError | None = None

    @property
    def spec(self) -> str:
        return f"{SCHEME}{self.path}"


def places_in(top: Path, stop: StopSignal) -> Iterator[Path]:
    """Where backups lie in `top` and below; `top` itself where that holds nothing else."""
    found, looked = 0, 0
    line = [(top, 0)]
    while line:
        path, depth = line.pop()
        looked += 1
        if stop.is_set() or looked > MOST_PLACES:
            return
        # What is called a picture is none, and a folder of pictures is quickly passed.
        layout = layout_of(path, is_own=True) if _may_be(path) else None
        if layout is not None:
            found += 1
            yield from _states(path, layout)
            continue
        if depth >= MOST_DEPTH or str(path) in KERNELS or path.is_symlink() or not path.is_dir():
            continue
        try:
            with os.scandir(path) as listed:
                inner = sorted((Path(one.path) for one in listed if not one.is_symlink()),
                               reverse=True)
        except OSError:
            continue
        line += [(one, depth + 1) for one in inner]
        line += [(hidden, depth + 1) for name in UNLISTED
                 if (hidden := path / name).is_dir() and hidden not in inner]
    if not found and layout_of(top) is not None:
        yield top


def _may_be(path: Path) -> bool:
    return path.suffix.lower() in SUFFIXES or path.is_dir()


def _states(path: Path, layout: Layout) -> Iterator[Path]:
    """Each day of a series is a backup of its own."""
    if layout.name == "series":
        for _, folder in states_in(path):
            yield folder
    else:
        yield path


def find_backups(places: Iterable[Path], stop: StopSignal,
                 told: Callable[[Path], None] = lambda path: None,
                 but: Collection[Path] = ()) -> Iterator[FoundBackup]:
    """Each backup in `places` with what it holds; `told`: which is being looked at; `but`: what
    counts as none. SourceError where a place is not there."""
    seen: set[str] = {os.path.realpath(path) for path in but}
    for place in places:
        if not place.exists():
            raise SourceError("source-missing", path=str(place))
        for path in places_in(Path(os.path.abspath(place)), stop):
            real = os.path.realpath(path)
            if real not in seen:
                seen.add(real)
                told(path)
                yield look_at(path, stop)


def look_at(path: Path, stop: StopSignal) -> FoundBackup:
    """What one backup holds; never raises for what is wrong with it. Interrupted."""
    from needlewright.core.shelves.open_backup import BackupShelf

    found = FoundBackup(path)
    shelf = BackupShelf(found.spec)
    try:
        shelf.heed(stop)
        found.facts = shelf.backup.facts
        with secrets.nobody_asked():  # there may be many of them
            found.offered = list(shelf.offered())
    except Interrupted:
        raise
    except NeedlewrightError as error:
        found.problem = error
    finally:
        shelf.end()
    kinds = Counter(str(kind_of_name(one.entry.path)[0]) for one in found.offered)
    found.counts = dict(kinds)
    found.size = sum(one.size or 0 for one in found.offered)
    return found
