"""One lane of hashing, in a process of its own: hashing keeps a whole core busy, and threads of one
interpreter would stand in each other's way.

`python -m needlewright.core.imaging.hash_child FD SLOT_BYTES whole|chunks SIZE CHUNK_BYTES`: blocks
lie in the shared memory file FD. Requests are lines `slot offset length` on standard input; each is
answered with a line of JSON, an object of what is finished by it: chunk numbers and digests (hex),
or under "whole" the digest of everything.
"""

from __future__ import annotations

import hashlib
import json
import mmap
import os
import sys
from typing import Protocol

PIPE_BYTES = 1 << 16


class Digest(Protocol):
    """What hashlib's hashes have in common."""

    def update(self, data: bytes | memoryview, /) -> None: ...

    def hexdigest(self) -> str: ...


def chunk_hash() -> Digest:
    """A fresh BLAKE2b of 64 bytes: OpenSSL's where there is one, which is a fifth faster."""
    try:
        return hashlib.new("blake2b512")
    except ValueError:
        return hashlib.blake2b()


class Whole:
    """SHA-256 of all bytes from the first on, as long as they come in order."""

    def __init__(self, size: int) -> None:
        self._size, self._reached, self._digest = size, 0, hashlib.sha256()

    def feed(self, offset: int, block: memoryview) -> dict[str, str]:
        if offset == self._reached:
            self._digest.update(block)
            self._reached += len(block)
        return {"whole": self._digest.hexdigest()} if self._reached == self._size else {}


class Chunks:
    """BLAKE2b of each chunk whose bytes came in order."""

    def __init__(self, size: int, chunk_bytes: int) -> None:
        self._size, self._chunk_bytes = size, chunk_bytes
        self._number, self._reached = -1, 0
        self._digest = chunk_hash()

    def feed(self, offset: int, block: memoryview) -> dict[str, str]:
        done: dict[str, str] = {}
        while block:
            number = offset // self._chunk_bytes
            stop = min((number + 1) * self._chunk_bytes, self._size)
            part = block[: stop - offset]
            if offset == number * self._chunk_bytes:
                self._number, self._reached = number, offset
                self._digest = chunk_hash()
            if number == self._number and offset == self._reached:
                self._digest.update(part)
                self._reached += len(part)
                if self._reached == stop:
                    done[str(number)] = self._digest.hexdigest()
            else:
                self._number = -1
            offset, block = offset + len(part), block[len(part):]
        return done


def main(fd: int, slot_bytes: int, kind: str, size: int, chunk_bytes: int) -> None:
    """Hash until standard input ends."""
    memory = memoryview(mmap.mmap(fd, 0))
    lane = Whole(size) if kind == "whole" else Chunks(size, chunk_bytes)
    begun = b""  # of a line whose end has not come yet
    while asked := os.read(0, PIPE_BYTES):
        *lines, begun = (begun + asked).split(b"\n")
        for line in lines:
            slot, offset, length = (int(word) for word in line.split())
            start = slot * slot_bytes
            done = lane.feed(offset, memory[start : start + length])
            os.write(1, json.dumps(done).encode() + b"\n" if done else b"{}\n")


if __name__ == "__main__":
    main(int(sys.argv[1]), int(sys.argv[2]), sys.argv[3], int(sys.argv[4]), int(sys.argv[5]))
