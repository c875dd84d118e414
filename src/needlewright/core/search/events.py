"""What a search says while it runs."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any

from needlewright.core.checks.grading import Grade
from needlewright.core.formats.base import Check, Facts, Kind, Part


@dataclass(frozen=True, slots=True)
class Find:
    """One recovered candidate. Extents are (offset, length) in bytes on the source, file order."""

    format: str
    kind: Kind
    extension: str
    extents: tuple[tuple[int, int], ...]
    grade: Grade
    share: float
    found_by: tuple[str, ...]
    checks: tuple[Check, ...]
    facts: Facts
    parts: tuple[Part, ...] = ()
    preview: tuple[int, int] | None = None
    damage_row: int | None = None
    thumbnail: bytes = b""
    name: str | None = None
    path: str | None = None
    removed: bool | None = None
    parent: tuple[int, str] | None = None  # (start, format) of the broken find it lies in
    strip: bytes = b""  # ten frames of a clip, side by side

    @property
    def size(self) -> int:
        """Bytes of the file."""
        return sum(length for _, length in self.extents)

    @property
    def start(self) -> int:
        return self.extents[0][0]


@dataclass(frozen=True, slots=True)
class Progress:
    """How far a step is. `checkpoint`: everything before this byte is settled, so a later run may
    begin there. `seconds_left` is None until the speed is known."""

    step: str
    done: int
    total: int
    checkpoint: int
    bytes_per_second: float = 0.0
    seconds_left: float | None = None


@dataclass(frozen=True, slots=True)
class Found:
    find: Find


@dataclass(frozen=True, slots=True)
class Rechecked:
    """A find that was told before, with checks that took longer; it replaces the earlier one."""

    find: Find


@dataclass(frozen=True, slots=True)
class Seen:
    """What the medium looks like from byte `start` on, a `Texture` for each 4 KiB."""

    start: int
    classes: bytes


@dataclass(frozen=True, slots=True)
class Note:
    """Something for the log: a code and values for `wording`."""

    code: str
    values: dict[str, Any] = field(default_factory=dict)


class Ending(StrEnum):
    DONE = "done"
    STOPPED = "stopped"


@dataclass(frozen=True, slots=True)
class Finished:
    """The last event of a step; stopping is an outcome, not an error."""

    step: str
    ending: Ending
    checkpoint: int


Event = Progress | Found | Rechecked | Seen | Note | Finished
