"""A still and its short clip: many phones take both at once, and keep them as two files of one name
in one folder.
"""

from __future__ import annotations

from collections.abc import Iterable

from needlewright.core.jobfile.rows import FindRow
from needlewright.core.jobfile.store import Job
from needlewright.core.sources.shelf import is_distant

LONGEST = 5.0  # seconds of such a clip
PHOTO, CLIP = "photo", "video"


def partners(job: Job, rows: Iterable[FindRow]) -> dict[int, FindRow]:
    """Number of a find among `rows` -> what goes with it."""
    phones = {source.id for source in job.sources() if is_distant(source.kind)}
    wanted = [row for row in rows if row.source in phones and row.path
              and row.kind in (PHOTO, CLIP)]
    known: dict[tuple[int, str, str], dict[str, list[FindRow]]] = {}
    for source, folder in {(row.source, _folder(row)) for row in wanted}:
        for row in job.places.in_folder(source, folder):
            if row.kind == PHOTO or (row.duration_s is not None and row.duration_s <= LONGEST):
                known.setdefault((source, folder, _stem(row)), {}).setdefault(
                    row.kind, []).append(row)
    found = {}
    for row in wanted:
        others = known.get((row.source, _folder(row), _stem(row)), {})
        mine, theirs = others.get(row.kind, []), others.get(CLIP if row.kind == PHOTO else PHOTO,
                                                            [])
        if len(theirs) == 1 and [m.id for m in mine] == [row.id]:  # else nothing says which
            found[row.id] = theirs[0]
    return found


def with_partners(job: Job, ids: Iterable[int]) -> list[int]:
    """`ids`, and what goes with them."""
    ids = list(ids)
    more = [row.id for row in partners(job, job.rows(ids)).values()]
    return list(dict.fromkeys((*ids, *more)))


def _folder(row: FindRow) -> str:
    return (row.path or "").rpartition("/")[0]


def _stem(row: FindRow) -> str:
    return (row.name or "").rpartition(".")[0].casefold()
