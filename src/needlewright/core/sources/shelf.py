"""A shelf: a source of named files instead of bytes in a line.

Its files are thought one behind the other, so that each has a place, work on it can be measured,
and a search goes on where it was stopped. What is kept of a file is its key, never that place.
"""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, NamedTuple

from needlewright.core.errors import SourceError
from needlewright.core.sources.files import ImageFile
from needlewright.core.sources.source import Source
from needlewright.core.stopping import StopSignal
from needlewright.core.temporary import nameless_file

FILES = "files"  # the kind of what lies in folders of this computer
ELSEWHERE = "elsewhere"  # what steps say that suit every kind of shelf that is elsewhere
PLACE_BYTES = 512  # places are multiples of it, and each file has one of its own


def is_distant(kind: str) -> bool:
    """Whether a source of this kind is a shelf that is elsewhere: a phone, a backup, an album …"""
    return kind not in (Source.kind, FILES)


def room(size: int) -> int:
    """How much a file of `size` bytes takes among places."""
    return max(1, -(-size // PLACE_BYTES)) * PLACE_BYTES


class Shelved(NamedTuple):
    """A file on a shelf. `key`: what the shelf hands it out by; `path`: as it is shown; `at`: its
    place among all, bytes; `size` in bytes; `modified_ns`: nanoseconds since 1970, UTC;
    `file`: where it lies on this computer, if it does."""

    key: str
    path: str
    at: int
    size: int
    modified_ns: int
    file: Path | None


class Shelf(Source):
    """Files by their keys."""

    @abstractmethod
    def entries(self) -> Sequence[Shelved]:
        """All files in the order of their places; SourceError where they cannot be listed."""

    @abstractmethod
    def fetch(self, key: str) -> Source:
        """One file as a source of its own; SourceError where it is not there, or not of this
        shelf."""


class Offered(NamedTuple):
    """A file that a device or a service offers. `size`: None where it does not say; `created`,
    `modified`: RFC 3339, without an offset where the zone is unknown; `hidden`: it says that it is;
    `refused`: why nothing but its name is to be had, a response in words; `version`: what changes
    with its content; `problem`: the code of why its content is not to be had; `removed_at`,
    `purge_at`: when it was removed, and until when it is kept; `removed`: it was; `older`: which of
    several versions it is, where it is not the newest; `sha256`: of its content (hex), as told;
    `shared_by`: it is another's, who shares it; `reduced`: a smaller copy of what there was."""

    entry: Shelved
    size: int | None
    created: str | None = None
    modified: str | None = None
    hidden: bool = False
    refused: str = ""
    version: str = ""
    problem: str = ""
    removed: bool = False
    removed_at: str | None = None
    purge_at: str | None = None
    older: str = ""
    sha256: str = ""
    shared_by: str = ""
    reduced: bool = False


class Flaw(SourceError):
    """What is wrong with the content of one file: the code and values of a check that fails."""


class DistantShelf(Shelf):
    """A shelf that is elsewhere: its files are brought here one by one, and it may go away in the
    middle of that. `spec`: what it is opened by."""

    spec: str

    @abstractmethod
    def look(self, told: Callable[[int, int], None],
             came: Callable[[Sequence[Offered]], None] = lambda some: None) -> None:
        """List it, if that was not done; `told`: (files and folders so far, of those that are
        offered), `came`: those that were told of next, where they come in pages. SourceError;
        Interrupted where `heed` says so."""

    @abstractmethod
    def offered(self) -> Sequence[Offered]:
        """All files, in the order of their places."""

    def entries(self) -> Sequence[Shelved]:
        return [one.entry for one in self.offered()]

    @property
    def size(self) -> int:
        every = self.offered()
        return every[-1].entry.at + room(every[-1].entry.size) if every else PLACE_BYTES

    def read_into(self, offset: int, target: memoryview) -> int:
        raise SourceError("shelf-no-bytes", path=self.spec)

    def fetch(self, key: str) -> Source:
        one = next((o for o in self.offered() if o.entry.key == key), None)
        if one is None:
            raise SourceError("source-missing", path=key)
        with nameless_file() as path:
            self.bring(one, path, lambda got: None)
            image = ImageFile(path)
        image.name = one.entry.path.rpartition("/")[2]
        return image

    @abstractmethod
    def thumbnail(self, offered: Offered) -> bytes:
        """The small picture that it has of a file itself, without fetching that; b"" where there is
        none. SourceError where the shelf is away."""

    @abstractmethod
    def missing(self) -> dict[str, int]:
        """What is missing of the list, and how much there is: counts by name. `complete`: 1 where
        something proves that nothing is, 0 where something is; absent where nothing proves it."""

    @abstractmethod
    def bring(self, offered: Offered, path: Path, told: Callable[[int], None]) -> int:
        """Put a file into the one at `path`, going on behind what is there of it; `told`: bytes
        that are there. How many it has. SourceError."""

    def about(self) -> dict[str, Any]:
        """What it says of itself beyond its files; nothing for most."""
        return {}

    def flaw(self, offered: Offered) -> Flaw | None:
        """What was wrong with a file that was brought all the same."""
        return None

    @abstractmethod
    def heed(self, stop: StopSignal) -> None:
        """From now on, end early with Interrupted where `stop` is set."""

    @abstractmethod
    def is_back(self) -> str:
        """Look for it after it went away: "" when it is ready again, with its list, else the state
        that it is in."""
