"""A plain folder tree, as file managers copy phones and cards."""

from __future__ import annotations

import os
import stat
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path

from needlewright.core.shelves.backups.base import Backup, Facts, Layout, register
from needlewright.core.shelves.item_shelf import MOST_DEPTH, MOST_ITEMS, Item
from needlewright.core.volumes.stamps import unix

BLOCK = 1 << 20
MEDIA = "DCIM"  # the folder of pictures (JEITA CP-3461, DCF)
OFTEN = 256  # files between two breaths


def walked(top: Path, breathe: Callable[[], None]) -> Iterator[tuple[str, os.stat_result | None]]:
    """(path below `top`, its status or None where it cannot be told) of every file, sorted;
    links are never followed, what cannot be listed is passed over."""
    line, count = [("", 0)], 0
    while line:
        folder, depth = line.pop()
        try:
            with os.scandir(top / folder) as listed:
                every = sorted(listed, key=lambda one: one.name)
        except OSError:
            yield f"{folder}/" if folder else "", None
            continue
        inner = []
        for one in every:
            path = f"{folder}/{one.name}" if folder else one.name
            if one.is_dir(follow_symlinks=False):
                if depth < MOST_DEPTH:
                    inner.append((path, depth + 1))
                continue
            try:
                status = one.stat(follow_symlinks=False)
            except OSError:
                yield path, None
                continue
            if stat.S_ISREG(status.st_mode):
                count += 1
                if count % OFTEN == 0:
                    breathe()
                if count > MOST_ITEMS:
                    return
                yield path, status
        line += reversed(inner)


def item_of(path: str, status: os.stat_result, handle: Path, **told: object) -> Item:
    """What is told of a file at `path` of a backup, which is the one at `handle` here."""
    seconds, nanos = divmod(status.st_mtime_ns, 1_000_000_000)
    stamp = unix(seconds, nanos)
    return Item(os.fsencode(path).decode("utf-8", "replace"), status.st_size, handle, None,
                stamp.text() if stamp else None, dict(told))


def read_file(path: Path, begin: int) -> Iterator[bytes]:
    """The bytes of a file that is not a link, from `begin` on; OSError."""
    number = os.open(path, os.O_RDONLY | os.O_CLOEXEC | os.O_NOFOLLOW | os.O_NONBLOCK)
    with open(number, "rb", buffering=0) as file:
        file.seek(begin)
        while block := file.read(BLOCK):
            yield block


def day_of(seconds: float) -> str | None:
    """RFC 3339, UTC."""
    stamp = unix(int(seconds))
    return stamp.text() if stamp else None


class FolderBackup(Backup):
    """All files in a folder."""

    def __init__(self, top: Path) -> None:
        self._top = top
        self.facts = Facts("folder", notes=("backup-no-facts",))

    def items(self, breathe: Callable[[], None]) -> Sequence[Item]:
        found, newest, unread = [], 0.0, 0
        for path, status in walked(self._top, breathe):
            if status is None:
                unread += 1
                continue
            found.append(item_of(path, status, self._top / path))
            newest = max(newest, status.st_mtime)
        self.facts.made = day_of(newest)
        if unread:
            self.facts.troubles["backup-unreadable"] = unread
        return found

    def content(self, item: Item, begin: int) -> Iterator[bytes]:
        return read_file(item.handle, begin)


def _fits(path: Path) -> bool:
    return path.is_dir()


register(Layout("folder", 90, _fits, lambda path, spec: FolderBackup(path), is_own=False))
register(Layout("camera-folder", 80, lambda path: (path / MEDIA).is_dir(),
                lambda path, spec: FolderBackup(path)))
