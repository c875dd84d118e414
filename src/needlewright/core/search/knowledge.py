"""What a step may ask of the job: the one door between what is being found and what was found."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

from needlewright.core.contents import Content
from needlewright.core.search.spans import Spans, no_spans
from needlewright.core.sources.shelf import Offered


@dataclass(frozen=True, slots=True)
class BrokenFind:
    """A find that is not whole. `breaks_at`: the byte of the source from which it is not its own,
    None where only a decoder noticed; `why`: code of the reason."""

    number: int
    key: str
    format: str
    content: Content
    breaks_at: int | None
    why: str
    share: float = 0.0
    stated: int | None = None  # the size that a record gives it
    removed: bool | None = None

    @property
    def start(self) -> int | None:
        """Its first byte on the source; None where it is on none."""
        return next((offset for offset, _ in self.content.spans() if offset is not None), None)


class Knowledge(Protocol):
    """What is known of one source. Spans are int64[n, 2], (start, stop) in bytes, ascending."""

    def whole(self) -> Spans:
        """What belongs to finds that are whole and that a record names: nothing else is there."""
        ...

    def covered(self, number: int) -> Spans:
        """What belongs to one find."""
        ...

    def owned(self) -> Spans:
        """What belongs to finds that are whole, named or not."""
        ...

    def starts(self) -> list[int]:
        """The first bytes of the finds that are whole."""
        ...

    def threads(self) -> Iterator[list[tuple[int, int]]]:
        """(byte, length) of the pieces of each whole find that has several, in file order."""
        ...

    def proven(self) -> Iterator[tuple[int, Content]]:
        """(size, content) of removed files that records name and their content proved."""
        ...

    def broken(self) -> Iterator[BrokenFind]:
        """The finds that are not whole, with where they break."""
        ...

    def texture(self, start: int, stop: int) -> bytes:
        """A `Texture` for each 4 KiB of a stretch, as far as it was looked at; else b""."""
        ...

    def free(self) -> Spans:
        """What no file system of the source uses."""
        ...

    def folder(self) -> Path | None:
        """Where what is brought from elsewhere is kept; None where nothing is."""
        ...

    def lacks(self) -> Callable[[Offered], bool]:
        """What tells of a file that a shelf offers whether none of the other sources has it."""
        ...


class _Nothing:
    """A source of which nothing is known."""

    def whole(self) -> Spans:
        return no_spans()

    def covered(self, number: int) -> Spans:
        return no_spans()

    def owned(self) -> Spans:
        return no_spans()

    def starts(self) -> list[int]:
        return []

    def threads(self) -> Iterator[list[tuple[int, int]]]:
        return iter(())

    def proven(self) -> Iterator[tuple[int, Content]]:
        return iter(())

    def broken(self) -> Iterator[BrokenFind]:
        return iter(())

    def texture(self, start: int, stop: int) -> bytes:
        return b""

    def free(self) -> Spans:
        return no_spans()

    def folder(self) -> Path | None:
        return None

    def lacks(self) -> Callable[[Offered], bool]:
        return lambda offered: True


NOTHING: Knowledge = _Nothing()
