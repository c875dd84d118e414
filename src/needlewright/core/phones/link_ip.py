"""PTP over TCP (CIPA DC-005, 'PTP-IP'): one connection for operations and data, one for events."""

from __future__ import annotations

import contextlib
import socket
import struct
import time
import uuid
from collections.abc import Sequence

from needlewright.core.phones import codes
from needlewright.core.phones.link import Answer, Link, Lost, Outgoing, Take, Unwelcome

PORT = 15_740
(INIT_COMMAND, COMMAND_ACK, INIT_EVENT, EVENT_ACK, INIT_FAIL, REQUEST, RESPONSE, EVENT, START_DATA,
 DATA, CANCEL, END_DATA, PROBE, PROBE_ANSWER) = range(1, 15)
VERSION = 0x0001_0000
FAIL_BUSY = 2  # why a greeting is turned down (section 2.3.5)
NAME = "Needlewright"
WITHOUT_DATA, SENDING = 1, 2
MOST_PACKET = 1 << 28
BLOCK = 1 << 20
CALL_SECONDS = 60.0  # cameras may take long to look through a full card
LEAST_RATE = 50_000  # bytes a second, under which a transfer is given up
SILENT_SECONDS, CONNECT_SECONDS = 30.0, 5.0
BUSY_SECONDS, BUSY_PAUSE = 2.0, 0.25
UNSTATED = frozenset(((1 << 64) - 1, (1 << 32) - 1))
#: This computer, as devices remember it.
OURSELVES = uuid.uuid5(uuid.NAMESPACE_DNS, "Needlewright").bytes


class IpLink(Link):
    """A connection to `host`. Raises Lost where nobody is there, Unwelcome where it is refused."""

    def __init__(self, host: str, port: int = PORT, seconds: float = SILENT_SECONDS) -> None:
        self._silent = seconds
        self._event: socket.socket | None = None
        until = time.monotonic() + BUSY_SECONDS
        while True:
            self._command: socket.socket = self._connect(host, port)
            try:
                self._greet(host, port)
                return
            except Lost as lost:
                self.close()
                if lost.why != "busy" or time.monotonic() > until:
                    raise
            except BaseException:
                self.close()
                raise
            time.sleep(BUSY_PAUSE)  # it may not have noticed yet that the one before has gone

    def _connect(self, host: str, port: int) -> socket.socket:
        try:
            made = socket.create_connection((host, port), timeout=CONNECT_SECONDS)
        except OSError as error:
            raise Lost("unseen") from error
        made.settimeout(self._silent)
        made.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        return made

    def _greet(self, host: str, port: int) -> None:
        name = (NAME + "\0").encode("utf-16-le")
        self._send(self._command, INIT_COMMAND, OURSELVES + name + struct.pack("<I", VERSION))
        kind, body = self._whole(self._command)
        if kind == INIT_FAIL:
            if int.from_bytes(body[:4], "little") == FAIL_BUSY:
                raise Lost("busy")
            raise Unwelcome
        if kind != COMMAND_ACK or len(body) < 4:
            raise Lost("no-ptp")
        try:
            self._event = self._connect(host, port)
            self._send(self._event, INIT_EVENT, body[:4])
            kind, _ = self._whole(self._event)
        except Lost:  # it has no use for a connection for events
            if self._event is not None:
                self._event.close()
            self._event = None
            return
        if kind == INIT_FAIL:
            raise Unwelcome
        if kind != EVENT_ACK:
            raise Lost("no-ptp")

    def run(self, operation: int, transaction: int, values: Sequence[int], take: Take,
            data: Outgoing | None = None) -> Answer:
        self._drain_events()
        phase = WITHOUT_DATA if data is None else SENDING
        self._send(self._command, REQUEST, struct.pack(
            f"<IHI{len(values)}I", phase, operation, transaction, *values))
        if data is not None:
            self._send(self._command, START_DATA, struct.pack("<IQ", transaction, data.size))
            for part in data.parts(BLOCK):
                self._send(self._command, DATA, struct.pack("<I", transaction), part)
            self._send(self._command, END_DATA, struct.pack("<I", transaction))
        return self._answer(transaction, take)

    def _answer(self, transaction: int, take: Take) -> Answer:
        begun, got, stated, ended = time.monotonic(), 0, 0, True
        block = memoryview(bytearray(BLOCK))
        while True:
            kind, length = self._head(self._command)
            if kind in (DATA, END_DATA):
                if ended or length < 4:
                    raise Lost("out-of-turn")
                self._same(transaction, self._exact(self._command, 4))
                left = length - 4
                while left:
                    part = block[: min(left, BLOCK)]
                    self._into(self._command, part)
                    take(part)
                    left -= len(part)
                    got += len(part)
                    self._in_time(begun, got)
                ended = kind == END_DATA
                continue
            body = self._exact(self._command, length)
            self._in_time(begun, got)
            if kind == START_DATA and len(body) >= 8 and ended and not stated:
                self._same(transaction, body[:4])
                stated, ended = int.from_bytes(body[4:12], "little"), False
            elif kind == RESPONSE and len(body) >= 6:
                self._same(transaction, body[2:6])
                whole = got == stated or stated in UNSTATED
                # A device that is locked in the midst of an object says so behind what it sent.
                refused = int.from_bytes(body[:2], "little") != codes.OK and got < stated
                if (stated or got) and not (ended and (whole or refused)):
                    raise Lost("wrong-length")
                values = struct.unpack_from(f"<{(len(body) - 6) // 4}I", body, 6)
                return Answer(int.from_bytes(body[:2], "little"), values)
            elif kind == PROBE:
                self._send(self._command, PROBE_ANSWER, b"")
            elif kind != EVENT:
                raise Lost("out-of-turn")

    @staticmethod
    def _same(transaction: int, stated: bytes) -> None:
        if int.from_bytes(stated, "little") != transaction:
            raise Lost("another-answer")

    @staticmethod
    def _in_time(begun: float, got: int) -> None:
        if time.monotonic() - begun > CALL_SECONDS + got / LEAST_RATE:
            raise Lost("too-slow")

    def _drain_events(self) -> None:
        """Take what has come in on the connection for events; answers probes, and no more."""
        event = self._event
        if event is None:
            return
        for _ in range(256):
            event.setblocking(False)
            try:
                if not event.recv(1, socket.MSG_PEEK):
                    raise Lost("closed")
            except BlockingIOError:
                return
            except OSError as error:
                raise Lost("closed") from error
            finally:
                event.settimeout(self._silent)
            kind, _ = self._whole(event)
            if kind == PROBE:
                self._send(event, PROBE_ANSWER, b"")

    # packets: length and kind, 32 bits each, then the body

    def _send(self, to: socket.socket, kind: int, body: bytes, more: bytes = b"") -> None:
        try:
            to.sendall(struct.pack("<II", 8 + len(body) + len(more), kind) + body + more)
        except OSError as error:
            raise Lost("closed") from error

    def _head(self, of: socket.socket) -> tuple[int, int]:
        length, kind = struct.unpack("<II", self._exact(of, 8))
        if not 8 <= length <= MOST_PACKET:
            raise Lost("no-ptp")
        return kind, length - 8

    def _whole(self, of: socket.socket) -> tuple[int, bytes]:
        kind, length = self._head(of)
        if length > BLOCK:
            raise Lost("no-ptp")
        return kind, self._exact(of, length)

    def _exact(self, of: socket.socket, length: int) -> bytes:
        if length > BLOCK:
            raise Lost("no-ptp")
        room = bytearray(length)
        self._into(of, memoryview(room))
        return bytes(room)

    @staticmethod
    def _into(of: socket.socket, target: memoryview) -> None:
        begun, done = time.monotonic(), 0
        try:
            while done < len(target):
                got = of.recv_into(target[done:])
                if not got:
                    raise Lost("closed")
                done += got
                IpLink._in_time(begun, done)
        except TimeoutError as error:
            raise Lost("silent") from error
        except OSError as error:
            raise Lost("closed") from error

    def close(self) -> None:
        for one in (self._command, self._event):
            if one is not None:
                with contextlib.suppress(OSError):
                    one.close()
