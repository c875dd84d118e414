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
from needlewright.core.shelves.backups.layout_folder import CAMERA
from needlewright.core.shelves.backups.layout_raw import RAW
from needlewright.core.shelves.backups.layout_series import states_in
from needlewright.core.shelves.backups.spots import InnerSpot, Spot, inside_of, spot_at
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
    """Where backups lie in `top` and below; `top` itself where that holds nothing else. SourceError
    at last where there is more below it than is looked at."""
    found, looked = 0, 0
    line: list[tuple[Spot, int]] = [(spot_at(top, _heeding(stop)), 0)]
    while line:
        spot, depth = line.pop()
        looked += 1
        if stop.is_set():
            return
        if looked > MOST_PLACES:
            raise SourceError("backups-not-all", path=str(top), count=MOST_PLACES)
        # What is called a picture is none, and a folder of pictures is quickly passed.
        layout = layout_of(spot, is_own=True) if _may_be(spot) else None
        if layout is not None and _is_itself(spot, layout):
            layout = None
        if layout is not None:
            found += 1
            yield from _states(spot, layout)
        if _is_image(spot, layout, depth):
            inner = inside_of(spot.path, _heeding(stop))
            line += [(inner, depth + 1)] if inner is not None else []
        if layout is not None:
            continue
        if depth >= MOST_DEPTH or str(spot) in KERNELS or not spot.is_dir() or (
                spot.path.is_symlink()):
            continue
        try:
            every = sorted((one.name for one in spot.scan() if not one.is_link), reverse=True)
        except OSError:
            continue
        line += [(spot / name, depth + 1) for name in every]
        line += [(hidden, depth + 1) for name in UNLISTED
                 if (hidden := spot / name).is_dir() and name not in every]
    if not found and layout_of(spot_at(top)) is not None:
        yield top


def _heeding(stop: StopSignal) -> Callable[[], None]:
    def breathe() -> None:
        if stop.is_set():
            raise Interrupted

    return breathe


def _may_be(spot: Spot) -> bool:
    return spot.suffix.lower() in SUFFIXES or spot.is_dir()


def _is_itself(spot: Spot, layout: Layout) -> bool:
    """Whether a folder of an image is what a camera or phone itself had there, and no backup."""
    return isinstance(spot, InnerSpot) and layout.name == CAMERA


def _is_image(spot: Spot, layout: Layout | None, depth: int) -> bool:
    """Whether to look into what may be an image of a drive, or is one that was given."""
    if isinstance(spot, InnerSpot):
        return False
    return layout.name == RAW if layout is not None else not depth and not spot.is_dir()


def _states(spot: Spot, layout: Layout) -> Iterator[Path]:
    """Each day of a series is a backup of its own."""
    if layout.name == "series":
        for _, folder in states_in(spot):
            yield folder.path
    else:
        yield spot.path


def find_backups(places: Iterable[Path], stop: StopSignal,
                 told: Callable[[Path], None] = lambda path: None,
                 but: Collection[Path] = ()) -> Iterator[FoundBackup]:
    """Each backup in `places` with what it holds; `told`: which is being looked at; `but`: what
    counts as none itself, but may hold some. SourceError where a place is not there."""
    seen: set[str] = {os.path.realpath(path) for path in but}
    for place in places:
        if not spot_at(Path(os.path.abspath(place)), _heeding(stop)).exists():
            raise SourceError("source-missing", path=str(place))
        try:
            for path in places_in(Path(os.path.abspath(place)), stop):
                real = os.path.realpath(path)
                if real not in seen:
                    seen.add(real)
                    told(path)
                    yield look_at(path, stop)
        except SourceError as error:
            if error.code != "backups-not-all":
                raise
            yield FoundBackup(Path(os.path.abspath(place)), problem=error)


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
