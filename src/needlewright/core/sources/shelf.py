"""A shelf: a source of named files instead of bytes in a line.

Its files are thought one behind the other, so that each has a place, work on it can be measured,
and a search goes on where it was stopped. What is kept of a file is its key, never that place.
"""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from needlewright.core.sources.source import Source


@dataclass(frozen=True, slots=True)
class Shelved:
    """A file on a shelf. `key`: what the shelf hands it out by; `path`: as it is shown; `at`: its
    place among all, bytes; `size` in bytes; `modified_ns`: nanoseconds since 1970, UTC;
    `file`: where it lies on this computer."""

    key: str
    path: str
    at: int
    size: int
    modified_ns: int
    file: Path


class Shelf(Source):
    """Files by their keys."""

    @abstractmethod
    def entries(self) -> Sequence[Shelved]:
        """All files in the order of their places; SourceError where they cannot be listed."""

    @abstractmethod
    def fetch(self, key: str) -> Source:
        """One file as a source of its own; SourceError where it is not there, or not of this
        shelf."""
