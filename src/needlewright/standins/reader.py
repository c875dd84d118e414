"""A card reader that serves one simulated medium over NBD.

`python -m needlewright.standins.reader IMAGE FAULTS.json SOCKET [TRUTH.json]`: serves the bytes of
IMAGE, read-only, on a Unix socket, with the faults described; what it saw goes into TRUTH. The
protocol as published with its reference implementation: fixed newstyle, NBD_OPT_GO, NBD_OPT_LIST,
simple replies. Prints one line when it is ready.
"""

from __future__ import annotations

import contextlib
import json
import os
import socket
import struct
import sys
import threading
import time
from pathlib import Path

from needlewright.standins.faults import Behaviour, Faults

OPTION_MAGIC, REPLY_MAGIC = b"IHAVEOPT", 0x0003_E889_0455_65A9
REQUEST_MAGIC, ANSWER_MAGIC = 0x2560_9513, 0x6744_6698
OPT_EXPORT_NAME, OPT_ABORT, OPT_LIST, OPT_INFO, OPT_GO = 1, 2, 3, 6, 7
REP_ACK, REP_SERVER, REP_INFO, REP_UNSUPPORTED, REP_UNKNOWN = 1, 2, 3, 0x8000_0001, 0x8000_0006
FLAGS = 1 | 2  # has flags, read-only
EIO, EINVAL = 5, 22
MAX_LENGTH = 32 << 20


class Reader:
    """Serves the medium to one client after another."""

    def __init__(self, image: Path, faults: Faults, truth: Path | None) -> None:
        self.fd = os.open(image, os.O_RDONLY)
        self.real_size = os.lseek(self.fd, 0, os.SEEK_END)
        self.size = self.real_size
        self.faults, self.truth = faults, truth
        self.behaviour = Behaviour(faults)
        self.name, self.away_until, self.left = faults.name, 0.0, False
        self.lock = threading.Lock()

    # serving

    def serve(self, path: str) -> None:
        with contextlib.suppress(FileNotFoundError):
            os.unlink(path)
        listener = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        listener.bind(path)
        listener.listen(8)
        print("ready", flush=True)
        while True:
            link, _ = listener.accept()
            if time.monotonic() < self.away_until:
                link.close()
                continue
            threading.Thread(target=self._client, args=(link,), daemon=True).start()

    def _client(self, link: socket.socket) -> None:
        with contextlib.suppress(OSError, EOFError), link:
            if self._negotiate(link):
                self._transmit(link)
        self._tell_truth()

    def _tell_truth(self) -> None:
        if self.truth is not None:
            partial = self.truth.with_suffix(f".{threading.get_ident()}")
            partial.write_text(json.dumps(self.behaviour.truth()), encoding="utf-8")
            partial.replace(self.truth)

    # negotiation

    def _negotiate(self, link: socket.socket) -> bool:
        link.sendall(b"NBDMAGIC" + OPTION_MAGIC + struct.pack(">H", 1 | 2))
        _receive(link, 4)
        while True:
            magic, option, length = struct.unpack(">8sII", _receive(link, 16))
            if magic != OPTION_MAGIC or length > 1 << 16:
                return False
            data = _receive(link, length)
            if option == OPT_ABORT:
                _reply(link, option, REP_ACK)
                return False
            if option == OPT_LIST:
                name = self.name.encode()
                _reply(link, option, REP_SERVER, struct.pack(">I", len(name)) + name)
                _reply(link, option, REP_ACK)
            elif option in (OPT_GO, OPT_INFO):
                if self._go(link, option, data) and option == OPT_GO:
                    return True
            else:
                _reply(link, option, REP_UNSUPPORTED)

    def _go(self, link: socket.socket, option: int, data: bytes) -> bool:
        length = struct.unpack_from(">I", data)[0]
        if data[4 : 4 + length].decode() != self.name:
            _reply(link, option, REP_UNKNOWN)
            return False
        _reply(link, option, REP_INFO, struct.pack(">HQH", 0, self.size, FLAGS))
        _reply(link, option, REP_INFO, struct.pack(">HIII", 3, 512, 4096, MAX_LENGTH))
        _reply(link, option, REP_ACK)
        return True

    # transmission

    def _transmit(self, link: socket.socket) -> None:
        while True:
            magic, _, command, cookie, offset, length = struct.unpack(
                ">IHHQQI", _receive(link, 28))
            if magic != REQUEST_MAGIC or command == 2:
                return
            error, data = EINVAL, b""
            if command == 0 and length <= MAX_LENGTH and offset + length <= self.size:
                if self.behaviour.hangs(offset, length):
                    link.recv(1)  # never answered; ends with the connection
                    return
                with self.lock:
                    if self._leaves():
                        return
                    error, data = self._read(offset, length)
            link.sendall(struct.pack(">IIQ", ANSWER_MAGIC, error, cookie) + data)
            if error:
                self._tell_truth()

    def _leaves(self) -> bool:
        after = self.faults.leaves_after
        if self.left or after is None or self.behaviour.reads < after:
            return False
        self.left = True
        self.away_until = time.monotonic() + self.faults.away_s / self.faults.time_scale
        self.name = self.faults.returns_as or self.name
        return True

    def _read(self, offset: int, length: int) -> tuple[int, bytes]:
        if self.behaviour.fails(offset, length):
            time.sleep(self.faults.fail_s / self.faults.time_scale)
            return EIO, b""
        spent = self.behaviour.seconds(offset, length) / self.faults.time_scale
        if spent > 0:
            time.sleep(spent)
        return 0, self._bytes(offset, length)

    def _bytes(self, offset: int, length: int) -> bytes:
        real = self.faults.wraps_at
        if real is None:
            return os.pread(self.fd, length, offset)
        pieces = []
        while length > 0:  # the address wraps round
            at = offset % real
            part = os.pread(self.fd, min(length, real - at), at)
            pieces.append(part)
            offset, length = offset + len(part), length - len(part)
        return b"".join(pieces)


def _reply(link: socket.socket, option: int, kind: int, data: bytes = b"") -> None:
    link.sendall(struct.pack(">QIII", REPLY_MAGIC, option, kind, len(data)) + data)


def _receive(link: socket.socket, length: int) -> bytes:
    block = b""
    while len(block) < length:
        got = link.recv(length - len(block))
        if not got:
            raise EOFError
        block += got
    return block


def main(arguments: list[str]) -> None:
    image, faults, path = arguments[:3]
    truth = Path(arguments[3]) if len(arguments) > 3 else None
    Reader(Path(image), Faults.load(Path(faults)), truth).serve(path)


if __name__ == "__main__":
    main(sys.argv[1:])
