"""What a job has already: whole finds by name and size, and by the hash of their content; and what
it lacks. By these what a shelf offers is compared before anything is fetched.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

from needlewright.core.checks.grading import Grade
from needlewright.core.contents import Brought, Stored
from needlewright.core.jobfile.rows import Filter
from needlewright.core.jobfile.store import Job
from needlewright.core.sources.shelf import Offered, is_distant

SOUND = frozenset((str(Grade.WHOLE), str(Grade.MENDED)))
HASHED = 64  # letters of a SHA-256


@dataclass(slots=True)
class Already:
    """`whole`: (name without case, bytes) of whole finds; `hashes`: of their contents, as far as
    they are known; `lost`: names of finds that were removed or are not whole, which no whole find
    has -> the days that they are dated."""

    whole: set[tuple[str, int]] = field(default_factory=set)
    hashes: set[str] = field(default_factory=set)
    lost: dict[str, set[str]] = field(default_factory=dict)

    def has(self, offered: Offered) -> bool:
        """Whether the very file is there, as far as its name and size, or its hash, tell."""
        if offered.sha256 and offered.sha256 in self.hashes:
            return True
        name = name_of(offered.entry.path)
        return offered.size is not None and (name, offered.size) in self.whole

    def misses(self, offered: Offered) -> bool:
        """Whether it is one that was lost: of its name, and of its day where both are known."""
        days = self.lost.get(name_of(offered.entry.path))
        if days is None:
            return False
        mine = {told[:10] for told in (offered.created, offered.modified) if told}
        return not days or not mine or bool(days & mine)

    def covered(self, every: Iterable[Offered]) -> int:
        """How many of the names that were lost are among what is offered."""
        return len({name_of(one.entry.path) for one in every
                    if not one.problem and self.misses(one)})


def name_of(path: str) -> str:
    """By what names are compared."""
    return path.rpartition("/")[2].casefold()


def already_there(job: Job, but: int | None = None) -> Already:
    """What `job` has, of all sources other than `but`."""
    found = Already()
    distant = {row.id for row in job.sources() if is_distant(row.kind)}
    damaged: dict[str, set[str]] = {}
    hashed = []
    for row in job.matching(Filter()):
        if row.source == but or not row.name:
            continue
        name = row.name.casefold()
        if row.grade in SOUND:
            found.whole.add((name, row.size))
            if row.source in distant:
                hashed.append(row.id)
        else:
            damaged.setdefault(name, set()).update(
                told[:10] for told in (row.taken, row.modified) if told)
        if row.removed and row.grade not in SOUND:
            damaged.setdefault(name, set())
    whole_names = {name for name, _ in found.whole}
    found.lost = {name: days for name, days in damaged.items() if name not in whole_names}
    for number in hashed:
        content = job.record(number).content
        if isinstance(content, Brought | Stored) and len(content.sha256) == HASHED:
            found.hashes.add(content.sha256)
    return found
