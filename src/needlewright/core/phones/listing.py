"""Every object of a device, and what is missing of the list.

The handles that a device offers are counted against the objects that it tells of: those that it
tells nothing of stand in the list with the code of its refusal, so that nothing is missing quietly.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field, replace

from needlewright.core.errors import FormatError
from needlewright.core.names import one_line
from needlewright.core.phones import codes
from needlewright.core.phones.datasets import Item, Store, items_from
from needlewright.core.phones.session import Refused, Session

MOST_DEPTH = 256
MOST_OBJECTS = 4_000_000
DATE = re.compile(r"(\d{4})(\d\d)(\d\d)T(\d\d)(\d\d)(\d\d)(?:\.\d)?(Z|[+-]\d{4})?")


@dataclass(frozen=True, slots=True)
class Held:
    """A file that a device holds. `key`: what it is known by in any session; `path`: of the store
    and its folders; `hidden`: the device says that it is; `refused`: the code for which nothing is
    told of it."""

    handle: int
    key: str
    path: str
    size: int | None
    created: str
    modified: str
    hidden: bool = False
    refused: int = 0


@dataclass(slots=True)
class Listing:
    """What a device holds. `offered`: handles; `folders` among them; `told`: files that it tells
    of; `refused`: how many it refuses, by code; `missed`: folders that could not be listed;
    `handles`: all that were met, of this session."""

    stores: list[Store] = field(default_factory=list)
    files: list[Held] = field(default_factory=list)
    offered: int = 0
    folders: int = 0
    refused: Counter[int] = field(default_factory=Counter)
    missed: int = 0
    handles: frozenset[int] = frozenset()

    @property
    def told(self) -> int:
        return sum(1 for f in self.files if not f.refused)

    @property
    def complete(self) -> bool:
        return not self.refused and not self.missed


def listing_of(session: Session, told: Callable[[int, int], None]) -> Listing:
    """Everything that all stores hold; `told`: (objects so far, offered). Raises Lost."""
    found = Listing(session.stores())
    every, seen = _all_at_once(session) if found.stores else {}, set[int]()
    # Some know all stores by one number only.
    for store in (*found.stores, *(replace(s, number=codes.EVERY) for s in found.stores[:1])):
        if store.number == codes.EVERY and (seen or found.missed):
            break
        items = _items_of(session, store, every, seen, found, told)
        seen |= items.keys()
        found.folders += sum(1 for i in items.values() if i.is_folder)
        found.files += _files(items, store)
    found.handles = frozenset(seen)
    return found


def is_same(session: Session, listing: Listing) -> bool:
    """Whether a device still offers the objects of a listing of this session, and no other."""
    if session.stores() != listing.stores or listing.missed:
        return False
    try:
        now = [_handles(session, store.number) for store in listing.stores]
    except Refused:
        return False
    return frozenset(handle for some in now for handle in some) == listing.handles


def _items_of(session: Session, store: Store, every: dict[int, Item], seen: set[int],
              found: Listing, told: Callable[[int, int], None]) -> dict[int, Item]:
    """Object by handle; `every`: what is told of all; `seen`: those of other stores, which some
    devices list again."""
    try:
        wanted = dict.fromkeys(h for h in _handles(session, store.number) if h not in seen)
    except Refused as error:
        if store.number != codes.EVERY:  # that was only tried
            found.refused[error.code] += 1
            found.missed += 1
        return {}
    known = {h: i for h, i in every.items() if h in wanted}
    waiting = list(wanted)
    deep: bool | None = None  # whether what lies in folders was listed with the others
    while waiting:
        more: list[int] = []
        for handle in waiting:
            item = known.get(handle)
            thin = item is not None and handle in every and (
                not item.name or (item.size is None and not item.is_folder))
            if item is None or thin:
                again = _one(session, handle, store, found)
                above = item.parent if item is not None else 0
                known[handle] = replace(again, parent=again.parent or above)
            if len(known) % 256 == 0:
                told(len(found.files) + len(known), found.offered + len(wanted))
        if deep is None:
            deep = any(known[h].parent not in (0, codes.EVERY) for h in waiting)
        if not deep:  # a device that lists folders one by one
            folders = [h for h in waiting if known[h].is_folder]
            more = _within(session, store, folders, wanted, known, every, found)
        waiting = more
    found.offered += len(wanted)
    told(len(found.files) + len(known), found.offered)
    return known


def _handles(session: Session, store: int) -> list[int]:
    """Handles of a store; those outside of all folders where a device does not tell all at once.
    """
    try:
        every = session.handles(store)
    except Refused:
        return session.handles(store, codes.EVERY)
    return every or session.handles(store, codes.EVERY)


def _within(session: Session, store: Store, folders: Iterable[int], wanted: dict[int, None],
            known: dict[int, Item], every: dict[int, Item], found: Listing) -> list[int]:
    """Handles in `folders` that were not known."""
    more: list[int] = []
    for folder in folders:
        try:
            inside = session.handles(store.number, folder)
        except Refused as error:
            found.refused[error.code] += 1
            found.missed += 1
            continue
        for handle in inside:
            if handle not in wanted and len(wanted) < MOST_OBJECTS:
                wanted[handle] = None
                more.append(handle)
                item = every.get(handle) or _one(session, handle, store, found)
                known[handle] = replace(item, parent=item.parent or folder)
    return more


def _all_at_once(session: Session) -> dict[int, Item]:
    """What the device tells of all objects in one answer; nothing where it cannot."""
    if codes.GET_PROP_LIST not in session.device.operations:
        return {}
    for depth in (codes.EVERY, 0):
        items: dict[int, Item] = {}
        try:
            for item in items_from(session.properties(codes.EVERY, depth)):
                items[item.handle] = item
        except Refused:
            continue
        except FormatError:
            pass  # the others are asked for one by one
        if items:
            return items
    return {}


def _one(session: Session, handle: int, store: Store, found: Listing) -> Item:
    try:
        return session.item(handle)
    except Refused as error:
        found.refused[error.code] += 1
        return Item(handle, store.number, refused=error.code)
    except FormatError:
        found.refused[codes.GENERAL_ERROR] += 1
        return Item(handle, store.number, refused=codes.GENERAL_ERROR)


def _files(items: dict[int, Item], store: Store) -> list[Held]:
    """The files with their paths, in the order of their handles' list."""
    top = _plain(store.label) or f"store {store.number:08x}"
    paths: dict[int, str] = {}
    same: Counter[str] = Counter()
    found = []
    for item in items.values():
        if item.is_folder:
            continue
        folder = _folder_of(item.parent, items, paths)
        name = _plain(item.name) or f"object {item.handle:08x}"
        path = "/".join(part for part in (top, folder, name) if part)
        same[path] += 1
        key = f"{store.number:08x}/{path}"
        if same[path] > 1:
            key += f"/{same[path]}"  # no name has a slash: no other has this key
        found.append(Held(item.handle, key, path, item.size, item.created, item.modified,
                          item.hidden, item.refused))
    return found


def _folder_of(handle: int, items: dict[int, Item], paths: dict[int, str]) -> str:
    """The path of a folder; one that leads back to itself ends there."""
    line: list[int] = []
    while handle in items and handle not in paths and handle not in line and (
            len(line) < MOST_DEPTH):
        line.append(handle)
        handle = items[handle].parent
    for one in reversed(line):
        above = paths.get(items[one].parent, "")
        name = _plain(items[one].name) or f"folder {one:08x}"
        paths[one] = f"{above}/{name}" if above else name
    return paths.get(line[0] if line else handle, "")


def _plain(name: str) -> str:
    """A name as a part of a path, which it must not change."""
    name = one_line(name).replace("/", "_").replace("\\", "_")
    return "_" if name in (".", "..") else name


def date_text(date: str) -> str | None:
    """A date as the device has it in the form of RFC 3339, without a zone where it has none; None
    where it is none."""
    hit = DATE.fullmatch(date)
    if hit is None:
        return None
    year, month, day, hour, minute, second, zone = hit.groups()
    fine = "01" <= month <= "12" and "01" <= day <= "31" and hour < "24" and minute < "60" and (
        second < "61")
    if not fine or year == "0000":
        return None
    if zone and zone != "Z":
        zone = f"{zone[:3]}:{zone[3:]}"
    return f"{year}-{month}-{day}T{hour}:{minute}:{second}{zone or ''}"
