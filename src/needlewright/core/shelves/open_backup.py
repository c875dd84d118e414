"""Backups as shelves: `backup:PATH`, a folder tree, an archive or a layout that is documented."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from dataclasses import asdict
from pathlib import Path
from typing import Any

from needlewright.core.errors import SourceError
from needlewright.core.formats.recognising import kind_of_name
from needlewright.core.shelves.backups.base import SCHEME, Backup, open_backup
from needlewright.core.shelves.backups.spots import image_of
from needlewright.core.shelves.item_shelf import Item, ItemShelf, opened
from needlewright.core.sources.registry import Opener, register
from needlewright.core.sources.shelf import Flaw, Offered
from needlewright.core.walks import Kind

GONE = "shelf-lost"
UNREAD = frozenset(("source-range", "source-shrank"))  # of a part of what is there
MOST_PICTURE = 24 << 20  # bytes of a picture that is read to show it small


class BackupShelf(ItemShelf):
    """What a backup holds."""

    kind = "backup"

    def __init__(self, spec: str) -> None:
        super().__init__(spec, short_name(spec))
        self._path = place_of(spec)
        self._backup: Backup | None = None
        self._marks: tuple[tuple[int, int], ...] | None = None
        self.stays = False

    @property
    def backup(self) -> Backup:
        """Opened when it is wanted: what was brought of it is there without it."""
        if self._backup is None:
            self._backup = open_backup(self._path, self.spec, self.heeded)
            self._marks = self._backup.marks()
            self.stays = self._marks is not None
        return self._backup

    def end(self) -> None:
        if self._backup is not None:
            self._backup.close()
            self._backup = None

    def is_fresh(self) -> bool:
        return self.backup.marks() == self._marks

    def listed(self, told: Callable[[int, int], None]) -> Iterator[Sequence[Item]]:
        try:
            yield self.backup.items(self.heeded)
        except OSError as error:
            raise SourceError("source-unopenable", path=str(self._path),
                              reason=error.strerror or str(error)) from error

    def content(self, item: Item, begin: int) -> Iterator[bytes]:
        try:
            yield from self.backup.content(item, begin)
        except Flaw:
            raise
        except (OSError, SourceError) as error:
            if not on_disk(self._path).exists():  # its drive was pulled
                raise SourceError(GONE, path=self.name, reason="pulled",
                                  state="pulled") from error
            if isinstance(error, OSError):
                raise SourceError("source-unopenable", path=item.path,
                                  reason=error.strerror or str(error)) from error
            if error.code not in UNREAD:
                raise
            # The others are read all the same.
            raise Flaw("backup-unread", path=item.path) from error

    def about(self) -> dict[str, Any]:
        """The fields of its `Facts`, as far as they are known: all of them once it was listed."""
        return asdict(self.backup.facts)

    def proved_complete(self) -> bool | None:
        return self.backup.facts.complete

    def thumbnail(self, offered: Offered) -> bytes:
        """The file itself, where it is a picture that is quickly read."""
        item = self._items.get(offered.entry.key)
        if item is None or not self.backup.at_random or not 0 < (item.size or 0) <= MOST_PICTURE:
            return b""
        if kind_of_name(offered.entry.path)[0] is not Kind.PHOTO:
            return b""
        try:
            return b"".join(self.content(item, 0))[: item.size]
        except SourceError:
            return b""

    def is_back(self) -> str:
        if not on_disk(self._path).exists():
            return "pulled"
        return ""


def place_of(spec: str) -> Path:
    """Where the backup that is opened by `spec` lies."""
    return Path(spec.removeprefix(SCHEME))


def on_disk(path: Path) -> Path:
    """What of this computer a backup is, or lies in."""
    return image_of(path) or path


def short_name(spec: str) -> str:
    """What to call a backup."""
    return place_of(spec).name or str(place_of(spec))


def _whole(spec: str) -> str:
    path = spec.removeprefix(SCHEME)
    if not path:
        raise SourceError("source-unknown", path=spec)
    return SCHEME + os.path.abspath(path)


register(Opener("backup", lambda spec: spec.startswith(SCHEME), _whole,
                lambda spec, direct: opened(_whole(spec), BackupShelf), short_name, by_scheme=True,
                lies_at=lambda spec: str(on_disk(place_of(spec)))))
