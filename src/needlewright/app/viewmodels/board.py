"""What the stations show of an open job beside its finds: read at once, away from the window."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from needlewright.core.errors import JobError
from needlewright.core.jobfile.rows import FindRecord, FindRow, SourceRow, StepRow, TallyRow
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.about import about_of
from needlewright.core.jobs.comparing import versions_of
from needlewright.core.jobs.pairs import partners
from needlewright.core.search.events import VolumeSeen
from needlewright.core.sources.shelf import is_distant
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
    about: dict[int, dict[str, Any]] = field(default_factory=dict)  # by source: what it says itself

    @property
    def finds(self) -> int:
        return sum(t.finds for t in self.tally)


NO_JOB = Board()
MENDABLE = ("photo", "video")  # kinds of finds


def board_of(job: Job, just: Sequence[int] = ()) -> Board:
    """The board of `job`; `just`: ids of the newest finds."""
    sources = tuple(job.sources())
    return Board(job.folder, job.title, sources, tuple(job.tally()), tuple(job.searched.steps()),
                 job.reviews.tray_size(), tuple(job.rows(just)), waiting_of(job).count,
                 {s.id: tuple(job.searched.volumes(s.id)) for s in sources},
                 {s.id: about_of(job, s.id) for s in sources if is_distant(s.kind)})


@dataclass(frozen=True, slots=True)
class Waiting:
    """The bench's list: what waits, by its place, then what was mended, then what nothing can be
    done for. `treated`: id -> (grade, share after mending, why nothing was done)."""

    ids: tuple[int, ...] = ()
    treated: Mapping[int, tuple[str, float, str]] = field(default_factory=dict)

    @property
    def count(self) -> int:
        """How many wait still."""
        return sum(number not in self.treated for number in self.ids)

    @property
    def left(self) -> list[int]:
        """Those that were not mended: what waits, and what an earlier try could do nothing for."""
        return [i for i in self.ids if i not in self.treated or not self.treated[i][0]]


def waiting_of(job: Job) -> Waiting:
    """What stands in the bench's list."""
    treated = job.links.treated()
    ids = job.places.damaged(MENDABLE, formats_by_hand())

    def order(number: int) -> int:
        return 0 if number not in treated else 1 if treated[number][0] else 2

    return Waiting(tuple(sorted(ids, key=order)), {i: treated[i] for i in ids if i in treated})


@dataclass(frozen=True, slots=True)
class Version:
    """The same as a find, of another source. `place`: that source's name."""

    row: FindRow
    relation: str
    place: str


@dataclass(frozen=True, slots=True)
class Shown:
    """One find with what stands around it: its source, the finds before and behind it there."""

    record: FindRecord
    source: SourceRow | None
    before: FindRow | None
    behind: FindRow | None
    partner: FindRow | None = None  # a still and its clip are one
    versions: tuple[Version, ...] = ()


def shown_of(job: Job, number: int) -> Shown | None:
    """All about find `number`; None where it is there no more or cannot be read."""
    try:
        record = job.record(number)
        names = {s.id: s.name for s in job.sources()}
        versions = tuple(Version(row, relation, names.get(row.source, "?"))
                         for other, relation in versions_of(job, number)
                         for row in job.rows([other]))
        source = next((s for s in job.sources() if s.id == record.row.source), None)
        return Shown(record, source, *job.places.neighbours(record.row),
                     partners(job, [record.row]).get(number), versions)
    except JobError:
        return None
