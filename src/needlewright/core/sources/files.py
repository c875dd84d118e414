"""Raw image files (and, by the same calls, devices), read by position.

Positional reads and no memory map: on failing media a map turns a read error into SIGBUS, which
ends the process, while `preadv` returns EIO for exactly the range that was asked for.
"""

from __future__ import annotations

import errno
import fcntl
import getpass
import os
import stat
import struct
from contextlib import suppress
from pathlib import Path

from needlewright.core.errors import SourceError
from needlewright.core.sources.source import Source

# linux/fs.h: BLKSSZGET and BLKPBSZGET
LOGICAL_SECTOR, PHYSICAL_SECTOR = 0x1268, 0x127B
GONE = frozenset({errno.ENODEV, errno.ENXIO, errno.ENOMEDIUM, errno.ESHUTDOWN})


class ImageFile(Source):
    """A regular file or block device, opened O_RDONLY once and never in any other way."""

    def __init__(self, path: str | os.PathLike[str], sector_size: int = 512, *,
                 direct: bool = False) -> None:
        """`direct`: past the page cache where it is a device, so that one bad sector fails what
        was asked for and no more; offsets, lengths and buffers must then be aligned.

        Raises SourceError: missing, directory, unreadable, empty, not a file or device.
        """
        self.path = Path(path)
        self.name = self.path.name
        self._fd = _open_read_only(self.path)
        self.sector_size = self.block_size = sector_size
        if stat.S_ISBLK(os.fstat(self._fd).st_mode):
            self.sector_size = _told_by_device(self._fd, LOGICAL_SECTOR) or sector_size
            self.block_size = _told_by_device(self._fd, PHYSICAL_SECTOR) or self.sector_size
            if direct:
                fcntl.fcntl(self._fd, fcntl.F_SETFL, os.O_RDONLY | os.O_DIRECT)
        try:
            self._size = os.lseek(self._fd, 0, os.SEEK_END)
        except OSError as error:
            self.close()
            reason = os.strerror(error.errno or errno.EIO)
            raise SourceError("source-unopenable", path=str(self.path), reason=reason) from error
        if self._size == 0:
            self.close()
            raise SourceError("source-empty", path=str(self.path))

    @property
    def size(self) -> int:
        return self._size

    def read_into(self, offset: int, target: memoryview) -> int:
        done = 0
        wanted = min(len(target), max(0, self._size - offset))
        while done < wanted:
            try:
                got = os.preadv(self._fd, [target[done:wanted]], offset + done)
            except OSError as error:
                start = offset + done
                if error.errno in GONE:
                    raise SourceError("source-gone", path=str(self.path)) from error
                raise SourceError(
                    "source-range", path=str(self.path), start=start, stop=offset + wanted,
                    reason=os.strerror(error.errno or errno.EIO),
                ) from error
            if got == 0:  # the file is shorter than when it was opened
                raise SourceError(
                    "source-shrank", path=str(self.path), start=offset + done, stop=offset + wanted
                )
            done += got
        return done

    def next_data(self, offset: int) -> int:
        try:
            return min(os.lseek(self._fd, offset, os.SEEK_DATA), self._size)
        except OSError as error:
            # ENXIO: nothing but a hole up to the end, or the file ends before it should, which a
            # read will tell; devices do not know the question.
            cut = os.fstat(self._fd).st_size < self._size
            return self._size if error.errno == errno.ENXIO and not cut else offset

    def local_path(self) -> tuple[str, int] | None:
        return str(self.path.absolute()), 0

    def __del__(self) -> None:
        # A net, for whoever opens a source closes it; one that was never fully made raises here.
        with suppress(Exception):
            self.close()

    def close(self) -> None:
        """Close the descriptor; reading afterwards raises SourceError."""
        if self._fd >= 0:
            os.close(self._fd)
            self._fd = -1


def _told_by_device(fd: int, question: int) -> int:
    """What a block device answers, in bytes; 0 where it does not know."""
    try:
        answer = fcntl.ioctl(fd, question, struct.pack("i", 0))
    except OSError:
        return 0
    size = int(struct.unpack("i", answer)[0])
    return size if size >= 512 and size & (size - 1) == 0 else 0


def _open_read_only(path: Path) -> int:
    try:
        # Non-blocking, so that a named pipe given by mistake cannot hang the open.
        fd = os.open(path, os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK)
    except FileNotFoundError as error:
        raise SourceError("source-missing", path=str(path)) from error
    except PermissionError as error:
        if path.is_block_device():
            raise SourceError("device-denied", path=str(path), user=getpass.getuser()) from error
        raise SourceError("source-denied", path=str(path)) from error
    except OSError as error:
        reason = os.strerror(error.errno or errno.EIO)
        raise SourceError("source-unopenable", path=str(path), reason=reason) from error
    mode = os.fstat(fd).st_mode
    if stat.S_ISREG(mode) or stat.S_ISBLK(mode):
        return fd
    os.close(fd)
    code = "source-directory" if stat.S_ISDIR(mode) else "source-not-a-file"
    raise SourceError(code, path=str(path))
