"""What is drawn once and kept is drawn by one process at a time: others wait, and find it there."""

from __future__ import annotations

import fcntl
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path


@contextmanager
def alone_in(place: Path) -> Iterator[None]:
    """Hold `place`, a folder that is made where it is missing, for this process alone (flock(2)):
    a process that dies lets go. OSError where it cannot be made."""
    place.mkdir(parents=True, exist_ok=True)
    with (place / ".drawing").open("w") as held:
        fcntl.flock(held, fcntl.LOCK_EX)
        yield
