"""What a find is: one recovered candidate with its bytes, its checks, and where it came from."""

from __future__ import annotations

from dataclasses import dataclass

from needlewright.core.checks.grading import Grade
from needlewright.core.codes import Seam
from needlewright.core.contents import Brought, Content, Extents
from needlewright.core.walks import Break, Check, Facts, Kind, Part

INSIDE = "inside"  # relations between finds: it lies in a broken one
TWIN, MENDED_FROM, JOINED_FROM, VERSION_OF = "twin", "mended-from", "joined-from", "version-of"
NOT_MENDED = "not-mended"  # of a find to itself: mending was tried, and why nothing came of it
RELATIONS = (INSIDE, TWIN, MENDED_FROM, JOINED_FROM, VERSION_OF, NOT_MENDED)


@dataclass(frozen=True, slots=True)
class Record:
    """What a file-system record says of a find. `at`: its byte on the source. `stated`: the size it
    states, where nothing else of the file is left. Times as in `Facts.taken`. `kept`: why the file
    was removed or hidden but is still kept, as a code; `original`: its path before that;
    `purge_at`: when the device itself would remove it. `claim`: the find rests on this record
    alone, not on content. `former`: it is one of a file system that is there no more. `volume`: the
    first byte of the volume it belongs to.
    """

    at: int
    stated: int | None = None
    created: str | None = None
    modified: str | None = None
    accessed: str | None = None
    removed_at: str | None = None
    kept: str = ""
    original: str | None = None
    purge_at: str | None = None
    claim: bool = False
    former: bool = False
    volume: int = 0


@dataclass(frozen=True, slots=True)
class Find:
    """One recovered candidate. `inside`: the key of the broken find that it lies in; `broken`: its
    first damage, in bytes of the source; `strip`: ten frames of a clip, side by side."""

    format: str
    kind: Kind
    extension: str
    content: Content
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
    inside: str | None = None
    strip: bytes = b""
    record: Record | None = None
    broken: Break | None = None
    seams: tuple[Seam, ...] = ()
    joined_from: str | None = None  # the key of the find that it was put together from
    content_sum: int | None = None  # CRC-32 of all its bytes as they were judged
    beside: int | None = None  # the byte at which what it was mended from begins

    @property
    def extents(self) -> Extents:
        """(byte of the source or None, length) that it is stored in, in file order."""
        return self.content.spans()

    @property
    def size(self) -> int:
        """Bytes of the file; for one that is gone, as many as its record states."""
        if isinstance(self.content, Brought):
            return self.content.size  # what a backup says of a file and what it holds may differ
        if self.record is not None and self.record.stated is not None:
            return self.record.stated
        return self.content.size

    @property
    def start(self) -> int:
        """The first byte of it on the source; of its record where nothing else is known."""
        place = next((offset for offset, _ in self.extents if offset is not None), None)
        if place is None and self.beside is not None:
            return self.beside
        if place is None:
            return self.record.at if self.record is not None else 0
        return place

    @property
    def key(self) -> str:
        """What it is known by on its source, as long as nothing else begins there."""
        return key_of(self.format, self.start)


def key_of(form: str, start: int, claim: str = "") -> str:
    """The key of a find of format `form` that begins at byte `start`; `claim` tells apart those
    that nothing but their records does."""
    return f"{form}:{start}:{claim}" if claim else f"{form}:{start}"
