"""What the stations show of an open job beside its finds: read at once, away from the window."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

from needlewright.core.errors import JobError
from needlewright.core.jobs.rows import FindRecord, FindRow, SourceRow, StepRow, TallyRow
from needlewright.core.jobs.store import Job
from needlewright.core.search.events import VolumeSeen
from needlewright.core.stitching.base import formats_by_hand


@dataclass(frozen=True, slots=True)
class Board:
    """`tray`: finds and bytes in it; `just`: the newest finds. Without a folder no job is open."""

    folder: Path | None = None
    title: str = ""
    sources: tuple[SourceRow, ...] = ()
    tally: tuple[TallyRow, ...] = ()
    steps: tuple[StepRow, ...] = ()
    tray: tuple[int, int] = (0, 0)
    just: tuple[FindRow, ...] = ()
    waiting: int = 0  # finds that wait at the bench
    volumes: dict[int, tuple[VolumeSeen, ...]] = field(default_factory=dict)  # by source

    @property
    def finds(self) -> int:
        return sum(t.finds for t in self.tally)


NO_JOB = Board()
MENDABLE = ("photo", "video")  # kinds of finds


def board_of(job: Job, just: Sequence[int] = ()) -> Board:
    """The board of `job`; `just`: ids of the newest finds."""
    sources = tuple(job.sources())
    return Board(job.folder, job.title, sources, tuple(job.tally()), tuple(job.steps()),
                 job.tray_size(), tuple(job.rows(just)), len(waiting_of(job)),
                 {s.id: tuple(job.volumes(s.id)) for s in sources})


def waiting_of(job: Job) -> list[int]:
    """The finds that wait at the bench, by their places."""
    return job.damaged(MENDABLE, formats_by_hand())


@dataclass(frozen=True, slots=True)
class Shown:
    """One find with what stands around it: its source, the finds before and behind it there."""

    record: FindRecord
    source: SourceRow | None
    before: FindRow | None
    behind: FindRow | None


def shown_of(job: Job, number: int) -> Shown | None:
    """All about find `number`; None where it is there no more or cannot be read."""
    try:
        record = job.record(number)
        source = next((s for s in job.sources() if s.id == record.row.source), None)
        return Shown(record, source, *job.neighbours(record.row))
    except JobError:
        return None
