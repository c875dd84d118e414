"""What the job file gives back: plain rows for lists, full records for one find."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from needlewright.core.codes import Reason, Seam
from needlewright.core.contents import Content, Extents
from needlewright.core.finds import Record
from needlewright.core.sources.source import Source
from needlewright.core.walks import Check, Part

BYTES = Source.kind


@dataclass(frozen=True, slots=True)
class SourceRow:
    """A source of the job. `kind`: BYTES in a line, or what kind of shelf."""

    id: int
    name: str
    path: str
    size: int
    sector_size: int
    sha256: str | None
    kind: str = BYTES


@dataclass(frozen=True, slots=True)
class FindRow:
    """A find as lists need it; sizes in bytes, `start` in bytes on the source."""

    id: int
    source: int
    kind: str
    format: str
    extension: str
    start: int
    size: int
    grade: str
    share: float
    name: str | None
    path: str | None
    removed: bool | None
    width: int | None
    height: int | None
    taken: str | None
    camera: str | None
    orientation: int
    damage_row: int | None
    found_by: tuple[str, ...]
    has_thumbnail: bool
    in_tray: bool
    duration_s: float | None = None
    has_strip: bool = False
    kept: str = ""  # why a removed or hidden file is still kept
    modified: str | None = None
    removed_at: str | None = None
    former: bool = False  # of a file system that is there no more
    volume: int = 0  # the first byte of its volume


@dataclass(frozen=True, slots=True)
class FindRecord:
    """All that the job knows of one find."""

    row: FindRow
    content: Content
    checks: tuple[Check, ...]
    parts: tuple[Part, ...]
    extra: Mapping[str, Any]
    preview: tuple[int, int] | None
    parent: int | None = None  # id of the broken find it lies in
    record: Record | None = None  # what a file system says of it
    seams: tuple[Seam, ...] = ()
    joined_from: int | None = None  # id of the find that broke off, of which it was put together
    mended_from: int | None = None  # id of the damaged find, whose bytes stay as they are
    changes: tuple[Reason, ...] = ()  # what mending did

    @property
    def extents(self) -> Extents:
        """(byte of the source or None, length) that it is stored in."""
        return self.content.spans()


@dataclass(frozen=True, slots=True)
class StepRow:
    source: int
    step: str
    kinds: tuple[str, ...]
    area_start: int
    area_stop: int
    checkpoint: int
    ending: str
    state: str = ""  # where a step goes on that does not go by bytes


@dataclass(frozen=True, slots=True)
class TallyRow:
    source: int
    step: str
    kind: str
    grade: str
    finds: int
    bytes: int


@dataclass(frozen=True, slots=True)
class Filter:
    """Which finds; empty sets mean all. `text` narrows by name, path, camera and date;
    `removed` to what was removed, or to what was not; `missing_only` to what the last comparison of
    the sources showed to be on a shelf alone."""

    kinds: frozenset[str] = frozenset()
    grades: frozenset[str] = frozenset()
    formats: frozenset[str] = frozenset()
    text: str = ""
    tray_only: bool = False
    removed: bool | None = None
    missing_only: bool = False
