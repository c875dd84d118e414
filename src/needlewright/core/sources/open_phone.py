"""Phones and cameras as shelves: `phone:NAME`, `ptpip://HOST[:PORT]`, `usb:[BUS.ADDRESS]`."""

from __future__ import annotations

import contextlib
import threading
from collections import Counter
from collections.abc import Callable, Sequence
from pathlib import Path

from needlewright.core import kept_open
from needlewright.core.errors import SourceError
from needlewright.core.phones import codes
from needlewright.core.phones.addresses import IP, NAMED, USB, checked, is_address, resolved
from needlewright.core.phones.listing import Held, Listing, date_text
from needlewright.core.phones.phone import OF_STATES, Phone, State
from needlewright.core.sources.registry import Opener, register
from needlewright.core.sources.shelf import DistantShelf, Offered, Shelved, room
from needlewright.core.sources.source import Source
from needlewright.core.stopping import StopSignal

WHOLE_AFTER = 3  # failures, after which a file is asked for in one piece


class PhoneShelf(DistantShelf):
    """The files that a phone or a camera hands out. Nobody is asked before something is wanted."""

    kind = "phone"

    def __init__(self, spec: str) -> None:
        self.spec, self.name = spec, _short_name(spec)
        self.phone = Phone(spec)
        self._listing: Listing | None = None
        self._offered: list[Offered] = []
        self._held: dict[str, Held] = {}
        self._failed: Counter[str] = Counter()

    def close(self) -> None:
        """Let go of it; it stays open for a while, for whoever opens it next."""
        if self._listing is not None and self.phone.is_open:
            kept_open.keep(self.phone.address, self)
        else:
            self.end()

    def end(self) -> None:
        """Close it for good."""
        self.phone.close()

    def is_fresh(self) -> bool:
        """Whether what it holds is what was listed; else it is listed again when it is asked."""
        fresh = False
        with contextlib.suppress(SourceError):
            fresh = self._listing is not None and self.phone.is_same()
        if not fresh:
            self._listing = None  # handles are another session's
        return fresh

    def look(self, told: Callable[[int, int], None],
             came: Callable[[Sequence[Offered]], None] = lambda some: None) -> None:
        self._listed(told)

    def _listed(self, told: Callable[[int, int], None] = lambda done, offered: None) -> Listing:
        if self._listing is None:
            self._listing = self.phone.listing(told)
            self._held = {held.key: held for held in self._listing.files}
            at, self._offered = 0, []
            for held in sorted(self._listing.files, key=lambda h: h.key):
                self._offered.append(_as_offered(held, at))
                at += room(held.size or 0)
        return self._listing

    def offered(self) -> Sequence[Offered]:
        self._listed()
        return self._offered

    def missing(self) -> dict[str, int]:
        found = self._listed()
        return {"offered": found.offered, "folders": found.folders, "files": len(found.files),
                "refused": sum(found.refused.values()), "unlisted": found.missed,
                "complete": int(found.complete)}

    def thumbnail(self, offered: Offered) -> bytes:
        self._listed()
        held = self._held.get(offered.entry.key)
        try:
            return b"" if held is None else self.phone.thumbnail(held)
        except SourceError as error:
            if error.code != "phone-refused":
                raise
            return b""

    def bring(self, offered: Offered, path: Path, told: Callable[[int], None]) -> int:
        self._listed()
        held = self._held.get(offered.entry.key)
        if held is None:
            raise SourceError("source-missing", path=offered.entry.path)
        try:
            return self.phone.fetch(held, path, told, self._failed[held.key] >= WHOLE_AFTER)
        except SourceError as error:
            # That it is locked says nothing of how it takes being asked for a part.
            self._failed[held.key] += error.code not in OF_STATES.values()
            raise

    def heed(self, stop: StopSignal) -> None:
        self.phone.stop = stop

    def is_back(self) -> str:
        state, _ = self.phone.state()
        if state is State.READY:
            self.is_fresh()
            self._listed()
            return ""
        return str(state)


def _as_offered(held: Held, at: int) -> Offered:
    refused = codes.meaning(held.refused) if held.refused else ""
    return Offered(Shelved(held.key, held.path, at, held.size or 0, 0, None), held.size,
                   date_text(held.created), date_text(held.modified), held.hidden, refused,
                   f"{held.size} {held.created} {held.modified}")


def _short_name(spec: str) -> str:
    if spec.startswith(USB):
        return f"phone at {spec}"
    return spec.removeprefix(NAMED).removeprefix(IP)


def _open(spec: str, direct: bool) -> Source:
    address = checked(spec)
    with contextlib.suppress(SourceError):
        kept = kept_open.take(resolved(address))
        if isinstance(kept, PhoneShelf):
            kept.spec = kept.phone.spec = address
            kept.name = _short_name(address)
            kept.heed(threading.Event())
            kept.is_fresh()
            return kept
    return PhoneShelf(address)


register(Opener("phone", is_address, checked, _open, _short_name, by_scheme=True))
