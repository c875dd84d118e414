"""New files put onto a device: into a folder of their own under DCIM, never over what is there, and
read back.
"""

from __future__ import annotations

import hashlib
import os
from collections.abc import Callable
from dataclasses import dataclass
from typing import BinaryIO

from needlewright.core.phones import codes
from needlewright.core.phones.datasets import Item
from needlewright.core.phones.link import Outgoing
from needlewright.core.phones.session import Refused, Session

PICTURES, OURS = "DCIM", "Needlewright"
MOST_NAMES = 10_000
MOST_NAME = 200  # characters


@dataclass(frozen=True, slots=True)
class Put:
    """A file that is there now: under which name, and the SHA-256 (hex) of what was read back."""

    name: str
    sha256: str


class _Hash:
    """Takes what is read back."""

    def __init__(self) -> None:
        self.digest = hashlib.sha256()

    def write(self, data: memoryview) -> None:
        self.digest.update(data)


class Place:
    """Our folder on a device: in its first store that is built in, else in the first. Raises Lost,
    Refused."""

    def __init__(self, session: Session) -> None:
        if codes.SEND_OBJECT not in session.device.operations:
            raise Refused(codes.NOT_SUPPORTED)
        stores = session.stores()
        if not stores:
            raise Refused(codes.STORE_NOT_AVAILABLE)
        self._session = session
        self._store = next((s for s in stores if not s.removable), stores[0]).number
        self._folder = self._within(self._within(codes.EVERY, PICTURES), OURS)
        self._names = {item.name.casefold() for item in self._items(self._folder)}

    def put(self, name: str, form: int, file: BinaryIO, modified: str,
            told: Callable[[int], None]) -> Put:
        """`file` as a new one of the object format `form`, called `name` or much like it; `told`:
        bytes that were sent."""
        size, sent = os.fstat(file.fileno()).st_size, 0

        def read(count: int) -> bytes:
            nonlocal sent
            part = file.read(count)
            sent += len(part)
            told(sent)
            return part

        free = self._free(name)
        handle = self._session.put(self._store, self._folder, free, form, Outgoing(size, read),
                                   modified)
        self._names.add(free.casefold())
        back = _Hash()
        self._session.fetch(Item(handle, size=size), 0, back, lambda part: told(size))
        return Put(free, back.digest.hexdigest())

    def _free(self, name: str) -> str:
        """`name`, or one like it that nothing there has."""
        stem, dot, end = name.replace("/", "_")[-MOST_NAME:].rpartition(".")
        stem, end = (stem, dot + end) if stem else (end, "")
        for number in range(MOST_NAMES):
            made = f"{stem} ({number + 1}){end}" if number else stem + end
            if made.casefold() not in self._names:
                return made
        raise Refused(codes.ACCESS_DENIED)

    def _within(self, parent: int, name: str) -> int:
        """The folder `name` in another; it is made where it is not there."""
        for item in self._items(parent):
            if item.is_folder and item.name.casefold() == name.casefold():
                return item.handle
        return self._session.make_folder(self._store, parent, name)

    def _items(self, parent: int) -> list[Item]:
        return [self._session.item(handle) for handle in self._session.handles(
            self._store, parent)]
