"""What speaks for a seam, in words."""

from __future__ import annotations

from typing import TYPE_CHECKING

from needlewright.core.codes import Reason, Seam, SeamWord
from needlewright.wording import units

if TYPE_CHECKING:
    from collections.abc import Sequence

WORDS = {SeamWord.PROVEN: "proven", SeamWord.LIKELY: "likely"}
REASONS = {
    "rows-continue": "the rows of the picture continue across it (evidence {nats:,.0f})",
    "lead": "ahead of the next best piece by {nats:,.0f}",
    "rows-hardly": "the rows of the picture hardly continue across it",
    "rows-like": "the rows of the picture continue across it",
    "behind": "behind the best piece by {nats:,.0f}",
    "in-line": "it stands in line behind what is there",
    "own-end": "it runs to the file's own end",
    "breaks-soon": "what stands in line behind it does not go on",
    "cut-earlier": "it follows {bytes_size} earlier than the cut is now",
    "cut-later": "it follows {bytes_size} later than the cut is now",
    "second-choice": "the piece that came first led nowhere; this one came next",
    "checksum": "a checksum over both sides agrees",
    "structure": "the file's structure goes on across it, to {bytes_size} behind it",
    "index-places": "the index places {samples} samples of the piece, and they are what it says",
    "index-between": "the index leaves no other place for it",
    "decodes-across": "the frames across it decode without an error",
    "behind-others": "the file goes on behind what other files own, and opens",
    "only-place": "no other free piece fits",
    "by-hand": "joined by hand",
}


#: The same, as it stands below a small picture.
SHORT = {
    "rows-continue": "rows continue", "rows-like": "rows continue",
    "rows-hardly": "rows hardly fit", "lead": "", "behind": "", "in-line": "in line",
    "own-end": "to the end", "breaks-soon": "ends soon", "checksum": "checksum agrees",
    "structure": "structure goes on", "index-places": "{samples} samples fit",
    "index-between": "only place", "decodes-across": "frames decode",
    "cut-earlier": "cut earlier", "cut-later": "cut later",
    "behind-others": "behind others", "by-hand": "by hand",
}


def briefly(reasons: Sequence[Reason]) -> str:
    """The reasons in a few words each: 'rows continue, to the end'."""
    words = (SHORT.get(r.code, "").format(**r.values) for r in reasons)
    return ", ".join(word for word in words if word)


def seam_word(word: SeamWord | str) -> str:
    return WORDS[SeamWord(word)]


def describe_reason(reason: Reason) -> str:
    """One reason as part of a sentence."""
    values = dict(reason.values)
    if "bytes" in values:
        values["bytes_size"] = units.size(values["bytes"])
    return REASONS[reason.code].format(**values)


def told(seam: Seam) -> str:
    """How sure a seam is, and why."""
    return "; ".join((seam_word(seam.word), *(describe_reason(r) for r in seam.reasons)))


def describe_seam(seam: Seam) -> str:
    """A seam in one sentence."""
    return f"At {units.size(seam.at)}: {told(seam)}."
