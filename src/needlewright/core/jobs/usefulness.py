"""How useful a shelf is to a job: whether it is from before the loss, how much of what was lost it
holds, and what it would add. The most useful comes first, and why is said.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from needlewright.core.codes import When
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.already import Already
from needlewright.core.jobs.loss import Loss
from needlewright.core.shelves.backups.finding import FoundBackup
from needlewright.core.sources.registry import lies_at
from needlewright.core.sources.shelf import Offered, is_distant

ORDER = (When.BEFORE, When.SAME_DAY, When.UNKNOWN, When.AFTER)


@dataclass(frozen=True, slots=True)
class Use:
    """`covers`: how many of `lost` names it holds; `adds`: files that the job does not have;
    `dated_before`: files dated up to the day of the loss."""

    when: When
    covers: int
    lost: int
    adds: int
    dated_before: int
    made: str

    @property
    def rank(self) -> tuple[int, int, int, int]:
        """What sorts the most useful first: what was lost counts for more than when it was made,
        which only makes that likely."""
        return (-self.covers, ORDER.index(self.when), -self.dated_before, -self.adds)


def when_made(made: str | None, loss: Loss) -> When:
    if not made or not loss.known:
        return When.UNKNOWN
    day = made[:10]
    if day == loss.day:
        return When.SAME_DAY
    return When.BEFORE if day < loss.day else When.AFTER


def use_of(offered: Sequence[Offered], made: str | None, loss: Loss, already: Already) -> Use:
    """How useful what is `offered` is; `made`: RFC 3339, a day, or None."""
    there = [one for one in offered if not one.problem and not one.refused]
    before = sum(1 for one in there if loss.known and _day(one) and _day(one) <= loss.day)
    return Use(when_made(made, loss), already.covered(there), len(already.lost),
               sum(1 for one in there if not already.has(one)), before, made or "")


def _day(one: Offered) -> str:
    return (one.created or one.modified or "")[:10]


def places_of(job: Job) -> list[Path]:
    """Where backups may lie among the sources of a job: in its folders and its images, which are
    none themselves. Devices are spared: reading them again may be what they do not survive."""
    return [path for row in job.sources() if not is_distant(row.kind)
            and ((path := Path(lies_at(row.path))).is_dir() or path.is_file())]


def ranked(found: Sequence[FoundBackup], loss: Loss, already: Already) -> list[
        tuple[FoundBackup, Use]]:
    """Backups with how useful each is, the most useful first; those that nothing opens last."""
    judged = [(one, use_of(one.offered, one.facts.made if one.facts else None, loss, already))
              for one in found]
    judged.sort(key=lambda pair: pair[1].made, reverse=True)  # among equals the newest first
    return sorted(judged, key=lambda pair: (_is_lost(pair[0]), *pair[1].rank))


def _is_lost(found: FoundBackup) -> bool:
    """Whether nothing opens it; what is locked may hold anything."""
    return found.problem is not None and found.problem.code != "secret-wanted"
