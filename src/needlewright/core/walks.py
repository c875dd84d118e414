"""What following a file's own structure found: facts, parts, checks, and where it breaks."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any

from needlewright.core.decoders import Decoder


class Kind(StrEnum):
    """What a file is to its owner."""

    PHOTO = "photo"
    VIDEO = "video"
    AUDIO = "audio"
    DOCUMENT = "document"
    MESSAGE = "message"
    CONTACT = "contact"
    CALL = "call"
    NOTE = "note"
    OTHER = "other"
    SCRAP = "scrap"  # a piece without a beginning: material for stitching


class Outcome(StrEnum):
    """How one check came out."""

    PASS = "pass"
    DOUBT = "doubt"
    FAIL = "fail"
    NOT_APPLICABLE = "not applicable"
    NOT_MADE = "not made"


@dataclass(frozen=True, slots=True)
class Check:
    """One named test: its outcome, and the code and values of its one-line reason."""

    name: str
    outcome: Outcome
    code: str
    values: Mapping[str, Any] = field(default_factory=dict)
    content: bool = False  # True where the check looks at what the file shows, not how it is built


@dataclass(frozen=True, slots=True)
class Break:
    """Where a structure stops being its own.

    `offset`: absolute byte of the source. `why`: code of the reason. `row`: first damaged picture
    row, where known. `noticed_at`: absolute byte where it showed, never before `offset`.
    """

    offset: int
    why: str
    noticed_at: int
    row: int | None = None
    values: Mapping[str, Any] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Part:
    """A named piece of a file, absolute bytes."""

    name: str
    start: int
    stop: int


@dataclass(frozen=True, slots=True)
class Facts:
    """What the file says of itself; None where it says nothing."""

    width: int | None = None
    height: int | None = None
    taken: str | None = None  # RFC 3339, without an offset where the zone is unknown
    camera: str | None = None
    orientation: int = 1
    duration_s: float | None = None
    extra: Mapping[str, str] = field(default_factory=dict)  # name of a fact -> its value


@dataclass(frozen=True, slots=True)
class Variant:
    """Which member of a family of formats a file turned out to be; fields as in `Format`."""

    name: str
    extension: str
    kind: Kind
    decoder: str = Decoder.NONE


@dataclass(frozen=True, slots=True)
class Walk:
    """What walking a file from `start` found.

    `stop`: first byte after the last that belongs to it. `ended`: its own end mark was reached.
    `broken`: the first damage. `share`: part of the picture or the play time, else of the bytes,
    0.0 to 1.0, that is there. `preview`: span of an embedded preview. `remnant`: it is no more than
    a preview itself. `suspect`: where damage may begin, on weaker evidence than `broken` (see
    checks.grading). `variant`: where a format has several. `verified`: bytes
    before this are surely its own; where it is None, of a broken file no more than its first sector
    is, and of another all. `clip`: span of
    a clip that a photo carries. `opaque`: spans whose content nothing here could judge, and in
    which no other file belongs. `tentative`: so little is fixed that only a decoder can tell
    whether this is a file at all. `unproven`: code of why nothing here can show that all of the
    content is its own; "" where something does. `edited`: it says that it was edited, so that its
    preview may show what it was before. `guessed`: nothing in a broken file says how long it is, so
    that `share` is a guess.
    """

    start: int
    stop: int
    ended: bool
    broken: Break | None
    share: float
    facts: Facts
    parts: tuple[Part, ...] = ()
    preview: tuple[int, int] | None = None
    remnant: bool = False
    suspect: Break | None = None
    checks: tuple[Check, ...] = ()
    variant: Variant | None = None
    verified: int | None = None
    clip: tuple[int, int] | None = None
    opaque: tuple[tuple[int, int], ...] = ()
    tentative: bool = False
    unproven: str = ""
    edited: bool = False
    guessed: bool = False
