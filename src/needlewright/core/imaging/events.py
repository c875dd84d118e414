"""What a copy says while it runs."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any

from needlewright.core.sources.read_map import ReadMap


class Pause(StrEnum):
    """Why a copy waits, without having been asked to."""

    GONE = "gone"  # the medium no longer answers
    HANGS = "hangs"  # a read hangs in the kernel
    OTHER = "other"  # another medium came back under its name


class CopyEnding(StrEnum):
    DONE = "done"
    STOPPED = "stopped"
    FULL = "full"  # paused before the destination was full
    TIME = "time"  # the hours that were given are over


@dataclass(frozen=True, slots=True)
class Copying:
    """How far a copy is, bytes. `easy_seconds`: for what is not yet asked, None while the speed is
    unknown; `troubled`: bytes that wait beside trouble or to be tried again; `phase`: copy or hash.
    """

    size: int
    read: int
    pending: int
    unreadable: int
    troubled: int
    bytes_per_second: float
    easy_seconds: float | None
    phase: str = "copy"
    hashed: int = 0


@dataclass(frozen=True, slots=True)
class Waiting:
    """The copy waits, and goes on by itself when the reason ends."""

    reason: Pause
    values: dict[str, Any] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class WentOn:
    """A wait is over; `spec`: under which name the medium is read now."""

    spec: str


@dataclass(frozen=True, slots=True)
class Trouble:
    """A read failed: `start` to `stop`, bytes; `lost`: it will not be asked for again."""

    start: int
    stop: int
    tries: int
    seconds: float
    reason: str
    lost: bool


@dataclass(frozen=True, slots=True)
class Copied:
    """The last event. `sha256` of the whole image (hex) where it was finished."""

    ending: CopyEnding
    image: str
    sha256: str | None
    read: int
    unreadable: int


@dataclass(frozen=True, slots=True)
class MapTold:
    """The read map as it stands, and what was read slowly; both change when the next event is
    taken."""

    states: ReadMap
    slow: list[tuple[int, int, float]]


CopyEvent = MapTold | Copying | Waiting | WentOn | Trouble | Copied
