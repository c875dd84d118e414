"""What a search says while it runs."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any

from needlewright.core.finds import Find


@dataclass(frozen=True, slots=True)
class Progress:
    """How far a step is. `checkpoint`: everything before this byte is settled, so a later run may
    begin there. `seconds_left` is None until the speed is known. `waiting`, `solved`: finds, where
    a step goes by these. `state`: where a step goes on that does not go by bytes, as text that
    only it reads; None: as told before. `away`: the state in which a device is that is waited
    for. `files`: (how many are settled, of how many that are wanted), where a step goes by files
    and `done` tells their part alone."""

    step: str
    done: int
    total: int
    checkpoint: int
    bytes_per_second: float = 0.0
    seconds_left: float | None = None
    waiting: int | None = None
    solved: int | None = None
    state: str | None = None
    away: str = ""
    files: tuple[int, int] | None = None


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
class VolumeSeen:
    """A volume of the source. `start`, `size` in bytes; `used`: the share in use of as many equal
    stretches, 0 to 255, empty where unknown."""

    start: int
    size: int
    kind: str
    label: str
    cluster_size: int
    state: str
    named_by: str
    used: bytes = b""
    used_bytes: int | None = None
    limits: tuple[str, ...] = ()


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


Event = Progress | Found | Rechecked | Seen | VolumeSeen | Note | Finished
