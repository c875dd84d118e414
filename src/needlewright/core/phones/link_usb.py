"""PTP over USB (ISO 15740, annex D; USB still image capture device definition 1.0): containers over
two bulk endpoints. Phones that speak MTP have the same, under a class of their own.

Tested against recorded exchanges; no device was at hand.
"""

from __future__ import annotations

import contextlib
import errno
import struct
import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any, Protocol

from needlewright.core.phones.link import Answer, Link, Lost, Outgoing, Take

COMMAND, DATA, RESPONSE, EVENT = 1, 2, 3, 4
HEAD = 12
UNSTATED = 0xFFFFFFFF
BLOCK = 1 << 19
PACKET = 512  # bytes that a transfer is a multiple of, at most
CALL_SECONDS, LEAST_RATE, SILENT_SECONDS = 60.0, 50_000, 30.0
STILL_IMAGE = (6, 1, 1)  # class, subclass, protocol
OWN = 0xFF  # a maker's own class, told apart by its name


class Pipes(Protocol):
    """The endpoints of a device."""

    def write(self, data: bytes) -> None:
        """All of `data`; Lost."""

    def read(self, length: int) -> bytes:
        """One transfer of up to `length` bytes, shorter at its end; Lost."""

    def close(self) -> None:
        """Let go of the device."""


class UsbLink(Link):
    """A connection over `pipes`."""

    def __init__(self, pipes: Pipes) -> None:
        self._pipes = pipes

    def run(self, operation: int, transaction: int, values: Sequence[int], take: Take,
            data: Outgoing | None = None) -> Answer:
        self._put(COMMAND, operation, transaction,
                  Outgoing.of(struct.pack(f"<{len(values)}I", *values)))
        if data is not None:
            self._put(DATA, operation, transaction, data)
        begun = time.monotonic()
        while True:
            block = self._pipes.read(BLOCK)
            if not block:
                self._in_time(begun, 0)
                continue  # an empty transfer ends the one before
            length, kind, code, number = self._head(block)
            if kind == EVENT:
                continue
            if number != transaction:
                raise Lost("another-answer")
            if kind == RESPONSE:
                count = (min(length, len(block)) - HEAD) // 4
                return Answer(code, struct.unpack_from(f"<{count}I", block, HEAD))
            if kind != DATA:
                raise Lost("out-of-turn")
            self._take(block, length, take, begun)

    def _take(self, block: bytes, length: int, take: Take, begun: float) -> None:
        """The data of one container, the first transfer of which is `block`."""
        if len(block) > HEAD:
            take(memoryview(block)[HEAD:])
        got = len(block)
        while got < length if length != UNSTATED else len(block) % PACKET == 0 and block:
            block = self._pipes.read(BLOCK if length == UNSTATED else min(BLOCK, length - got))
            if not block and length != UNSTATED:
                raise Lost("wrong-length")
            if block:
                take(memoryview(block))
            got += len(block)
            self._in_time(begun, got)
        if got > length != UNSTATED:
            raise Lost("wrong-length")

    @staticmethod
    def _head(block: bytes) -> tuple[int, int, int, int]:
        if len(block) < HEAD:
            raise Lost("no-ptp")
        length, kind, code, number = struct.unpack_from("<IHHI", block)
        if length < HEAD:
            raise Lost("no-ptp")
        return length, kind, code, number

    def _put(self, kind: int, code: int, transaction: int, body: Outgoing) -> None:
        """A container; all transfers but the last are of whole packets."""
        length = HEAD + body.size
        pending = struct.pack("<IHHI", min(length, UNSTATED), kind, code, transaction)
        for part in body.parts(BLOCK):
            pending += part
            if len(pending) >= BLOCK:
                self._pipes.write(pending[:BLOCK])
                pending = pending[BLOCK:]
        if pending or length % PACKET == 0:
            self._pipes.write(pending)
        if pending and len(pending) % PACKET == 0:
            self._pipes.write(b"")

    @staticmethod
    def _in_time(begun: float, got: int) -> None:
        if time.monotonic() - begun > CALL_SECONDS + got / LEAST_RATE:
            raise Lost("too-slow")

    def close(self) -> None:
        self._pipes.close()


@dataclass(frozen=True, slots=True)
class Plugged:
    """A device that is plugged in and may speak PTP. `place`: its bus and address."""

    place: str
    maker: str
    model: str


def plugged() -> list[Plugged]:
    """The devices with an interface for pictures; names only where they may be read."""
    found = []
    for device, _ in _devices():
        names = []
        for index in (device.iManufacturer, device.iProduct):
            try:
                names.append(str(_util().get_string(device, index) or "") if index else "")
            except (ValueError, OSError, NotImplementedError):
                names.append("")
        found.append(Plugged(f"{device.bus}.{device.address}", *names))
    return found


def pipes_to(place: str) -> Pipes:
    """The endpoints of the device at `place`; "": the first one. Raises Lost."""
    for device, interface in _devices():
        if place in ("", f"{device.bus}.{device.address}"):
            return _Endpoints(device, interface)
    raise Lost("unseen")


def _devices() -> Iterator[tuple[Any, Any]]:
    """(device, its interface for pictures) of all that are plugged in."""
    import libusb_package
    import usb.core

    with contextlib.suppress(usb.core.NoBackendError, OSError):
        for device in usb.core.find(find_all=True, backend=libusb_package.get_libusb1_backend()):
            with contextlib.suppress(usb.core.USBError):
                for interface in (i for configuration in device for i in configuration):
                    if _is_ours(device, interface):
                        yield device, interface
                        break


def _is_ours(device: Any, interface: Any) -> bool:
    kind = (interface.bInterfaceClass, interface.bInterfaceSubClass, interface.bInterfaceProtocol)
    if kind == STILL_IMAGE:
        return True
    if kind[0] != OWN or interface.bNumEndpoints != 3:
        return False
    try:
        return "MTP" in str(_util().get_string(device, interface.iInterface) or "")
    except (ValueError, OSError, NotImplementedError):
        return False


def _util() -> Any:
    import usb.util

    return usb.util


class _Endpoints:
    """The bulk endpoints of one interface, claimed."""

    def __init__(self, device: Any, interface: Any) -> None:
        self._device, self._number = device, interface.bInterfaceNumber
        bulk = [e for e in interface if e.bmAttributes & 3 == 2]
        self._in = next((e for e in bulk if e.bEndpointAddress & 0x80), None)
        self._out = next((e for e in bulk if not e.bEndpointAddress & 0x80), None)
        if self._in is None or self._out is None:
            raise Lost("no-ptp")
        try:
            _util().claim_interface(device, self._number)
        except OSError as error:
            raise Lost({errno.EBUSY: "usb-busy", errno.EACCES: "usb-denied"}.get(
                error.errno or 0, "closed")) from error

    def write(self, data: bytes) -> None:
        try:
            if self._out is None or self._out.write(data, int(SILENT_SECONDS * 1000)) != len(data):
                raise Lost("closed")
        except OSError as error:
            raise Lost("closed") from error

    def read(self, length: int) -> bytes:
        assert self._in is not None
        room = -(-length // PACKET) * PACKET  # a transfer is never cut within a packet
        try:
            return bytes(self._in.read(room, int(SILENT_SECONDS * 1000)))
        except OSError as error:
            raise Lost("silent" if error.errno == errno.ETIMEDOUT else "closed") from error

    def close(self) -> None:
        with contextlib.suppress(OSError):
            _util().release_interface(self._device, self._number)
            _util().dispose_resources(self._device)
