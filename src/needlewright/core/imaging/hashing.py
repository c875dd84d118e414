"""Hashes of an image while it is made: SHA-256 of the whole, BLAKE2b of each chunk.

Two processes hash from one ring of shared memory. Blocks that come in order are hashed as they
come; for the rest the finished image is read.
"""

from __future__ import annotations

import json
import mmap
import os
import select
from collections import deque
from collections.abc import Callable

from needlewright.core import processes
from needlewright.core.sources.blocks import blocks
from needlewright.core.sources.source import Source

SLOTS = 16
SLOT_BYTES = 1 << 20
SENT_AT_ONCE = 4


class _Lane:
    """One hashing process; `waiting`: the slots it has not answered for, oldest first."""

    def __init__(self, kind: str, fd: int, size: int, chunk_bytes: int) -> None:
        self.waiting: deque[int] = deque()
        self._unsent = 0  # requests that still lie here
        self.found: dict[str, str] = {}
        self._inbox = b""
        self._process = processes.start(
            "needlewright.core.imaging.hash_child", str(fd), str(SLOT_BYTES), kind, str(size),
            str(chunk_bytes), pass_fds=(fd,))

    def ask(self, slot: int, offset: int, length: int) -> None:
        assert self._process.stdin is not None
        self.waiting.append(slot)
        self._process.stdin.write(f"{slot} {offset} {length}\n".encode())
        self._unsent += 1
        # While it has enough to do, several go in one: each wakes it up, and us with its answer.
        if self._unsent >= SENT_AT_ONCE or len(self.waiting) - self._unsent < SENT_AT_ONCE:
            self._send()

    def _send(self) -> None:
        assert self._process.stdin is not None
        self._process.stdin.flush()
        self._unsent = 0

    def take(self, wait: bool) -> None:
        """Take the answers that are there; `wait` for one where there is none."""
        assert self._process.stdout is not None
        fd = self._process.stdout.fileno()
        if wait and self._unsent:
            self._send()
        while self.waiting and (wait or select.select([fd], [], [], 0)[0]):
            wait = False
            block = os.read(fd, 1 << 16)
            if not block:
                raise RuntimeError("a hashing process ended")
            *lines, self._inbox = (self._inbox + block).split(b"\n")
            for line in lines:
                self.found.update(json.loads(line))
                self.waiting.popleft()

    def close(self) -> None:
        assert self._process.stdin is not None and self._process.stdout is not None
        self._process.stdin.close()
        self._process.stdout.close()
        self._process.wait()


class Hashing:
    """Feed it what is read, in any order; `finish` makes what is missing from the image."""

    def __init__(self, size: int, chunk_bytes: int, chunks: dict[int, str], *,
                 from_start: bool) -> None:
        """`chunks`: known digests by number, added to; `from_start`: nothing was read before."""
        self._size, self._chunk_bytes, self.chunks = size, chunk_bytes, chunks
        self._in_order, self._reached = from_start, 0
        self._fd = os.memfd_create("needlewright-hashing")
        os.ftruncate(self._fd, SLOTS * SLOT_BYTES)
        self._memory = memoryview(mmap.mmap(self._fd, SLOTS * SLOT_BYTES))
        self._slot = 0
        self._whole = _Lane("whole", self._fd, size, chunk_bytes)
        self._parts = _Lane("chunks", self._fd, size, chunk_bytes)
        self._open = True

    def feed(self, offset: int, data: memoryview) -> None:
        """Take a block of at most SLOT_BYTES; waits where hashing is behind."""
        lanes = (self._whole, self._parts)
        for lane in lanes:
            lane.take(wait=False)
            while self._slot in lane.waiting:
                lane.take(wait=True)
        start = self._slot * SLOT_BYTES
        self._memory[start : start + len(data)] = data
        self._in_order = self._in_order and offset == self._reached
        if self._in_order:
            self._whole.ask(self._slot, offset, len(data))
            self._reached += len(data)
        for number in range(offset // self._chunk_bytes,
                            (offset + len(data) - 1) // self._chunk_bytes + 1):
            self.chunks.pop(number, None)  # whatever was known of it is about other bytes
        self._parts.ask(self._slot, offset, len(data))
        self._slot = (self._slot + 1) % SLOTS
        self._collect()

    def _collect(self) -> None:
        if self._parts.found:
            self.chunks.update((int(n), digest) for n, digest in self._parts.found.items())
            self._parts.found.clear()

    def settle(self) -> None:
        """Wait until all that was fed is hashed, and end the processes."""
        if not self._open:
            return
        self._open = False
        for lane in (self._whole, self._parts):
            while lane.waiting:
                lane.take(wait=True)
            lane.close()
        self._collect()
        os.close(self._fd)

    def finish(self, image: Source, told: Callable[[int], bool]) -> str | None:
        """SHA-256 of the whole image (hex), with every chunk's digest made; None when stopped.

        `told` is called with the bytes read again, and returns True to stop.
        """
        self.settle()
        count = -(-self._size // self._chunk_bytes)
        whole = self._whole.found.get("whole")
        if whole is not None and len(self.chunks) == count:
            return whole
        again = Hashing(self._size, self._chunk_bytes, self.chunks, from_start=True)
        at = 0
        try:
            for block in blocks(image, size=SLOT_BYTES):
                again.feed(at, memoryview(block))
                at += len(block)
                if told(at):
                    return None
        finally:
            again.settle()
        return again._whole.found["whole"]
