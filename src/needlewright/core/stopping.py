"""How work is told to stop, from outside and from inside."""

from __future__ import annotations

from typing import Protocol


class StopSignal(Protocol):
    """Anything with `is_set`, such as threading.Event."""

    def is_set(self) -> bool: ...


class Interrupted(Exception):
    """The search was told to stop in the middle of a walk; never leaves the search."""
