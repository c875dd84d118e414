"""Reads what was delivered back from the medium and compares it, beside the writing.

What was only just written stands in the kernel's memory. A batch of files is therefore brought to
the medium first and dropped from memory, and then read; the next batch is written meanwhile.
"""

from __future__ import annotations

import ctypes
import hashlib
import os
import queue
import threading
from pathlib import Path

from needlewright.core.errors import DeliveryError
from needlewright.core.stopping import StopSignal

BATCH_BYTES = 64 << 20
BATCH_FILES = 512
READ_BYTES = 1 << 20
_libc = ctypes.CDLL(None, use_errno=True)


class ReadBack:
    """A thread that compares files with their hashes. `add` each, `close`, then wait for `ended`;
    `check` raises what went wrong, at any time."""

    def __init__(self, stop: StopSignal) -> None:
        self.done = 0  # bytes compared
        self._stop = stop
        self._given_up = False
        self._error: Exception | None = None
        self._queue: queue.SimpleQueue[tuple[Path, str, str] | None] = queue.SimpleQueue()
        self._thread = threading.Thread(target=self._run, name="read back", daemon=True)
        self._thread.start()

    def add(self, path: Path, name: str, sha256: str) -> None:
        """Compare the file at `path`, called `name` in the bag, with its hash (hex)."""
        self._queue.put((path, name, sha256))

    def close(self) -> None:
        """Nothing more is added."""
        self._queue.put(None)

    def ended(self, seconds: float) -> bool:
        """Wait so long at the most; whether everything was compared, or something failed."""
        self._thread.join(seconds)
        return not self._thread.is_alive()

    def give_up(self) -> None:
        """End soon, and wait for that."""
        self._given_up = True
        self._queue.put(None)
        self._thread.join()

    def check(self) -> None:
        """Raises DeliveryError for what read back differently, OSError for what could not be read,
        and whatever else ended the comparing."""
        if self._error is not None:
            raise self._error

    def _run(self) -> None:
        try:
            more = True
            while more and not self._ends():
                more = self._batch()
        except Exception as error:  # whatever it is: what was not compared was not read back
            self._error = error

    def _ends(self) -> bool:
        return self._given_up or self._stop.is_set()

    def _batch(self) -> bool:
        """Compare some files; whether there may be more."""
        files: list[tuple[Path, str, str]] = []
        size, item = 0, self._queue.get()
        while item is not None:
            files.append(item)
            size += item[0].stat().st_size
            if size >= BATCH_BYTES or len(files) >= BATCH_FILES:
                break
            item = self._queue.get()
        if files:
            to_the_medium([path for path, _, _ in files])
        for path, name, sha256 in files:
            if self._ends():
                break
            self._compare(path, name, sha256)
        return item is not None

    def _compare(self, path: Path, name: str, sha256: str) -> None:
        digest, block = hashlib.sha256(), memoryview(bytearray(READ_BYTES))
        with path.open("rb", buffering=0) as stored:
            os.posix_fadvise(stored.fileno(), 0, 0, os.POSIX_FADV_DONTNEED)
            while got := stored.readinto(block):
                if self._ends():
                    return
                digest.update(block[:got])
                self.done += got
        if digest.hexdigest() != sha256:
            raise DeliveryError("not-as-written", path=name)


def to_the_medium(paths: list[Path]) -> None:
    """Have the kernel write out these files, which lie on one file system; OSError if it cannot."""
    if not paths:
        return
    folder = os.open(paths[0].parent, os.O_RDONLY)
    try:
        # One call for many files, or each fsync would wait for the file system's journal; those
        # that follow have nothing left to do but to tell what could not be written.
        if len(paths) > 1 and hasattr(_libc, "syncfs"):
            _libc.syncfs(folder)
    finally:
        os.close(folder)
    for path in paths:
        file = os.open(path, os.O_RDONLY)
        try:
            os.fsync(file)
        finally:
            os.close(file)
