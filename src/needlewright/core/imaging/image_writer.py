"""The image being made: sparse where the medium is zero, in pieces where one would be too large."""

from __future__ import annotations

import contextlib
import os
import threading
from bisect import bisect_right
from pathlib import Path

import numpy as np

from needlewright.core.sources.mounts import file_system_of

FAT_KINDS = frozenset({"vfat", "msdos"})
FAT_PIECE = (4 << 30) - (16 << 20)  # below FAT's 4 GiB limit, and whole chunks


def _is_blank(data: memoryview) -> bool:
    words = len(data) // 8 * 8
    return not (any(data[:64]) or any(data[words:])
                or np.frombuffer(data[:words], np.uint64).any())


class ImageWriter:
    """Writes at any place of an image of `size` bytes at `path`.

    On file systems that hold no file of that size the image is made in pieces `path`.001 and so
    on; `first` is what to open later.
    """

    def __init__(self, path: Path, size: int, piece_bytes: int | None = None) -> None:
        if piece_bytes is None and file_system_of(path.parent) in FAT_KINDS and size > FAT_PIECE:
            piece_bytes = FAT_PIECE
        self.size = size
        self._step = piece_bytes or size
        count = -(-size // self._step)
        self.paths = [path] if count == 1 else [
            path.with_name(f"{path.name}.{n:03d}") for n in range(1, count + 1)]
        self.first = self.paths[0]
        self.fresh = not any(p.exists() for p in self.paths)
        self._starts = [n * self._step for n in range(count)]
        self._syncing: threading.Thread | None = None
        self._fds = []
        for place, piece in zip(self._starts, self.paths):
            fd = os.open(piece, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o644)
            self._fds.append(fd)
            wanted = min(self._step, size - place)
            if os.fstat(fd).st_size != wanted:
                os.ftruncate(fd, wanted)

    def write(self, offset: int, data: memoryview, fresh: bool) -> None:
        """Write `data` at `offset`; `fresh`: nothing but a hole is there, so zeros may stay one."""
        if fresh and _is_blank(data):
            return
        done = 0
        while done < len(data):
            index = bisect_right(self._starts, offset + done) - 1
            inside = offset + done - self._starts[index]
            part = data[done : done + self._step - inside]
            done += os.pwrite(self._fds[index], part, inside)

    def start_sync(self) -> None:
        """Have what is written brought to the disk meanwhile, so that `sync` finds little to do."""
        if self._syncing is None or not self._syncing.is_alive():
            self._syncing = threading.Thread(target=self._sync_quietly, daemon=True)
            self._syncing.start()

    def _sync_quietly(self) -> None:
        with contextlib.suppress(OSError):  # `sync` meets the same trouble and tells
            self.sync()

    def sync(self) -> None:
        for fd in self._fds:
            os.fdatasync(fd)

    def close(self) -> None:
        if self._syncing is not None:
            self._syncing.join()
        for fd in self._fds:
            os.close(fd)
        self._fds = []
