"""Backups as shelves: `backup:PATH`, a folder tree, an archive or a layout that is documented."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path

from needlewright.core.errors import SourceError
from needlewright.core.shelves.backups.base import SCHEME, Backup, open_backup
from needlewright.core.shelves.item_shelf import Item, ItemShelf
from needlewright.core.sources.registry import Opener, register

GONE = "shelf-lost"


class BackupShelf(ItemShelf):
    """What a backup holds."""

    kind = "backup"

    def __init__(self, spec: str) -> None:
        super().__init__(spec, short_name(spec))
        self._path = place_of(spec)
        self.backup: Backup = open_backup(self._path, spec)

    def close(self) -> None:
        self.backup.close()

    def listed(self, told: Callable[[int, int], None]) -> Sequence[Item]:
        try:
            return self.backup.items(self.heeded)
        except OSError as error:
            raise SourceError("source-unopenable", path=str(self._path),
                              reason=error.strerror or str(error)) from error

    def content(self, item: Item, begin: int) -> Iterator[bytes]:
        try:
            yield from self.backup.content(item, begin)
        except OSError as error:
            if not self._path.exists():  # its drive was pulled
                raise SourceError(GONE, path=self.name) from error
            raise SourceError("source-unopenable", path=item.path,
                              reason=error.strerror or str(error)) from error

    def is_back(self) -> str:
        if not self._path.exists():
            return "unseen"
        return ""


def place_of(spec: str) -> Path:
    """Where the backup that is opened by `spec` lies."""
    return Path(spec.removeprefix(SCHEME))


def short_name(spec: str) -> str:
    """What to call a backup."""
    return place_of(spec).name or str(place_of(spec))


def _whole(spec: str) -> str:
    path = spec.removeprefix(SCHEME)
    if not path:
        raise SourceError("source-unknown", path=spec)
    return SCHEME + os.path.abspath(path)


register(Opener("backup", lambda spec: spec.startswith(SCHEME), _whole,
                lambda spec, direct: BackupShelf(_whole(spec)), short_name, by_scheme=True,
                lies_at=lambda spec: str(place_of(spec))))
