"""What speaks for a seam, in words."""

from __future__ import annotations

from needlewright.core.finds import Reason, Seam, SeamWord
from needlewright.wording import units

WORDS = {SeamWord.PROVEN: "proven", SeamWord.LIKELY: "likely"}
REASONS = {
    "rows-continue": "the rows of the picture continue across it (evidence {nats:,.0f})",
    "lead": "ahead of the next best piece by {nats:,.0f}",
    "second-choice": "the piece that came first led nowhere; this one came next",
    "checksum": "a checksum over both sides agrees",
    "structure": "the file's structure goes on across it, to {bytes_size} behind it",
    "index-places": "the index places {samples} samples of the piece, and they are what it says",
    "index-between": "the index leaves no other place for it",
    "decodes-across": "the frames across it decode without an error",
    "only-place": "no other free piece fits",
    "by-hand": "joined by hand",
}


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
