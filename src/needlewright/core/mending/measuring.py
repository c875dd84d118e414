"""How much of a file is shown as it was, before and after mending, and whether that is better.

One measure for all formats: what the walks and decoders reach of a file, and never more than its
mender says is the file's own (the rest was filled in). A mender that counts what is there in
another way than the walk (in tiles, strips or segments instead of rows) counts the damaged file in
that way, too: `Mended.share_before`.
"""

from __future__ import annotations

from dataclasses import dataclass

from needlewright.core.checks.grading import AGAINST, PROOF, Grade
from needlewright.core.finds import Find
from needlewright.core.mending.base import Mended

BETTER = 0.002  # of it must be there more, where both pass or neither
COST = 0.02  # of it that may be given up for a file that opens in every program
LITTLE = 0.02  # below which only a scrap is there
RANK = {Grade.WHOLE: 5, Grade.UNPROVEN: 4, Grade.MENDED: 3, Grade.PARTIAL: 2, Grade.REMNANT: 1,
        Grade.GONE: 0}
PREVIEW = "preview-taken"


@dataclass(frozen=True, slots=True)
class Measured:
    """The shares (0.0 to 1.0) of a file before and after; `covered`: the part that has something of
    its own in it after mending, of a tone that may be only likely; `opens`: whether a strict
    decoder read all of it before, and does after mending."""

    before: float
    after: float
    covered: float
    opens: tuple[bool, bool]


def measured(before: Find, proposal: Mended, after: Find) -> Measured:
    """What `proposal` makes of the file that `before` tells of; `after`: what was examined of it.
    """
    opens = _opens(before), _opens(after)
    # A thumbnail that shows what is missing now is no witness against what is told to be missing.
    sound = after.grade is Grade.WHOLE or opens[1]
    most = 1.0 if sound else after.share
    stated = before.share if proposal.share_before is None else proposal.share_before
    if _is_refused(after):
        most = min(most, stated)
    covered = min(most, proposal.share if proposal.area is None else proposal.area)
    # What was there before is there still, whatever tone lies behind it.
    share = max(min(most, proposal.share), min(stated, covered))
    return Measured(stated, share, covered, opens)


def _is_refused(find: Find) -> bool:
    """Whether a decoder refuses a file without any place: nothing then measures what is there."""
    return find.broken is None and find.damage_row is None and any(
        c.code == "decode-undecodable" for c in find.checks)


def is_better(before: Find, proposal: Mended, after: Find) -> bool:
    """Whether the new file shows no less than the old one, and more of it, or in more programs."""
    found = measured(before, proposal, after)
    if after.grade in (Grade.GONE, Grade.REMNANT) and proposal.share >= LITTLE:
        return False
    opened = found.opens[1] and not found.opens[0]
    if found.after < found.before - (COST if opened else BETTER):
        return False
    more = found.covered > found.before + BETTER
    if any(change.code == PREVIEW for change in proposal.changes) and not more:
        return False
    if after.grade is Grade.WHOLE or opened:
        return True  # what was there did not pass
    if not found.opens[1] and after.share <= found.before + BETTER:
        return False
    return more or _standing(after) > _standing(before)


def _standing(find: Find) -> tuple[int, bool]:
    """How good a file is called, and whether nothing is said against it but that its coding proves
    nothing."""
    return RANK[find.grade], not any(
        c.outcome in AGAINST and c.name != PROOF for c in find.checks)


def _opens(find: Find) -> bool:
    """Whether a strict decoder reads all of it."""
    looked = [c for c in find.checks if c.name in ("full decode", "every frame", "structure")]
    return bool(looked) and not any(c.outcome in AGAINST for c in looked)
