"""What a search says while it runs."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any

from needlewright.core.checks.grading import Grade
from needlewright.core.volumes.base import CodedParts
from needlewright.core.walks import Check, Facts, Kind, Part


@dataclass(frozen=True, slots=True)
class Record:
    """What a file-system record says of a find. `at`: its byte on the source. `size`: as it states,
    None where the extents tell. Times as in `Facts.taken`. `kept`: why the file was removed or
    hidden but is still kept, as a code; `original`: its path before that; `purge_at`: when the
    device itself would remove it. `content`: the file, where the record itself holds it; `coded`:
    where it is stored compressed. `claim`: the find rests on this record alone, not on content.
    """

    at: int
    size: int | None = None
    created: str | None = None
    modified: str | None = None
    accessed: str | None = None
    removed_at: str | None = None
    kept: str = ""
    encoding: str = "plain"
    content: bytes | None = None
    coded: CodedParts = ()
    original: str | None = None
    purge_at: str | None = None
    claim: bool = False


@dataclass(frozen=True, slots=True)
class Find:
    """One recovered candidate. Extents are (offset, length) in bytes on the source, file order;
    without an offset they are holes."""

    format: str
    kind: Kind
    extension: str
    extents: tuple[tuple[int | None, int], ...]
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
    record: Record | None = None

    @property
    def size(self) -> int:
        """Bytes of the file; for one that is gone, as many as its record states."""
        if self.record is not None and self.record.size is not None:
            return self.record.size
        return sum(length for _, length in self.extents)

    @property
    def start(self) -> int:
        """The first byte of it on the source; of its record where nothing else is known."""
        place = next((offset for offset, _ in self.extents if offset is not None), None)
        if place is None:
            return self.record.at if self.record is not None else 0
        return place


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
