"""A session with a device: operations with their checks (ISO 15740, 9.3)."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable
from dataclasses import replace
from typing import Protocol

from needlewright.core.errors import FormatError
from needlewright.core.phones import codes
from needlewright.core.phones.datasets import (
    Item,
    Store,
    device_from,
    item_from,
    new_item,
    numbers_from,
    store_from,
)
from needlewright.core.phones.link import Answer, Link, Lost, Outgoing, Take

MOST_TOLD = 1 << 28  # bytes of one dataset
RANGE = 1 << 22  # bytes that are asked for at once
SESSION = 1
MOST_SHORT = 1 << 32  # beyond, offsets need 64 bits
#: Answers that another way of asking does not change.
FINAL = frozenset((codes.ACCESS_DENIED, codes.STORE_NOT_AVAILABLE, codes.INVALID_HANDLE,
                   codes.SESSION_NOT_OPEN))
AGAIN, BUSY_SECONDS = 5, 0.5  # times that a busy device is asked again, after so long


class Writing(Protocol):
    """What the bytes of an object are written into."""

    def write(self, data: memoryview, /) -> object:
        """Take all of `data`."""


class Refused(Exception):
    """The device refuses an operation; nothing is wrong with the connection."""

    def __init__(self, code: int) -> None:
        super().__init__(codes.meaning(code))
        self.code = code


class _Taker:
    """Writes what comes and was not written yet. `done`: bytes that were; `at`: where in the object
    what comes next belongs."""

    def __init__(self, out: Writing, told: Callable[[memoryview], None], begin: int) -> None:
        self._out, self._told = out, told
        self.done, self.at = begin, 0

    def take(self, part: memoryview) -> None:
        """Take in what comes."""
        skip = min(len(part), max(0, self.done - self.at))
        self.at += len(part)
        if skip < len(part):
            self._out.write(part[skip:])
            self._told(part[skip:])
            self.done = self.at

    def again(self) -> None:
        """What comes next is the object from its first byte on."""
        self.at = 0


class Session:
    """One session over `link`. Raises Lost where the connection is, Refused where it is not to
    be."""

    def __init__(self, link: Link) -> None:
        self._link, self._transaction = link, 0
        told: bytes | None = None
        with contextlib.suppress(Refused):  # some tell nothing before there is a session
            told = self._told(codes.GET_DEVICE_INFO)
        self._transaction = 0  # as well: a session's own begin with 1 (9.3.1)
        answer = self._run_busy(codes.OPEN_SESSION, (SESSION,))
        if answer.code not in (codes.OK, codes.SESSION_OPEN):
            raise Refused(answer.code)
        self.device = device_from(self._told(codes.GET_DEVICE_INFO) if told is None else told)

    def close(self) -> None:
        """End the session and let go of the connection."""
        try:
            self._run(codes.CLOSE_SESSION, ())
        except Lost:
            pass
        finally:
            self._link.close()

    # what the device tells

    def stores(self) -> list[Store]:
        """The stores that are there; none where the device is locked, or asks first."""
        found = []
        for number in dict.fromkeys(numbers_from(self._told(codes.GET_STORAGE_IDS))):
            try:
                one = store_from(number, self._told(codes.GET_STORAGE_INFO, number))
            except Refused:
                one = Store(number, 0, 0, 0, "")  # what it holds may be had all the same
            if number & 0xFFFF or one.capacity:  # else a slot that is empty (5.5.3)
                found.append(one)
        return found

    def handles(self, store: int, folder: int = 0) -> list[int]:
        """Handles of all objects of a store, or of those in one folder of it."""
        return numbers_from(self._told(codes.GET_OBJECT_HANDLES, store, 0, folder))

    def item(self, handle: int) -> Item:
        """What is told of one object; its true size where that has over 32 bits."""
        told = item_from(handle, self._told(codes.GET_OBJECT_INFO, handle))
        if told.size is None and codes.GET_PROP_VALUE in self.device.operations:
            data = self._told(codes.GET_PROP_VALUE, handle, codes.SIZE)
            return replace(told, size=int.from_bytes(data[:8], "little"))
        return told

    def properties(self, handle: int, depth: int) -> bytes:
        """All properties of objects (MTP 1.1, D.2.31)."""
        return self._told(codes.GET_PROP_LIST, handle, 0, codes.ALL_PROPERTIES, 0, depth)

    def thumbnail(self, handle: int) -> bytes:
        """The device's own small picture; b"" where it has none."""
        try:
            return self._told(codes.GET_THUMB, handle)
        except Refused:
            return b""

    # bytes of objects

    def fetch(self, item: Item, begin: int, out: Writing, told: Callable[[memoryview], None],
              whole: bool = False) -> int:
        """Write the bytes of an object from `begin` on; `told` is given them as they come. The
        number of bytes that it has; Lost where that is another than it said. Without ranges, or
        where it is wanted `whole`, all of it is read again."""
        taker = _Taker(out, told, begin)
        size, wide = item.size, codes.GET_PARTIAL_OBJECT_64 in self.device.operations
        ranged = wide or (codes.GET_PARTIAL_OBJECT in self.device.operations
                          and size is not None and size < MOST_SHORT)
        if ranged and not whole and size is not None and (begin or size > RANGE):
            try:
                return self._in_ranges(item.handle, size, taker, wide)
            except Refused as error:
                if error.code in FINAL:
                    raise
                taker.again()  # it lists what it does not do
        self._checked(self._run_busy(codes.GET_OBJECT, (item.handle,), taker.take))
        if size is not None and taker.at != size:
            raise Lost("wrong-length")
        return taker.at

    def _in_ranges(self, handle: int, size: int, taker: _Taker, wide: bool) -> int:
        at = taker.at = taker.done
        while at < size:
            length = min(RANGE, size - at)
            if wide:
                answer = self._run_busy(codes.GET_PARTIAL_OBJECT_64, (
                    handle, at & 0xFFFFFFFF, at >> 32, length), taker.take)
            else:
                answer = self._run_busy(codes.GET_PARTIAL_OBJECT, (handle, at, length),
                                        taker.take)
            self._checked(answer)
            # Some hand out less at once than they are asked for, and say so.
            if not 0 < taker.at - at <= length:
                raise Lost("wrong-length")
            at = taker.at
        return size

    # putting new objects there

    def make_folder(self, store: int, parent: int, name: str) -> int:
        """A new folder within another; EVERY as `parent`: in none. Its handle."""
        return self._announced(store, parent, new_item(store, parent, codes.FOLDER, name, 0))

    def put(self, store: int, parent: int, name: str, form: int, data: Outgoing,
            modified: str) -> int:
        """A new file of `data`, of the object format `form` (ISO 15740:2013, 11.2), in a folder,
        dated `modified` (YYYYMMDDThhmmss or ""). Its handle."""
        handle = self._announced(store, parent, new_item(store, parent, form, name, data.size,
                                                         modified))
        self._checked(self._run(codes.SEND_OBJECT, (), data=data))
        return handle

    def _announced(self, store: int, parent: int, described: bytes) -> int:
        answer = self._run(codes.SEND_OBJECT_INFO, (store, parent), data=Outgoing.of(described))
        self._checked(answer)
        if len(answer.values) < 3:
            raise Lost("no-ptp")
        return answer.values[2]

    # operations

    def _told(self, operation: int, *values: int) -> bytes:
        data = bytearray()

        def take(part: memoryview) -> None:
            if len(data) + len(part) > MOST_TOLD:
                raise Lost("too-much")
            data.extend(part)

        self._checked(self._run_busy(operation, values, take))
        return bytes(data)

    def _run_busy(self, operation: int, values: tuple[int, ...],
                  take: Take = lambda part: None) -> Answer:
        first = self._transaction
        answer = self._run(operation, values, take)
        for _ in range(AGAIN):
            if answer.code != codes.DEVICE_BUSY:
                break
            time.sleep(BUSY_SECONDS)
            if operation == codes.OPEN_SESSION:
                self._transaction = first  # that of opening is always 0
            answer = self._run(operation, values, take)
        return answer

    def _run(self, operation: int, values: tuple[int, ...],
             take: Take = lambda part: None, data: Outgoing | None = None) -> Answer:
        answer = self._link.run(operation, self._transaction, values, take, data)
        self._transaction = (self._transaction + 1) % 0xFFFFFFFF or 1  # 0xFFFFFFFF is none
        return answer

    @staticmethod
    def _checked(answer: Answer) -> None:
        if answer.code != codes.OK:
            raise Refused(answer.code)


def understood(error: FormatError) -> Lost:
    """What cannot be read of a device is as good as a lost connection."""
    return Lost("no-ptp" if error.why == "data-ends" else error.why)
