"""One program at a time works on the finds of a job: two would search and write the same twice.

The job folder itself is locked (flock(2)), so that nothing is left behind by a program that was
killed. Within one program any number of threads may work: their writes take turns (see `scribe`).
"""

from __future__ import annotations

import fcntl
import os
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from needlewright.core.errors import JobError


@dataclass(slots=True)
class _Turn:
    fd: int
    users: int = 0


_turns: dict[tuple[int, int], _Turn] = {}  # by device and number of the folder
_guard = threading.Lock()


@contextmanager
def at_work(folder: Path) -> Iterator[None]:
    """Work on the job in `folder`; JobError where another program does."""
    key = _taken(folder)
    try:
        yield
    finally:
        _left(key)


def _taken(folder: Path) -> tuple[int, int]:
    with _guard:
        fd = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        status = os.fstat(fd)
        key = status.st_dev, status.st_ino
        turn = _turns.get(key)
        if turn is not None:
            os.close(fd)
        else:
            turn = _Turn(fd)
            try:
                fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except BlockingIOError:
                os.close(fd)
                raise JobError("job-at-work", path=str(folder)) from None
            except OSError:
                pass  # no locks on this file system
            _turns[key] = turn
        turn.users += 1
        return key


def _left(key: tuple[int, int]) -> None:
    with _guard:
        turn = _turns[key]
        turn.users -= 1
        if not turn.users:
            os.close(turn.fd)
            del _turns[key]
