"""Raw image files (and, by the same calls, devices), read by position.

Positional reads and no memory map: on failing media a map turns a read error into SIGBUS, which
ends the process, while `preadv` returns EIO for exactly the range that was asked for.
"""

from __future__ import annotations

import errno
import os
import stat
from pathlib import Path
from types import TracebackType

from needlewright.core.errors import SourceError
from needlewright.core.sources.source import Source


class ImageFile(Source):
    """A regular file or block device, opened O_RDONLY once and never in any other way."""

    def __init__(self, path: str | os.PathLike[str], sector_size: int = 512) -> None:
        """Raises SourceError: missing, directory, unreadable, empty, not a file or device."""
        self.path = Path(path)
        self.name = self.path.name
        self.sector_size = sector_size
        self._fd = _open_read_only(self.path)
        self._size = os.lseek(self._fd, 0, os.SEEK_END)
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

    def local_path(self) -> tuple[str, int] | None:
        return str(self.path.absolute()), 0

    def close(self) -> None:
        """Close the descriptor; reading afterwards raises SourceError."""
        if self._fd >= 0:
            os.close(self._fd)
            self._fd = -1

    def __enter__(self) -> ImageFile:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.close()


def _open_read_only(path: Path) -> int:
    try:
        # Non-blocking, so that a named pipe given by mistake cannot hang the open.
        fd = os.open(path, os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK)
    except FileNotFoundError as error:
        raise SourceError("source-missing", path=str(path)) from error
    except PermissionError as error:
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
