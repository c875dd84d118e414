"""Network Block Device exports as read-only sources.

The NBD protocol as published with its reference implementation ("The NBD protocol", sections
*Fixed newstyle negotiation* and *Transmission phase*); big-endian. Simple replies only; no TLS, no
structured replies. Nothing but NBD_CMD_READ and NBD_CMD_DISC is ever sent.
"""

from __future__ import annotations

import contextlib
import socket
import struct
from dataclasses import dataclass

from needlewright.core.errors import SourceError
from needlewright.core.sources.source import Source

MAGIC, OPTION_MAGIC, REPLY_MAGIC = b"NBDMAGIC", b"IHAVEOPT", 0x0003_E889_0455_65A9
REQUEST_MAGIC, ANSWER_MAGIC = 0x2560_9513, 0x6744_6698
FIXED_NEWSTYLE, NO_ZEROES = 1, 2
OPT_EXPORT_NAME, OPT_ABORT, OPT_LIST, OPT_GO = 1, 2, 3, 7
REP_ACK, REP_SERVER, REP_INFO, REP_ERROR, REP_UNSUPPORTED = 1, 2, 3, 1 << 31, (1 << 31) + 1
INFO_EXPORT, INFO_BLOCK_SIZE = 0, 3
CMD_READ, CMD_DISC = 0, 2
ESHUTDOWN = 108
HEAD = struct.Struct(">8s8sH")
OPTION = struct.Struct(">8sII")
OPTION_REPLY = struct.Struct(">QIII")
REQUEST = struct.Struct(">IHHQQI")
ANSWER = struct.Struct(">IIQ")
REFUSALS = {1: "an option it does not know", 2: "forbidden by its policy", 3: "an invalid request",
            4: "not supported there", 5: "it wants TLS", 6: "no export of this name",
            7: "it is shutting down", 8: "it wants block sizes"}
READ_ERRORS = {1: "not permitted", 5: "input/output error", 12: "out of memory",
               22: "invalid request", 75: "too large"}
MAX_REPLY = 1 << 16  # bytes of one option reply; names and descriptions are at most 4096
MAX_REPLIES = 1024
MAX_READ = 32 << 20
CONNECT_SECONDS = 10.0
READ_SECONDS = 120.0


@dataclass(frozen=True, slots=True)
class Address:
    """Where an export is: `host` and `port`, or `path` of a Unix socket, and its `name`."""

    name: str
    host: str = ""
    port: int = 10809
    path: str = ""
    url: str = ""


class NbdSource(Source):
    """One export. Sends nothing but reads; a lost connection is a source that is gone."""

    def __init__(self, address: Address) -> None:
        """Raises SourceError: unreachable, refused, not the protocol, empty."""
        self._address = address
        self.name = address.name or address.host or "export"
        self._cookie, self._smallest, self._largest = 0, 1, MAX_READ
        self._serving = False
        self._socket = _connect(address)
        try:
            self._size = _negotiate(self, self._socket)
        except (OSError, EOFError, struct.error) as error:
            self.close()
            reason = str(error) or "connection-ended"
            raise SourceError("nbd-protocol", path=address.url, reason=reason) from error
        except SourceError:
            self.close()
            raise
        self._serving = True
        if self._size <= 0:
            self.close()
            raise SourceError("source-empty", path=address.url)

    @property
    def size(self) -> int:
        return self._size

    def block_limits(self, smallest: int, largest: int) -> None:
        """What the server said of the lengths it serves, bytes."""
        if smallest & (smallest - 1) == 0 and 1 <= smallest <= 1 << 16:
            self._smallest = smallest
            self.sector_size = self.block_size = max(512, smallest)
        self._largest = max(self._smallest, min(largest, MAX_READ))

    def read_into(self, offset: int, target: memoryview) -> int:
        done, wanted = 0, min(len(target), max(0, self._size - offset))
        while done < wanted:
            start = offset + done
            low = start // self._smallest * self._smallest
            high = min(self._size, low + self._largest,
                       -(-(offset + wanted) // self._smallest) * self._smallest)
            block = self._read(low, high - low)
            part = block[start - low :][: wanted - done]
            target[done : done + len(part)] = part
            done += len(part)
        return done

    def _read(self, offset: int, length: int) -> memoryview:
        self._cookie += 1
        try:
            self._socket.sendall(
                REQUEST.pack(REQUEST_MAGIC, 0, CMD_READ, self._cookie, offset, length))
            magic, error, cookie = ANSWER.unpack(_receive(self._socket, ANSWER.size))
            if magic != ANSWER_MAGIC or cookie != self._cookie:
                raise EOFError("answer-unasked")
            if error == 0:
                return memoryview(_receive(self._socket, length))
        except (OSError, EOFError) as problem:
            self.close()
            raise SourceError("source-gone", path=self._address.url) from problem
        if error == ESHUTDOWN:
            raise SourceError("source-gone", path=self._address.url)
        raise SourceError("source-range", path=self._address.url, start=offset,
                          stop=offset + length, reason=READ_ERRORS.get(error, f"error {error}"))

    def close(self) -> None:
        if self._serving:
            self._serving = False
            with contextlib.suppress(OSError):
                self._socket.sendall(REQUEST.pack(REQUEST_MAGIC, 0, CMD_DISC, 0, 0, 0))
        with contextlib.suppress(OSError):
            self._socket.close()


def exports(address: Address) -> list[str]:
    """Names of what the server at `address` offers; SourceError where it does not tell."""
    link = _connect(address)
    try:
        _greet(link)
        link.sendall(OPTION.pack(OPTION_MAGIC, OPT_LIST, 0))
        names = []
        for _ in range(MAX_REPLIES):
            kind, data = _reply(link, OPT_LIST)
            if kind == REP_SERVER and len(data) >= 4:
                length = struct.unpack_from(">I", data)[0]
                names.append(data[4 : 4 + length].decode("utf-8", "replace"))
            else:
                break
        link.sendall(OPTION.pack(OPTION_MAGIC, OPT_ABORT, 0))
        return names
    except (OSError, EOFError) as error:
        raise SourceError("nbd-protocol", path=address.url, reason=str(error)) from error
    finally:
        link.close()


def _connect(address: Address) -> socket.socket:
    try:
        if address.path:
            link = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
            link.settimeout(CONNECT_SECONDS)
            try:
                link.connect(address.path)
            except OSError:
                link.close()
                raise
        else:
            link = socket.create_connection((address.host, address.port), CONNECT_SECONDS)
            link.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
    except OSError as error:
        reason = error.strerror or str(error)
        raise SourceError("nbd-unreachable", path=address.url, reason=reason) from error
    return link


def _receive(link: socket.socket, length: int) -> bytearray:
    block = bytearray(length)
    view, done = memoryview(block), 0
    while done < length:
        got = link.recv_into(view[done:])
        if got == 0:
            raise EOFError("connection-ended")
        done += got
    return block


def _greet(link: socket.socket) -> None:
    magic, option_magic, flags = HEAD.unpack(_receive(link, HEAD.size))
    if magic != MAGIC or option_magic != OPTION_MAGIC or not flags & FIXED_NEWSTYLE:
        raise EOFError("greeting-unknown")
    link.sendall(struct.pack(">I", FIXED_NEWSTYLE | (flags & NO_ZEROES)))
    link.settimeout(READ_SECONDS)


def _reply(link: socket.socket, option: int) -> tuple[int, bytes]:
    magic, answered, kind, length = OPTION_REPLY.unpack(_receive(link, OPTION_REPLY.size))
    if magic != REPLY_MAGIC or answered != option or length > MAX_REPLY:
        raise EOFError("reply-senseless")
    return kind, bytes(_receive(link, length))


def _negotiate(source: NbdSource, link: socket.socket) -> int:
    """Go for the export; returns its size in bytes."""
    address = source._address
    name = address.name.encode("utf-8")
    _greet(link)
    # Two questions: without being asked, servers need not tell their block sizes.
    data = struct.pack(">I", len(name)) + name + struct.pack(">HH", 1, INFO_BLOCK_SIZE)
    link.sendall(OPTION.pack(OPTION_MAGIC, OPT_GO, len(data)) + data)
    size = 0
    for _ in range(MAX_REPLIES):
        kind, told = _reply(link, OPT_GO)
        if kind == REP_ACK:
            return size
        if kind == REP_UNSUPPORTED:
            return _by_export_name(link, name)
        if kind & REP_ERROR:
            reason = REFUSALS.get(kind & ~REP_ERROR, f"error {kind & ~REP_ERROR}")
            raise SourceError("nbd-refused", path=address.url, reason=reason)
        if kind == REP_INFO and len(told) >= 2:
            subject = struct.unpack_from(">H", told)[0]
            if subject == INFO_EXPORT and len(told) >= 12:
                size = struct.unpack_from(">Q", told, 2)[0]
            elif subject == INFO_BLOCK_SIZE and len(told) >= 14:
                smallest, _, largest = struct.unpack_from(">III", told, 2)
                source.block_limits(smallest, largest)
    raise EOFError("replies-endless")


def _by_export_name(link: socket.socket, name: bytes) -> int:
    """The older way, for servers without NBD_OPT_GO; they end the connection to refuse."""
    link.sendall(OPTION.pack(OPTION_MAGIC, OPT_EXPORT_NAME, len(name)) + name)
    size, _ = struct.unpack(">QH", _receive(link, 10))
    return int(size)
