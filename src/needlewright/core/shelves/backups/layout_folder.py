"""A plain folder tree, as file managers copy phones and cards."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

from needlewright.core.errors import FormatError, SourceError
from needlewright.core.shelves.backups.base import Backup, Facts, Layout, register
from needlewright.core.shelves.backups.spots import Spot, Status
from needlewright.core.shelves.item_shelf import MOST_DEPTH, MOST_ITEMS, Item
from needlewright.core.sources.shelf import Flaw
from needlewright.core.volumes.stamps import unix

CAMERA = "camera-folder"
MEDIA = "DCIM"  # the folder of pictures (JEITA CP-3461, DCF)
OFTEN = 256  # files between two breaths


def walked(top: Spot, breathe: Callable[[], None]) -> Iterator[tuple[str, Status | None]]:
    """(path below `top`, its status or None where it cannot be told) of every file, sorted;
    links are never followed, what cannot be listed is passed over."""
    line, count = [("", 0)], 0
    while line:
        folder, depth = line.pop()
        try:
            every = sorted((top / folder).scan(), key=lambda one: one.name)
        except OSError:
            yield f"{folder}/" if folder else "", None
            continue
        inner = []
        for one in every:
            path = f"{folder}/{one.name}" if folder else one.name
            if one.is_dir:
                if depth < MOST_DEPTH:
                    inner.append((path, depth + 1))
                continue
            if one.is_file:
                count += 1
                if count % OFTEN == 0:
                    breathe()
                if count > MOST_ITEMS:
                    return
                yield path, one.status()
        line += reversed(inner)


def item_of(path: str, status: Status, handle: tuple[Spot, str], **told: object) -> Item:
    """What is told of a file at `path` of a backup; `handle`: in which folder, and where in it."""
    shown = path.encode("utf-8", "surrogateescape").decode("utf-8", "replace")
    return Item(shown, status.size, handle, None, status.modified, dict(told))


def read_item(item: Item, begin: int) -> Iterator[bytes]:
    """The bytes of such an item from `begin` on; OSError, Flaw."""
    top, path = item.handle
    return read_flawed(top / path, item, begin)


def read_flawed(spot: Spot, item: Item, begin: int) -> Iterator[bytes]:
    """The bytes of a file that is an item's content; Flaw where those of an image end."""
    try:
        yield from spot.read(begin)
    except (SourceError, FormatError) as error:
        raise Flaw("backup-cut", path=item.path, at=begin) from error
    if spot.lost(0, item.size or 0):
        raise Flaw("backup-unread", path=item.path)


def day_of(seconds: float) -> str | None:
    """RFC 3339, UTC."""
    stamp = unix(int(seconds))
    return stamp.text() if stamp else None


class FolderBackup(Backup):
    """All files in a folder."""

    def __init__(self, top: Spot) -> None:
        self._top = top
        self.facts = Facts("folder", notes=("backup-no-facts",))

    def items(self, breathe: Callable[[], None]) -> Sequence[Item]:
        found, newest, unread = [], 0.0, 0
        for path, status in walked(self._top, breathe):
            if status is None:
                unread += 1
                continue
            found.append(item_of(path, status, (self._top, path)))
            newest = max(newest, status.seconds)
        self.facts.made = day_of(newest)
        if unread:
            self.facts.troubles["backup-unreadable"] = unread
        return found

    def content(self, item: Item, begin: int) -> Iterator[bytes]:
        return read_item(item, begin)


register(Layout("folder", 90, lambda spot: spot.is_dir(), lambda spot, spec: FolderBackup(spot),
                is_own=False))
register(Layout(CAMERA, 80, lambda spot: (spot / MEDIA).is_dir(),
                lambda spot, spec: FolderBackup(spot)))
