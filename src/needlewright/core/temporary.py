"""Temporary files that leave nothing behind."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path


@contextmanager
def nameless_file() -> Iterator[Path]:
    """A temporary file that is gone with the last that has it open, even where a process is killed:
    what is in a sealed backup must not stay behind in the clear."""
    folder = tempfile.gettempdir()
    try:
        number = os.open(folder, os.O_TMPFILE | os.O_RDWR | os.O_CLOEXEC, 0o600)
    except OSError:  # not every file system has such files
        number, name = tempfile.mkstemp(prefix="needlewright-", dir=folder)
        try:
            yield Path(name)
        finally:
            os.close(number)
            os.unlink(name)  # what is open stays readable
        return
    try:
        yield Path(f"/proc/{os.getpid()}/fd/{number}")  # by its process: another may write to it
    finally:
        os.close(number)
