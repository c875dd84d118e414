"""The phone backup of the survey: facts in a property list, a manifest in SQLite, content files by
their hash. `docs/formats/phone-backup.md` describes it.
"""

from __future__ import annotations

import contextlib
import plistlib
import re
from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack
from datetime import datetime
from typing import Any
from xml.parsers.expat import ExpatError

from needlewright.core import secrets
from needlewright.core.databases.quick import Values, rows_of, table_named
from needlewright.core.databases.reading import Database
from needlewright.core.errors import FormatError, SourceError
from needlewright.core.names import one_line
from needlewright.core.shelves.backups.base import Backup, Facts, Layout, marks_of, register
from needlewright.core.shelves.backups.layout_folder import read_flawed
from needlewright.core.shelves.backups.sealing import Scheme, opened
from needlewright.core.shelves.backups.spots import Spot
from needlewright.core.shelves.item_shelf import MOST_ITEMS, Item
from needlewright.core.sources.memory import MemorySource
from needlewright.core.sources.shelf import Flaw
from needlewright.core.sources.source import Source
from needlewright.core.volumes.stamps import zulu

FACTS, MANIFEST, SEALED, CONTENT = "facts.plist", "manifest.sqlite", "manifest.sealed", "content"
NAME, VERSION = "needlewright-phone-backup", 1
MOST_FACTS, MOST_MANIFEST = 1 << 20, 1 << 30  # bytes
TABLE = "files"
COLUMNS = ("path", "size", "created", "modified", "removed", "kept_until", "sha256")
HASH = re.compile("[0-9a-f]{64}")
MOST_TEXT = 200  # letters of a device's name that are shown


def facts_of(spot: Spot) -> dict[str, Any]:
    """The property list of the backup at `spot`; FormatError where it is none, OSError."""
    try:
        told = plistlib.loads((spot / FACTS).head(MOST_FACTS))
    except (plistlib.InvalidFileException, ExpatError, ValueError, TypeError, OverflowError,
            RecursionError, LookupError) as error:
        raise FormatError("coded-data-damaged", 0) from error
    if not isinstance(told, dict) or told.get("Layout") != NAME or told.get("Version") != VERSION:
        raise FormatError("coded-data-damaged", 0)
    return told


class ManifestBackup(Backup):
    """What a manifest names."""

    def __init__(self, spot: Spot, spec: str) -> None:
        self._spot, self._spec = spot, spec
        self._told = facts_of(spot)
        made = self._told.get("Made")
        self.facts = Facts(
            "phone-backup", one_line(str(self._told.get("Device", "")))[:MOST_TEXT],
            f"{made.isoformat()}Z" if isinstance(made, datetime) else None,
            bool(self._told.get("Complete", False)), "Encryption" in self._told)
        self._key: bytes | None = None

    def items(self, breathe: Callable[[], None]) -> Sequence[Item]:
        if self.facts.encrypted:
            self._unlock()
        found: list[Item] = []
        there = self._stored(breathe)
        with ExitStack() as held:
            database = self._manifest(held)
            table = table_named(database, TABLE)
            if table is None:
                raise SourceError("backup-damaged-list", path=str(self._spot))
            for values in rows_of(database, table, COLUMNS):
                item = self._item(values, there)
                if item is not None:
                    found.append(item)
                if len(found) % 256 == 0:
                    breathe()
                if len(found) >= MOST_ITEMS:
                    break
            if database.trouble.pages:
                self.facts.troubles["backup-list-pages"] = len(set(database.trouble.pages))
        lacking = sum(1 for item in found if item.told.get("problem"))
        if lacking:
            self.facts.troubles["backup-missing"] = lacking
        promised = self._told.get("Items")
        if isinstance(promised, int) and promised > len(found):
            self.facts.troubles["backup-unlisted"] = promised - len(found)
        if self.facts.troubles:
            self.facts.complete = False
        return found

    def _unlock(self) -> None:
        try:
            scheme = Scheme.of(self._told["Encryption"])
        except FormatError as error:
            raise SourceError("backup-damaged-list", path=str(self._spot)) from error
        wrong = False
        while self._key is None:
            self._key = scheme.key(secrets.wanted(self._spec, secrets.PASSWORD, wrong))
            wrong = True

    def _stored(self, breathe: Callable[[], None]) -> frozenset[str]:
        """The names of the content files that are there."""
        found: list[str] = []
        for number in range(256):
            breathe()
            with contextlib.suppress(OSError):
                found += (self._spot / f"{CONTENT}/{number:02x}").names()
        return frozenset(name for name in found if HASH.fullmatch(name))

    def _manifest(self, held: ExitStack) -> Database:
        try:
            if self._key is None:
                source: Source = held.enter_context((self._spot / MANIFEST).source())
            else:
                sealed = held.enter_context((self._spot / SEALED).source())
                if sealed.size > MOST_MANIFEST:
                    raise FormatError("coded-data-damaged", 0)
                source = MemorySource(b"".join(opened(sealed, self._key, "manifest")))
            return Database(source)
        except FormatError as error:
            raise SourceError("backup-damaged-list", path=str(self._spot)) from error

    def _item(self, values: Values, there: frozenset[str]) -> Item | None:
        path, size, created, modified, removed_at, kept_until, digest = values
        if not isinstance(path, str):
            return None
        more: dict[str, Any] = {}
        sound = True
        if digest in there:  # what is there is named by a hash
            more["sha256"] = digest
        else:
            sound = isinstance(digest, str) and HASH.fullmatch(digest) is not None
            more["problem"] = "backup-content-missing" if sound else "backup-entry-wrong"
        if removed_at:
            more |= {"removed": True, "removed_at": _time(removed_at),
                     "purge_at": _time(kept_until)}
        born = _time(created)
        return Item(path, size if isinstance(size, int) else None, digest if sound else None,
                    born, born if created == modified else _time(modified), more)

    def content(self, item: Item, begin: int) -> Iterator[bytes]:
        digest = str(item.handle)
        spot = self._spot / f"{CONTENT}/{digest[:2]}/{digest}"
        if self._key is None:
            yield from read_flawed(spot, item, begin)
            return
        if not item.size:
            return
        with spot.source() as sealed:
            try:
                yield from opened(sealed, self._key, digest, begin)
            except FormatError as error:
                raise Flaw("backup-unauthentic", path=item.path) from error

    def marks(self) -> tuple[tuple[int, int], ...]:
        return marks_of(self._spot / FACTS, self._spot / MANIFEST,
                        self._spot / SEALED, self._spot / CONTENT)

    def close(self) -> None:
        self._key = None


def _time(told: object) -> str | None:
    return zulu(told) if isinstance(told, int) else None


def _fits(spot: Spot) -> bool:
    if not (spot / FACTS).is_file():
        return False
    try:
        facts_of(spot)
    except FormatError:
        return False
    return True


register(Layout("phone-backup", 10, _fits, ManifestBackup))
