"""The phone's own side of PTP over TCP (CIPA DC-005; ISO 15740; MTP 1.1)."""

from __future__ import annotations

import contextlib
import io
import socket
import struct
import threading
import time
from collections.abc import Callable

from needlewright.standins.phone.objects import Object, Shelves
from needlewright.standins.phone.state import State

(INIT_COMMAND, COMMAND_ACK, INIT_EVENT, EVENT_ACK, INIT_FAIL, REQUEST, RESPONSE, EVENT, START_DATA,
 DATA, CANCEL, END_DATA, PROBE, PROBE_ANSWER) = range(1, 15)
OK, ERROR, NOT_OPEN, NOT_SUPPORTED, INVALID, DENIED, NO_THUMB, NO_STORE, BUSY, ALREADY = (
    0x2001, 0x2002, 0x2003, 0x2005, 0x2009, 0x200F, 0x2010, 0x2013, 0x2019, 0x201E)
OPERATIONS = (0x1001, 0x1002, 0x1003, 0x1004, 0x1005, 0x1006, 0x1007, 0x1008, 0x1009, 0x100A,
              0x101B, 0x100C, 0x100D)
LATER = (0x9801, 0x9802, 0x9803, 0x9805, 0x95C1)
EVERY = 0xFFFFFFFF
PACKET, LITTLE = 1 << 20, 300_000
SENDING = 2
PROPERTIES = (0xDC01, 0xDC02, 0xDC03, 0xDC04, 0xDC07, 0xDC08, 0xDC09, 0xDC0B, 0xDC41, 0xDC44)
KINDS = {0xDC01: 6, 0xDC02: 4, 0xDC03: 4, 0xDC04: 8, 0xDC07: 0xFFFF, 0xDC08: 0xFFFF,
         0xDC09: 0xFFFF, 0xDC0B: 6, 0xDC41: 10, 0xDC44: 0xFFFF}
WIDTHS = {4: 2, 6: 4, 8: 8, 10: 16}


class Gone(Exception):
    """The connection is over."""


def text(value: str) -> bytes:
    coded = (value[:254] + "\0").encode("utf-16-le") if value else b""
    return struct.pack("B", len(coded) // 2) + coded


class PhoneServer:
    """Serves one phone to whoever connects."""

    def __init__(self, shelves: Shelves, state: State, name: str = "Reedbank F2",
                 thumbnail: Callable[[bytes], bytes] = lambda data: b"") -> None:
        self.shelves, self.state, self.name, self.thumbnail = shelves, state, name, thumbnail
        self.listener = socket.create_server(("127.0.0.1", 0))
        self.port = self.listener.getsockname()[1]
        self._clients: set[socket.socket] = set()
        state.on_change.append(self._changed)

    def serve(self) -> None:
        """Accept connections for ever."""
        while True:
            client, _ = self.listener.accept()
            client.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            self._clients.add(client)
            threading.Thread(target=self._client, args=(client,), daemon=True).start()

    def _changed(self) -> None:
        if not self.state.plugged:
            for client in list(self._clients):
                with contextlib.suppress(OSError):
                    client.shutdown(socket.SHUT_RDWR)

    def _client(self, client: socket.socket) -> None:
        try:
            if not self.state.plugged:
                return
            kind, _ = _packet(client)
            if kind == INIT_EVENT and self.state.faults.bare:
                return
            if kind == INIT_EVENT:
                _send(client, EVENT_ACK, b"")
                while True:
                    _packet(client)
            elif kind == INIT_COMMAND:
                self.state.asked = True
                if not self.state.trusted:
                    _send(client, INIT_FAIL, struct.pack("<I", 1))
                    return
                if self.state.faults.single and self.state.speaking:
                    _send(client, INIT_FAIL, struct.pack("<I", 2))
                    return
                _send(client, COMMAND_ACK, struct.pack("<I", 1) + bytes(16) + (
                    self.name + "\0").encode("utf-16-le") + struct.pack("<I", 0x10000))
                self.state.speaking += 1
                try:
                    Connection(self, client).serve()
                finally:
                    self.state.speaking -= 1
        except (Gone, OSError):
            pass
        finally:
            self._clients.discard(client)
            client.close()


class Connection:
    """One connection for operations."""

    def __init__(self, server: PhoneServer, client: socket.socket) -> None:
        self.server, self.client = server, client
        self.shelves, self.state = server.shelves, server.state
        self.session = False
        self.incoming = b""
        self.announced: Object | None = None

    def serve(self) -> None:
        while True:
            kind, body = _packet(self.client)
            if kind == PROBE:
                _send(self.client, PROBE_ANSWER, b"")
            if kind != REQUEST:
                continue
            phase, operation, number = struct.unpack_from("<IHI", body)
            self.incoming = self._taken() if phase == SENDING else b""
            values = struct.unpack_from(f"<{(len(body) - 10) // 4}I", body, 10)
            code, told = self._answered(operation, number, (*values, 0, 0, 0, 0, 0))
            stray = self.state.strays()
            self._send(RESPONSE, struct.pack(f"<HI{len(told)}I", code, number + stray, *told))

    def _answered(self, operation: int, number: int,
                  values: tuple[int, ...]) -> tuple[int, tuple[int, ...]]:
        plain = self.state.faults.plain
        if operation == 0x1001 and (self.session or not self.state.faults.bare):
            return self._data(number, self._device())
        if operation == 0x1002 and self.state.busy():
            return BUSY, ()
        if operation == 0x1002:
            code, self.session = (ALREADY if self.session else OK), True
            return code, ()
        if not self.session:
            return NOT_OPEN, ()
        if operation == 0x1003:
            self.session = False
            return OK, ()
        if operation not in OPERATIONS and (plain or operation not in LATER):
            return NOT_SUPPORTED, ()
        if operation == 0x1004:
            stores = list(self.shelves.stores) if self.state.open else []
            return self._data(number, struct.pack(f"<{1 + len(stores)}I", len(stores), *stores))
        if not self.state.open:
            return (NO_STORE if self.state.trusted else DENIED), ()
        return self._about(operation, number, values)

    def _about(self, operation: int, number: int,
               values: tuple[int, ...]) -> tuple[int, tuple[int, ...]]:
        if operation == 0x1005:
            return self._data(number, self._store(values[0]))
        if operation in (0x1006, 0x1007):
            shallow = self.state.faults.shallow and values[2] == 0
            handles = self.shelves.within(values[0], EVERY if shallow else values[2])
            if operation == 0x1006:
                return OK, (len(handles),)
            return self._data(number, struct.pack(f"<{1 + len(handles)}I", len(handles), *handles))
        if operation == 0x100C:
            return self._announced(values)
        if operation == 0x100D:
            return self._received()
        if operation == 0x9801:
            return self._data(number, struct.pack(
                f"<I{len(PROPERTIES)}H", len(PROPERTIES), *PROPERTIES))
        if operation == 0x9802:
            kind = KINDS.get(values[0], 6)
            blank = b"\0" if kind == 0xFFFF else bytes(WIDTHS[kind])
            return self._data(number, struct.pack("<HHB", values[0], kind, 0) + blank + bytes(5))
        if operation == 0x9805:
            return self._data(number, self._listed(values))
        one = self.shelves.objects.get(values[0])
        if one is None:
            return INVALID, ()
        if operation == 0x1008:
            if one.name in self.state.faults.unlisted:
                return DENIED, ()
            return self._data(number, self._info(one))
        if operation == 0x9803:
            return self._data(number, self._value(one, values[1]))
        if one.name in self.state.faults.refuses or one.is_folder:
            return DENIED, ()
        if operation == 0x100A:
            small = self.server.thumbnail(one.read(0, one.size)) if one.size < 1 << 26 else b""
            return self._data(number, small) if small else (NO_THUMB, ())
        begin, length = {0x1009: (0, one.size), 0x101B: (values[1], values[2]),
                         0x95C1: (values[1] | values[2] << 32, values[3])}[operation]
        if operation != 0x1009 and self.state.faults.ranges == "refuses":
            return NOT_SUPPORTED, ()
        if operation != 0x1009 and self.state.faults.ranges == "breaks":
            self.client.shutdown(socket.SHUT_RDWR)
            raise Gone
        if self.state.faults.shallow and operation != 0x1009:
            length = min(length, LITTLE)
        return self._bytes(number, one, begin, max(0, min(length, one.size - begin)))

    # datasets

    def _device(self) -> bytes:
        plain = self.state.faults.plain
        operations = OPERATIONS if plain else (*OPERATIONS, *LATER)
        formats = (0x3000, 0x3001, 0x3801, 0x380B, 0xB982)
        return b"".join((
            struct.pack("<HIH", 100, 0 if plain else 6, 100),
            text("" if plain else "microsoft.com: 1.0; android.com: 1.0;"), struct.pack("<H", 0),
            struct.pack(f"<I{len(operations)}H", len(operations), *operations),
            struct.pack("<I2H", 2, 0x4004, 0x4005), struct.pack("<I", 0), struct.pack("<I", 0),
            struct.pack(f"<I{len(formats)}H", len(formats), *formats),
            text("Fernbeck"), text(self.server.name), text("1.0"), text("FB0042")))

    def _store(self, number: int) -> bytes:
        label, kind = self.shelves.stores.get(number, ("", 0))
        sizes = struct.pack("<HHHQQI", kind, 2, 0, 64 << 30, 20 << 30, EVERY)
        return sizes + text(label) + text("")

    def _info(self, one: Object) -> bytes:
        return struct.pack(
            "<IHHIHIIIIIIIHII", one.store, one.form, 0, min(one.size, EVERY),
            0x3801 if one.form == 0x3801 else 0, 0, 0, 0, 0, 0, 0, one.parent,
            1 if one.is_folder else 0, 0, 0) + text(one.name) + text(one.created) + text(
                one.modified) + text("")

    def _value(self, one: Object, code: int) -> bytes:
        value: int | str = {0xDC01: one.store, 0xDC02: one.form, 0xDC03: 0, 0xDC04: one.size,
                 0xDC07: one.name, 0xDC08: one.created, 0xDC09: one.modified, 0xDC0B: one.parent,
                 0xDC41: one.handle, 0xDC44: one.name}.get(code, 0)  # type: ignore[assignment]
        if isinstance(value, str):
            return text(value)
        return value.to_bytes(WIDTHS[KINDS.get(code, 6)], "little")

    def _listed(self, values: tuple[int, ...]) -> bytes:
        handle, _, wanted, _, depth = values[:5]
        if handle in (0, EVERY) and depth in (0, EVERY):
            every = list(self.shelves.objects.values())
            self.state.listings += 1
        else:
            every = [o for o in self.shelves.objects.values()
                     if o.handle == handle or (depth and o.parent == handle)]
        codes = PROPERTIES if wanted == EVERY else (wanted,)
        hidden = self.state.faults.unlisted
        out, count = io.BytesIO(), 0
        for one in every:
            if one.name in hidden:
                continue
            for code in codes:
                out.write(struct.pack("<IHH", one.handle, code, KINDS.get(code, 6)))
                out.write(self._value(one, code))
                count += 1
        return struct.pack("<I", count) + out.getvalue()

    # new objects

    def _taken(self) -> bytes:
        """The data that follows a request."""
        data = bytearray()
        while True:
            kind, body = _packet(self.client)
            if kind in (DATA, END_DATA):
                data += body[4:]
            if kind == END_DATA:
                return bytes(data)

    def _announced(self, values: tuple[int, ...]) -> tuple[int, tuple[int, ...]]:
        form = int.from_bytes(self.incoming[4:6], "little")
        size = int.from_bytes(self.incoming[8:12], "little")
        count = self.incoming[52]
        name = self.incoming[53 : 53 + 2 * count].decode("utf-16-le").rstrip("\0")
        if name in self.state.faults.refuses:
            return DENIED, ()
        parent = 0 if values[1] == EVERY else values[1]
        date = time.strftime("%Y%m%dT%H%M%S", time.gmtime())
        made = Object(self.shelves.next_handle(), values[0], parent, name, form, size, date, date)
        if made.is_folder:
            self.shelves.add(made)
        else:
            self.announced = made
        return OK, (values[0], parent, made.handle)

    def _received(self) -> tuple[int, tuple[int, ...]]:
        made, self.announced = self.announced, None
        if made is None:
            return ERROR, ()
        made.data, made.size = self.incoming, len(self.incoming)
        self.shelves.add(made)
        return OK, ()

    # sending

    def _data(self, number: int, data: bytes) -> tuple[int, tuple[int, ...]]:
        self._send(START_DATA, struct.pack("<IQ", number, len(data)))
        for at in range(0, len(data), PACKET):
            self._send(DATA, struct.pack("<I", number), data[at : at + PACKET])
        self._send(END_DATA, struct.pack("<I", number))
        return OK, ()

    def _bytes(self, number: int, one: Object, begin: int,
               length: int) -> tuple[int, tuple[int, ...]]:
        self._send(START_DATA, struct.pack("<IQ", number, length))
        short = one.name in self.state.faults.short
        at, stop = begin, begin + (length * 2 // 3 if short else length)
        while at < stop:
            if self.state.faults.drips:
                time.sleep(2)
            block = one.read(at, min(64 if self.state.faults.drips else PACKET, stop - at))
            self._send(DATA, struct.pack("<I", number), block)
            at += len(block)
            if not self.state.open:
                self._send(END_DATA, struct.pack("<I", number))
                return NO_STORE, ()
        self._send(END_DATA, struct.pack("<I", number))
        return OK, (length,)

    def _send(self, kind: int, body: bytes, more: bytes = b"") -> None:
        packet = struct.pack("<II", 8 + len(body) + len(more), kind) + body
        goes = self.state.goes(len(packet) + len(more))
        if goes < len(packet) + len(more):
            self.client.sendall((packet + more)[:goes])
            self.client.shutdown(socket.SHUT_RDWR)
            raise Gone
        self.client.sendall(packet + more if len(more) < PACKET // 8 else packet)
        if len(more) >= PACKET // 8:
            self.client.sendall(more)


def _send(client: socket.socket, kind: int, body: bytes) -> None:
    client.sendall(struct.pack("<II", 8 + len(body), kind) + body)


def _packet(client: socket.socket) -> tuple[int, bytes]:
    length, kind = struct.unpack("<II", _exact(client, 8))
    return kind, _exact(client, min(length - 8, 1 << 24))


def _exact(client: socket.socket, length: int) -> bytes:
    data = bytearray()
    while len(data) < length:
        block = client.recv(length - len(data))
        if not block:
            raise Gone
        data += block
    return bytes(data)
