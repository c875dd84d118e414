"""A shelf of items that a backup or a service tells of: places, keys, and bringing them here.

What differs between them is how items are listed and how the content of one comes.
"""

from __future__ import annotations

import contextlib
import errno
import gc
import io
import os
import threading
from abc import abstractmethod
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from needlewright.core import kept_open
from needlewright.core.errors import SourceError
from needlewright.core.hashing import sha256_of
from needlewright.core.names import one_line
from needlewright.core.sources.shelf import (
    DistantShelf,
    Flaw,
    Offered,
    Shelved,
    room,
)
from needlewright.core.stopping import Interrupted, StopSignal

MOST_ITEMS = 2_000_000  # that are listed; hostile lists must end
MOST_DEPTH, MOST_PATH = 64, 4096  # folders, letters
MOST_STATED = 1 << 62  # bytes; more is no size
MOST_USUAL = 255  # letters of a path of which nothing is to be changed
RESERVE_BYTES = 64 << 20  # that stay free on the disk, whatever a file says that it has


@dataclass(slots=True)
class Item:
    """A file as a backup or a service names it. `path`: as it is told, which may be anything;
    `size` in bytes, None where it is not told; times as RFC 3339; `handle`: what it is handed out
    by, `told`: more that is told of it (fields of `Offered`)."""

    path: str
    size: int | None
    handle: Any = None
    created: str | None = None
    modified: str | None = None
    told: dict[str, Any] = field(default_factory=dict)


def clean_path(told: str) -> str:
    """A path as it may be shown and kept: never absolute, never upwards, in one line; "_" where
    nothing of it is left."""
    if told.isascii() and told.isprintable() and 0 < len(told) <= MOST_USUAL and (
            "/." not in told and "//" not in told and "\\" not in told
            and told[0] not in "/." and told[-1] != "/"):
        return told  # nearly all are like this
    parts = ["_" if part == ".." else part for part in told.replace("\\", "/").split("/")
             if part not in ("", ".")]
    text = "/".join(one_line(part) for part in parts[-MOST_DEPTH:])
    text = text.encode("utf-8", "replace").decode("utf-8")
    return text[-MOST_PATH:].lstrip("/") or "_"


class Placing:
    """Gives items keys and places, in their order; equal paths get numbers in their keys."""

    def __init__(self) -> None:
        self._at, self._times = 0, dict[str, int]()

    def of(self, item: Item) -> Offered:
        path = clean_path(item.path)
        number = self._times[path] = self._times.get(path, -1) + 1
        size = item.size if item.size is not None and 0 <= item.size < MOST_STATED else None
        at, there, told = self._at, size or 0, item.told
        self._at += room(there)
        # No path has two slashes in a row, so that no other file has this key.
        entry = Shelved(path if not number else f"{path}//{number}", path, at, there, 0, None)
        digest = told.get("sha256", "")
        version = digest or f"{size} {item.modified}"
        if len(told) == bool(digest):  # nothing else is told of nearly all; names are slow
            return Offered(entry, size, item.created, item.modified, False, "", version, "", False,
                           None, None, "", digest)
        return Offered(entry, size, item.created, item.modified, version=version, **told)


class ItemShelf(DistantShelf):
    """Lists its items when somebody wants to know."""

    def __init__(self, spec: str, name: str) -> None:
        self.spec, self.name = spec, name
        self.stop: StopSignal = threading.Event()
        self._offered: list[Offered] | None = None
        self._items: dict[str, Item] = {}
        self._flaws: dict[str, Flaw] = {}
        self._torn: Counter[str] = Counter()

    stays = True  # whether it may be kept open
    #: How often a file is asked for again whose content is not the one that was promised.
    tries = 0

    @abstractmethod
    def listed(self, told: Callable[[int, int], None]) -> Iterator[Sequence[Item]]:
        """All items page by page, in the order in which they are best fetched; `told`: see
        `look`."""

    @abstractmethod
    def content(self, item: Item, begin: int) -> Iterator[bytes]:
        """The bytes of an item from `begin` on; Flaw where it breaks off, SourceError where the
        shelf is away."""

    def look(self, told: Callable[[int, int], None],
             came: Callable[[Sequence[Offered]], None] = lambda some: None) -> None:
        if self._offered is not None:
            return
        offered: list[Offered] = []
        self._items.clear()
        place = Placing()
        with _not_collecting():
            for page in self.listed(told):
                before = len(offered)
                for item in page:
                    if len(offered) < MOST_ITEMS:
                        one = place.of(item)
                        offered.append(one)
                        self._items[one.entry.key] = item
                if len(offered) > before:
                    came(offered[before:])
        self._offered = offered

    def offered(self) -> Sequence[Offered]:
        self.look(lambda done, every: None)
        assert self._offered is not None
        return self._offered

    def close(self) -> None:
        """Let go of it; what was listed stays for a while, for whoever opens it next."""
        if self._offered is not None and self.stays:
            kept_open.keep(self.spec, self)
        else:
            self.end()

    def end(self) -> None:
        """Close it for good."""

    def is_fresh(self) -> bool:
        """Whether what was listed is still so, as far as that is quickly told."""
        return True

    def missing(self) -> dict[str, int]:
        every = self.offered()
        lacking = sum(1 for one in every if one.problem)
        folders = {one.entry.path.rpartition("/")[0] for one in every}
        told = {"offered": len(every), "folders": len(folders), "files": len(every), "refused": 0,
                "unlisted": 0, "lacking": lacking}
        proved = self.proved_complete()
        return told if proved is None else told | {"complete": int(proved)}

    def proved_complete(self) -> bool | None:
        """Whether its own list, or its end, proves that nothing else was in it; None where nothing
        does."""
        return None

    def thumbnail(self, offered: Offered) -> bytes:
        return b""

    def heed(self, stop: StopSignal) -> None:
        self.stop = stop

    def heeded(self) -> None:
        """Interrupted where it is to stop."""
        if self.stop.is_set():
            raise Interrupted

    def is_back(self) -> str:
        return ""

    def flaw(self, offered: Offered) -> Flaw | None:
        return self._flaws.get(offered.entry.key)

    def bring(self, offered: Offered, path: Path, told: Callable[[int], None]) -> int:
        self.offered()
        item = self._items.get(offered.entry.key)
        if item is None:
            raise SourceError("source-missing", path=offered.entry.path)
        have = path.stat().st_size if path.exists() else 0
        try:
            self._flaws.pop(offered.entry.key, None)
            have = self._write(item, offered, path, have, told)
        except Flaw as flaw:
            have = path.stat().st_size if path.exists() else 0
            if not have:
                raise
            self._flaws[offered.entry.key] = flaw  # what is there of it may be of use
            return have
        wrong = self._compared(offered, path, have)
        if wrong is not None:
            self._torn[offered.entry.key] += 1
            if self._torn[offered.entry.key] <= self.tries:
                raise SourceError("shelf-lost", path=self.name, reason="wrong-length")
            self._flaws[offered.entry.key] = wrong
        return have

    def _compared(self, offered: Offered, path: Path, have: int) -> Flaw | None:
        """What tells that a file is not the one that was promised."""
        if offered.size is not None and have != offered.size:
            return Flaw("shelf-size", path=offered.entry.path, told=offered.size, there=have)
        if offered.sha256 and sha256_of(path) != offered.sha256.lower():
            return Flaw("shelf-hash", path=offered.entry.path)
        return None

    def _write(self, item: Item, offered: Offered, path: Path, have: int,
               told: Callable[[int], None]) -> int:
        free = os.statvfs(path if path.exists() else path.parent)
        most = free.f_bavail * free.f_frsize - RESERVE_BYTES + have
        if most <= 0:
            raise SourceError("phone-disk", path=self.name, reason=os.strerror(errno.ENOSPC))
        if (offered.size or 0) > most:  # it may be a lie; smaller ones still fit
            raise Flaw("shelf-no-room", path=offered.entry.path, size=offered.size)
        if offered.size is not None:
            most = offered.size  # what unpacks to more than it said is no file of this name
        with _writing(self.name), open(path, "ab", buffering=0) as file:
            for block in self.content(item, have):
                self.heeded()
                if have + len(block) > most:
                    _write_all(file, block[: max(0, most - have)])
                    raise Flaw("shelf-too-much", path=offered.entry.path, told=most)
                _write_all(file, block)
                have += len(block)
                told(have)
        return have


@contextlib.contextmanager
def _not_collecting() -> Iterator[None]:
    """A list of hundreds of thousands is looked through for circles again and again while it is
    made, which takes a third of the time, and it has none."""
    was_on = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was_on:
            gc.enable()


@contextlib.contextmanager
def _writing(name: str) -> Iterator[None]:
    """What fails here is this computer's disk: contents have errors of their own."""
    try:
        yield
    except OSError as error:
        raise SourceError("phone-disk", path=name,
                          reason=error.strerror or str(error)) from error


def _write_all(file: io.FileIO, block: bytes) -> None:
    view = memoryview(block)
    while view:
        view = view[file.write(view) or 0 :]


def opened(spec: str, make: Callable[[str], ItemShelf]) -> ItemShelf:
    """The shelf at `spec`: the one that was just open, if it is as it was, else a new one."""
    kept = kept_open.take(spec)
    if isinstance(kept, ItemShelf):
        if kept.is_fresh():
            kept.heed(threading.Event())
            return kept
        kept.end()
    return make(spec)
