"""What a source looks like, kept in the job: one byte for each 4 KiB, and one for each MiB.

The files are read by window, never whole: stitching asks for the blocks of a stretch, the tape for
a screen's worth of columns, which the coarse file answers where a column covers many blocks.
"""

from __future__ import annotations

import os
from pathlib import Path

import numpy as np
import numpy.typing as npt

from needlewright.core.errors import JobError
from needlewright.core.kernels.texture import BLOCK_BYTES, Texture, dominating

FOLDER = "texture"
COARSE_BLOCKS = 256  # fine blocks to a coarse one: 1 MiB
READ_BLOCKS = 1 << 16  # of either file, at once
AT_ONCE = 1 << 24  # of either file for all columns; 16 TiB in the coarse one
Bytes = npt.NDArray[np.uint8]


class TextureFile:
    """The texture of source number `source` in a job folder; written while it is searched."""

    def __init__(self, folder: Path, source: int, *, write: bool = False) -> None:
        """Raises JobError where it cannot be opened for writing."""
        place = folder / FOLDER
        self._fds: list[int] = []
        try:
            if write:
                place.mkdir(exist_ok=True)
            flags = os.O_RDWR | os.O_CREAT if write else os.O_RDONLY
            for suffix in ("blocks", "coarse"):
                self._fds.append(os.open(place / f"{source}.{suffix}", flags | os.O_CLOEXEC, 0o644))
        except OSError as error:
            self.close()
            if write:
                raise JobError("job-not-written", path=str(folder),
                               reason=error.strerror or "") from error

    @property
    def there(self) -> bool:
        """Whether anything has been kept yet."""
        return len(self._fds) == 2

    def close(self) -> None:
        for fd in self._fds:
            os.close(fd)
        self._fds = []

    def write(self, start: int, classes: bytes) -> None:
        """Keep `classes` of the blocks from byte `start` on; JobError where the disk is full."""
        first = start // BLOCK_BYTES
        try:
            os.pwrite(self._fds[0], classes, first)
            begin = first // COARSE_BLOCKS * COARSE_BLOCKS
            stop = -(-(first + len(classes)) // COARSE_BLOCKS) * COARSE_BLOCKS
            for at in range(begin, stop, READ_BLOCKS):
                fine = self._read(0, at, min(READ_BLOCKS, stop - at))
                starts = np.arange(0, fine.size, COARSE_BLOCKS)
                coarse = dominating(fine, starts, starts + COARSE_BLOCKS)
                os.pwrite(self._fds[1], coarse.tobytes(), at // COARSE_BLOCKS)
        except OSError as error:
            raise JobError("job-not-written", path="texture",
                           reason=error.strerror or "") from error

    def _read(self, which: int, first: int, count: int) -> Bytes:
        raw = os.pread(self._fds[which], count, first)
        return np.frombuffer(raw.ljust(count, b"\0"), np.uint8)

    def blocks(self, start: int, stop: int) -> Bytes:
        """uint8[blocks]: the `Texture` of each 4 KiB from byte `start` to `stop`."""
        first, last = start // BLOCK_BYTES, -(-stop // BLOCK_BYTES)
        if not self.there:
            return np.zeros(max(0, last - first), np.uint8)
        return self._read(0, first, max(0, last - first))

    def columns(self, start: int, stop: int, count: int) -> Bytes:
        """uint8[count]: what mostly lies in each of `count` equal columns of the bytes."""
        found = np.zeros(count, np.uint8)
        if not self.there or stop <= start or count <= 0:
            return found
        per_column = (stop - start) / count / BLOCK_BYTES
        coarse = per_column >= COARSE_BLOCKS
        unit = BLOCK_BYTES * (COARSE_BLOCKS if coarse else 1)
        edges = np.linspace(start, stop, count + 1).astype(np.int64)
        first = edges[:-1] // unit
        last = np.maximum(first + 1, -(-edges[1:] // unit))
        if last[-1] - first[0] <= AT_ONCE:
            cells = self._read(int(coarse), int(first[0]), int(last[-1] - first[0]))
            return dominating(cells, first - first[0], last - first[0])
        for column in range(count):
            # A column of a huge source covers thousands of units: some of them speak for it.
            cells = self._read(int(coarse), int(first[column]), READ_BLOCKS)
            found[column] = dominating(cells, np.zeros(1, np.int64), np.full(1, cells.size))[0]
        return found

    def seen(self, start: int, stop: int) -> bool:
        """Whether every mebibyte from byte `start` to `stop` has been looked at."""
        if not self.there:
            return False
        unit = BLOCK_BYTES * COARSE_BLOCKS
        first, last = start // unit, -(-stop // unit)
        for at in range(first, last, READ_BLOCKS):
            part = self._read(1, at, min(READ_BLOCKS, last - at))
            if (part == Texture.UNSEEN).any():
                return False
        return True
