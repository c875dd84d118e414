"""The isolated decoder: a process that decodes one file after another and may die of any.

Started as a module with the number of the process it works for; it ends with that one. First it
tells, as `missing`, what the kernel could not take away from it (see `confine`). One request a line
of JSON on standard input: `path`, `extents` ([[offset, length], ...], bytes), `payload` (so many
bytes follow) or `served` (so many bytes, which it asks for piece by piece), `format` (as in
`Format.decoder`), `task` (see `Task`), `preview` ([start,
stop] in the file), `inset` (show that as well), `strip` (ten frames of a clip), `side` (pixels of
what is shown), `turn` (EXIF orientation), `seconds`, `until`. Answers are lines of JSON: `alive`
now and then from long work; `want` (offset, length) where bytes are asked for, which come behind
their count in four bytes; and at last one whose `blobs` says how many bytes of JPEG follow, one
number a picture.

Imports neither NumPy nor numba unless a file needs a decoder that does: each worker would carry
their memory.
"""

from __future__ import annotations

import contextlib
import io
import json
import os
import resource
import sys
import time
import warnings
from collections.abc import Callable
from typing import Any, BinaryIO

from PIL import Image, PngImagePlugin

from needlewright.core.checks import worker_pictures as pictures
from needlewright.core.checks.confine import confine
from needlewright.core.decoders import PLAYED, Decoder, Task
from needlewright.core.processes import end_with_parent

MEMORY_LIMIT = 1 << 30  # bytes of address space
LIBRARIES = 1 << 29  # what the libraries of clips and raw pictures take of it by themselves
MAX_PIXELS = 180_000_000  # at four bytes a pixel this stays within the limit
MAX_FILE_BYTES = 1 << 28
SERVED_BYTES = 1 << 20  # asked for at once
BLOCK_BYTES = 4096  # what most media fail by
MOST_LOST = 1 << 20  # bytes of a file that cannot be read and for which zeros stand
UNREADABLE = 0xFFFF_FFFF
NICENESS = 12
ALIVE_SECONDS = 1.0
PictureDecoder = Callable[[bytes, dict[str, Any]], tuple[dict[str, Any], list[bytes]]]
PICTURES: dict[str, PictureDecoder] = {
    Decoder.RAW: pictures.decode_raw, Decoder.JXL: pictures.decode_jxl,
    Decoder.DATABASE: pictures.decode_database,
}


def _limit() -> list[str]:
    """Bound this process; returns what the kernel could not take away."""
    os.nice(NICENESS)  # whoever looks at the window goes first
    if hasattr(os, "SCHED_BATCH"):  # ... and is not interrupted when a picture comes in
        with contextlib.suppress(OSError):
            os.sched_setscheduler(0, os.SCHED_BATCH, os.sched_param(0))
    room = MEMORY_LIMIT + LIBRARIES
    resource.setrlimit(resource.RLIMIT_AS, (room, room))
    sys.dont_write_bytecode = True
    Image.MAX_IMAGE_PIXELS = MAX_PIXELS
    PngImagePlugin.MAX_TEXT_MEMORY = 1 << 22
    warnings.simplefilter("ignore")
    warnings.simplefilter("error", Image.DecompressionBombWarning)
    Image.preinit()
    return confine()


class _Addressed(io.RawIOBase):
    """A file of `size` bytes that is read from where it was last left."""

    def __init__(self, size: int) -> None:
        super().__init__()
        self._size, self._at = size, 0

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def seek(self, offset: int, whence: int = 0) -> int:
        base = {0: 0, 1: self._at, 2: self._size}[whence]
        self._at = max(0, base + offset)
        return self._at

    def tell(self) -> int:
        return self._at


class ExtentFile(_Addressed):
    """The extents of a file, read one behind another from where they lie; None is a hole."""

    def __init__(self, path: str, extents: list[tuple[int | None, int]]) -> None:
        super().__init__(sum(length for _, length in extents))
        self._fd = os.open(path, os.O_RDONLY)
        self._extents = extents
        self._lost = 0  # bytes that could not be read
        self.unread = False  # whether zeros stand for bytes that could not be read

    def read(self, size: int = -1) -> bytes:
        wanted = self._size - self._at if size is None or size < 0 else size
        pieces = []
        start = 0
        for offset, length in self._extents:
            inside = self._at - start
            if wanted > 0 and 0 <= inside < length:
                room = min(wanted, length - inside)
                block = bytes(room) if offset is None else self._pread(room, offset + inside)
                pieces.append(block)
                self._at += len(block)
                wanted -= len(block)
                if len(block) < min(wanted, length - inside):
                    break
            start += length
        return b"".join(pieces)

    def _pread(self, size: int, offset: int) -> bytes:
        """Bytes of the file, zeros where the medium gives none: a picture may be shown all the
        same."""
        try:
            return os.pread(self._fd, size, offset)
        except OSError:
            self.unread = True
        pieces = []
        for at in range(offset, offset + size, BLOCK_BYTES):
            wanted = min(BLOCK_BYTES, offset + size - at)
            try:
                pieces.append(os.pread(self._fd, wanted, at))
            except OSError:
                self._lost += wanted
                if self._lost > MOST_LOST:  # a dying medium is not asked for each of its blocks
                    raise
                pieces.append(bytes(wanted))
        return b"".join(pieces)

    def readinto(self, target: Any) -> int:
        block = self.read(len(target))
        target[: len(block)] = block
        return len(block)

    def close(self) -> None:
        if not self.closed:
            os.close(self._fd)
        super().close()


class ServedFile(_Addressed):
    """A file whose bytes only the parent can read, asked for piece by piece."""

    def __init__(self, size: int, stdin: BinaryIO, stdout: BinaryIO) -> None:
        super().__init__(size)
        self._stdin, self._stdout = stdin, stdout

    def read(self, size: int = -1) -> bytes:
        left = max(0, self._size - self._at)
        wanted = left if size is None or size < 0 else min(size, left)
        pieces = []
        while wanted > 0:
            length = min(wanted, SERVED_BYTES)
            self._stdout.write(json.dumps({"want": [self._at, length]}).encode() + b"\n")
            self._stdout.flush()
            count = int.from_bytes(self._stdin.read(4), "little")
            if count == UNREADABLE:
                raise OSError("source-unreadable")
            block = self._stdin.read(count)
            if not block:
                break
            pieces.append(block)
            self._at += len(block)
            wanted -= len(block)
        return b"".join(pieces)

    def readinto(self, target: Any) -> int:
        block = self.read(len(target))
        target[: len(block)] = block
        return len(block)


def _opened(request: dict[str, Any], stdin: BinaryIO, stdout: BinaryIO) -> io.RawIOBase:
    if "served" in request:
        return ServedFile(int(request["served"]), stdin, stdout)
    return ExtentFile(request["path"], request["extents"])


def _read(request: dict[str, Any], stdin: BinaryIO, stdout: BinaryIO) -> tuple[bytes, bool]:
    """(all bytes of the file, whether some could not be read)."""
    if "payload" in request:
        return stdin.read(int(request["payload"])), False
    total = int(request.get("served", 0)) or sum(length for _, length in request["extents"])
    if total > MAX_FILE_BYTES:
        raise ValueError("file too large to decode")
    with _opened(request, stdin, stdout) as file:
        data = file.read()
        while len(data) < total:
            block = file.read(total - len(data))
            if not block:
                raise ValueError("the source ended early")
            data += block
    return data, _has_unread(file)


def _has_unread(file: io.IOBase) -> bool:
    return isinstance(file, ExtentFile) and file.unread


def _clip(request: dict[str, Any], stdin: BinaryIO, stdout: BinaryIO,
          alive: Callable[[], None]) -> tuple[dict[str, Any], list[bytes]]:
    from needlewright.core.checks import worker_clips as clips

    source: io.RawIOBase | io.BytesIO
    if "payload" in request:
        source = io.BytesIO(stdin.read(int(request["payload"])))
    else:
        source = _opened(request, stdin, stdout)
    task = {Task.LOOK: clips.look, Task.FRAMES: clips.every_frame, Task.STILL: clips.still,
            Task.STRETCH: clips.stretch}[Task(request["task"])]
    with source:
        answer, blobs = task(source, request, alive)  # type: ignore[arg-type]
    return _told(answer, _has_unread(source)), blobs


def _told(answer: dict[str, Any], unread: bool) -> dict[str, Any]:
    """`answer`, never that of a sound file where some of its bytes could not be read."""
    if unread and answer.get("ok"):
        answer |= {"ok": False, "error": "unreadable", "text": "source-unreadable"}
    return answer


def _picture_decoder(name: str) -> PictureDecoder:
    if name == Decoder.HEIF:  # not before one comes: FFmpeg's libraries take memory
        from needlewright.core.checks.worker_heic import decode_heif

        return decode_heif
    return PICTURES.get(name, pictures.decode_picture)


class _Pulse:
    """Tells now and then that long work goes on."""

    def __init__(self, stdout: BinaryIO) -> None:
        self._stdout, self._told = stdout, time.monotonic()

    def __call__(self) -> None:
        now = time.monotonic()
        if now - self._told > ALIVE_SECONDS:
            self._told = now
            self._stdout.write(b'{"alive": 1}\n')
            self._stdout.flush()


def main() -> None:
    """Answer requests until standard input ends."""
    stdin, stdout = sys.stdin.buffer, sys.stdout.buffer
    end_with_parent(int(sys.argv[1]))
    stdout.write(json.dumps({"missing": _limit()}).encode() + b"\n")
    stdout.flush()
    while line := stdin.readline():
        request = json.loads(line)
        try:
            if request["format"] in PLAYED:
                answer, blobs = _clip(request, stdin, stdout, _Pulse(stdout))
            else:
                data, unread = _read(request, stdin, stdout)
                answer, blobs = _picture_decoder(request["format"])(data, request)
                answer = _told(answer, unread)
        except (MemoryError, OSError, ValueError) as error:
            answer, blobs = {"ok": False, "error": "unreadable", "text": str(error)[:200]}, []
        answer["blobs"] = [len(blob) for blob in blobs]
        stdout.write(json.dumps(answer).encode() + b"\n" + b"".join(blobs))
        stdout.flush()


if __name__ == "__main__":
    main()
