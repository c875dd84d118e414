"""What comes of putting a file together: its find, whole only with every seam proven.

Both the step and joining by hand end here.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

from needlewright.core.checks.decoding import DecodeReport
from needlewright.core.checks.grading import lowered
from needlewright.core.codes import SeamWord
from needlewright.core.contents import Stretches
from needlewright.core.finds import Find
from needlewright.core.search.deciding import Case, find_of
from needlewright.core.search.record_finds import moved_to
from needlewright.core.sources.pieces import PiecedSource
from needlewright.core.stitching.base import Joined, proven_by_sum
from needlewright.core.stitching.pool import Pool
from needlewright.core.walks import Check, Outcome, Walk

STEP = "stitching"
SUMS = frozenset(("sum-agrees",))  # checks of a checksum over the whole file
BEHIND = 1 << 20  # bytes in line behind the end mark that may still belong to a file


@dataclass(frozen=True, slots=True)
class StitchedCase(Case):
    """A file that was put together; its walk addresses it from 0."""

    thread: PiecedSource | None = None
    joined: Joined | None = None
    origin: str = ""  # the key of the find that broke off


def stitched(case: StitchedCase, report: DecodeReport | None, sector: int) -> Find:
    """The find of a file that was put together: whole only with every seam proven."""
    assert case.thread is not None and case.joined is not None and case.origin
    found, _ = find_of(case, report, STEP, sector)
    found = moved_to(found, case.thread)
    seams = tuple(s for s in case.joined.seams if s.at < case.thread.size)
    doubtful = [s for s in seams if s.word is not SeamWord.PROVEN]
    if doubtful:
        check = Check("seams", Outcome.DOUBT, "seams-likely",
                      {"likely": len(doubtful), "seams": len(seams), "at": doubtful[0].at})
    else:
        check = Check("seams", Outcome.PASS, "seams-proven", {"seams": len(seams)})
    grade = lowered(found.grade, (check,))
    checks = (check, *found.checks) if doubtful else (*found.checks, check)
    return replace(found, content=Stretches(case.thread.extents), grade=grade, checks=checks,
                   inside=None, seams=seams, joined_from=case.origin)


def summed(joined: Joined, walk: Walk) -> Joined:
    """The same with every seam proven, where a sum over all of the file agrees."""
    agrees = joined.ended and walk.broken is None and any(
        c.code in SUMS and c.outcome is Outcome.PASS for c in walk.checks)
    if not agrees:
        return joined
    return replace(joined, seams=proven_by_sum(joined.seams))


def with_rest(joined: Joined, pool: Pool) -> list[tuple[int | None, int]]:
    """The extents with what stands in line behind the end: cameras append pictures."""
    extents = list(joined.extents)
    last, length = extents[-1]
    if not joined.ended or last is None:
        return extents
    number = pool.number(last + length - 1)
    more = pool.start(number + 1) - last - length
    run = pool.run(number + 1, BEHIND // pool.unit)
    extents[-1] = last, length + more + run * pool.unit
    return extents
