"""Hashes of an image while it is made: SHA-256 of the whole, BLAKE2b of each chunk.

Two threads, since hashing is slower than reading; hashlib lets go of the interpreter for large
blocks. Blocks that come in order are hashed as they come; for the rest the finished image is read.
"""

from __future__ import annotations

import hashlib
import queue
import threading
from collections.abc import Callable

from needlewright.core.sources.source import Source

WAITING_BLOCKS = 8  # of at most a mebibyte, for each thread
READ_BYTES = 1 << 20
DIGEST_BYTES = 32


class _Whole:
    """SHA-256 of all bytes from the first on, as long as they come in order."""

    def __init__(self) -> None:
        self.reached, self._digest, self.in_order = 0, hashlib.sha256(), True

    def feed(self, offset: int, block: bytes) -> None:
        if offset != self.reached:
            self.in_order = False
        elif self.in_order:
            self._digest.update(block)
            self.reached += len(block)

    def hexdigest(self) -> str:
        return self._digest.hexdigest()


class _Chunks:
    """BLAKE2b of each chunk whose bytes came in order."""

    def __init__(self, size: int, chunk_bytes: int, done: dict[int, str]) -> None:
        self._size, self._chunk_bytes, self.done = size, chunk_bytes, done
        self._number, self._reached, self._digest = -1, 0, hashlib.blake2b()

    def feed(self, offset: int, block: bytes) -> None:
        view = memoryview(block)
        while view:
            number = offset // self._chunk_bytes
            stop = min((number + 1) * self._chunk_bytes, self._size)
            part = view[: stop - offset]
            if offset == number * self._chunk_bytes:
                self._number, self._reached = number, offset
                self._digest = hashlib.blake2b(digest_size=DIGEST_BYTES)
                self.done.pop(number, None)
            if number == self._number and offset == self._reached:
                self._digest.update(part)
                self._reached += len(part)
                if self._reached == stop:
                    self.done[number] = self._digest.hexdigest()
            else:
                self.done.pop(number, None)
                self._number = -1
            offset, view = offset + len(part), view[len(part):]


class Hashing:
    """Feed it what is read, in any order; `finish` makes what is missing from the image."""

    def __init__(self, size: int, chunk_bytes: int, chunks: dict[int, str], *,
                 from_start: bool) -> None:
        """`chunks`: known digests by number, added to; `from_start`: nothing was read before."""
        self._size, self._chunk_bytes, self.chunks = size, chunk_bytes, chunks
        self._whole = _Whole()
        self._whole.in_order = from_start
        self._parts = _Chunks(size, chunk_bytes, chunks)
        self._lanes: list[tuple[queue.Queue[tuple[int, bytes] | None], threading.Thread]] = []
        for feed in (self._whole.feed, self._parts.feed):
            lane: queue.Queue[tuple[int, bytes] | None] = queue.Queue(WAITING_BLOCKS)
            thread = threading.Thread(target=self._run, args=(lane, feed), daemon=True)
            thread.start()
            self._lanes.append((lane, thread))

    @staticmethod
    def _run(lane: queue.Queue[tuple[int, bytes] | None],
             feed: Callable[[int, bytes], None]) -> None:
        while (item := lane.get()) is not None:
            feed(*item)

    def feed(self, offset: int, data: memoryview) -> None:
        """Take a block; waits where hashing is behind."""
        block = bytes(data)
        if self._whole.in_order:
            self._lanes[0][0].put((offset, block))
        self._lanes[1][0].put((offset, block))

    def settle(self) -> None:
        """Wait until all that was fed is hashed, and end the threads."""
        for lane, thread in self._lanes:
            lane.put(None)
            thread.join()
        self._lanes = []

    def finish(self, image: Source, told: Callable[[int], bool]) -> str | None:
        """SHA-256 of the whole image (hex), with every chunk's digest made; None when stopped.

        `told` is called with the bytes read again, and returns True to stop.
        """
        self.settle()
        count = -(-self._size // self._chunk_bytes)
        missing = [n for n in range(count) if n not in self.chunks]
        whole_needed = not (self._whole.in_order and self._whole.reached == self._size)
        if not whole_needed:
            return self._whole.hexdigest() if self._fill(image, missing, told) else None
        again = Hashing(self._size, self._chunk_bytes, self.chunks, from_start=True)
        block = memoryview(bytearray(READ_BYTES))
        at = 0
        while got := image.read_into(at, block):
            again.feed(at, block[:got])
            at += got
            if told(at):
                again.settle()
                return None
        again.settle()
        return again._whole.hexdigest()

    def _fill(self, image: Source, missing: list[int], told: Callable[[int], bool]) -> bool:
        done = 0
        for number in missing:
            start = number * self._chunk_bytes
            stop = min(start + self._chunk_bytes, self._size)
            while start < stop:
                block = image.read_at(start, min(READ_BYTES, stop - start))
                self._parts.feed(start, block)
                start, done = start + len(block), done + len(block)
                if told(done):
                    return False
        return True
