"""A series of folders, each named by its day: all files each time, those that stayed the same as
hard links; or only what had changed since.

A folder of all files holds what there was that day. Of a series of changes, the state of a day is
the newest of each path up to that day; what had been removed before it nobody tells.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from datetime import datetime
from itertools import islice, pairwise
from typing import Any

from needlewright.core.shelves.backups.base import Backup, Facts, Layout, register
from needlewright.core.shelves.backups.layout_folder import item_of, read_item, walked
from needlewright.core.shelves.backups.spots import Spot
from needlewright.core.shelves.item_shelf import Item

LEAST = 2  # folders with days that make a series
COMPARED = 4  # of the last states
SAMPLE = 200  # files of a folder that are compared with the one before
SHARED = 0.5  # of them that are there as well, from which on each folder holds everything
STAMP = re.compile(
    r"(?i)^(?:@?[a-z][a-z_-]{0,31}?[-_.@ ])?"
    r"(\d{4})[-_.]?(\d{2})[-_.]?(\d{2})(?:[-_.t @]*(\d{2})[-_.:h]?(\d{2})(?:[-_.:m]?(\d{2}))?)?"
    r"(?:z|s|[-_+.]\w{1,12})?$")


def moment_of(name: str) -> str | None:
    """The day, and the time where it is told, that names a folder; RFC 3339 without an offset."""
    match = STAMP.match(name)
    if match is None:
        return None
    numbers = [int(part) for part in match.groups() if part is not None]
    try:
        moment = datetime(*numbers)  # type: ignore[arg-type]
    except ValueError:
        return None
    if not 1990 <= moment.year < 2200:
        return None
    return moment.isoformat() if len(numbers) > 3 else moment.date().isoformat()


def states_in(spot: Spot) -> list[tuple[str, Spot]]:
    """(when, folder) of each state in a folder, the oldest first; none where it is no series:
    folders of pictures are named by days, too, and have nothing in common."""
    found = []
    for one in spot.scan():
        moment = moment_of(one.name)
        if moment is not None and one.is_dir:
            found.append((moment, spot / one.name))
    found.sort(key=lambda state: (state[0], state[1].name))
    return found if len(found) >= LEAST and _belong(found) else []


def _belong(states: Sequence[tuple[str, Spot]]) -> bool:
    """Whether one of the last states has a file or a folder of the one before."""
    for (_, before), (_, after) in pairwise(states[-COMPARED:]):
        for path, status in islice(walked(before, lambda: None), SAMPLE):
            inside = path.rpartition("/")[0] if status is not None else path.rstrip("/")
            if (after / path).exists() or (inside and (after / inside).is_dir()):
                return True
    return False


def holds_everything(states: Sequence[tuple[str, Spot]]) -> bool:
    """Whether each folder of a series holds all files, by comparing the last with the one
    before."""
    before, last = states[-2][1], states[-1][1]
    count = there = 0
    for path, status in walked(before, lambda: None):
        if status is None:
            continue
        count += 1
        there += (last / path).is_file()
        if count >= SAMPLE:
            break
    return count == 0 or there / count >= SHARED


class SeriesBackup(Backup):
    """The state of one day, and what earlier ones hold in other versions or alone."""

    def __init__(self, states: Sequence[tuple[str, Spot]], complete: bool | None) -> None:
        self._states = states
        self.facts = Facts("series", made=states[-1][0], complete=complete)
        self.full = holds_everything(states) if len(states) >= LEAST else True
        if not self.full:
            self.facts.notes = ("backup-changes-only",)

    def items(self, breathe: Callable[[], None]) -> Sequence[Item]:
        found: list[Item] = []
        known: dict[str, set[Any]] = {}
        unread = 0
        for number, (moment, top) in enumerate(reversed(self._states)):
            for path, status in walked(top, breathe):
                if status is None:
                    unread += 1
                    continue
                seen = known.setdefault(path, set())
                # One file under several links, or copied with its time as it was.
                same = set(status.same)
                if not seen & same:
                    older = bool(seen) or (bool(number) and self.full)
                    found.append(item_of(path, status, (top, path),
                                         **({"older": moment} if older else {})))
                seen |= same
        if unread:
            self.facts.troubles["backup-unreadable"] = unread
        return found

    def content(self, item: Item, begin: int) -> Iterator[bytes]:
        return read_item(item, begin)


def _open_one(spot: Spot, spec: str) -> Backup:
    """One folder of a series: with the ones before it, where each holds changes only."""
    states = states_in(spot.parent)
    number = next(n for n, state in enumerate(states) if state[1].name == spot.name)
    mine = states[number]
    if not holds_everything(states):
        opened = SeriesBackup(states[: number + 1], None)
        opened.full = False
        opened.facts.notes = ("backup-changes-only",)
        return opened
    return SeriesBackup([mine], None)


def _fits_one(spot: Spot) -> bool:
    return spot.is_dir() and moment_of(spot.name) is not None and any(
        state[1].name == spot.name for state in states_in(spot.parent))


register(Layout("series", 30, lambda spot: spot.is_dir() and bool(states_in(spot)),
                lambda spot, spec: SeriesBackup(states_in(spot), None)))
register(Layout("series-day", 31, _fits_one, _open_one))
