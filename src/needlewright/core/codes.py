"""Codes and enums that sentences are made for. Imports nothing: whoever only speaks of the work
loads none of what does it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any

#: How files that are marked as removed are still kept.
TRASH, PHONE_TRASH, GALLERY_TRASH, UNFINISHED, HIDDEN, VERSION, SERVICE_TRASH = (
    "trash", "phone-trash", "gallery-trash", "unfinished", "hidden", "version", "service-trash")
#: What two versions of a file have in common.
SAME_BYTES, SAME_PICTURE, SAME_NAME = "same-bytes", "same-picture", "same-name"


class SeamWord(StrEnum):
    """How sure a joint is."""

    PROVEN = "proven"
    LIKELY = "likely"


@dataclass(frozen=True, slots=True)
class Reason:
    """One thing that speaks for a seam, or against it: a code and its values."""

    code: str
    values: Mapping[str, Any] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Seam:
    """The joint between two pieces of a file, `at` bytes from its start. `rivals`: (byte of the
    source, how far behind in nats) of the other pieces that came near."""

    at: int
    word: SeamWord
    reasons: tuple[Reason, ...] = ()
    rivals: tuple[tuple[int, float], ...] = ()


class When(StrEnum):
    """When a shelf was made, by the day of the loss."""

    BEFORE = "before"
    SAME_DAY = "same-day"  # it may have been made before or after
    UNKNOWN = "unknown"
    AFTER = "after"


class BlockContent(StrEnum):
    """What a block of a medium looks like."""

    BLANK = "blank"
    TEXT = "text"
    STRUCTURED = "structured"
    MEDIA = "media"
    RANDOM = "random"


class Stopped(StrEnum):
    """Why the sampling of a medium ended."""

    TIME = "time"
    FAILED = "failed"
    SLOW = "slow"
    ASKED = "asked"
