"""The log and the journal that belong to a database: without them it lacks what was written last
(SQLite file format, sections 3 and 4: they bear its name, with an ending of their own)."""

from __future__ import annotations

from collections.abc import Iterable
from contextlib import ExitStack, suppress

from needlewright.core.checks.grading import Grade
from needlewright.core.databases.logs import JOURNAL, LOG
from needlewright.core.errors import NeedlewrightError
from needlewright.core.formats.recognising import DATABASE
from needlewright.core.jobfile.rows import FindRow
from needlewright.core.jobfile.store import Job
from needlewright.core.jobs.media import Media
from needlewright.core.sources.source import Source


def logs_of(job: Job, row: FindRow) -> dict[str, FindRow]:
    """LOG and JOURNAL -> the find that is one of the database `row`, where there is just one: it
    lies beside it, and both were removed, or neither."""
    if row.format != DATABASE or not row.path:
        return {}
    found = {}
    for ending in (LOG, JOURNAL):
        there = [other for other in job.places.at_path(row.source, row.path + ending)
                 if other.removed == row.removed and other.grade != Grade.GONE and other.size]
        if len(there) == 1:
            found[ending] = there[0]
    mine = [other for other in job.places.at_path(row.source, row.path)
            if other.removed == row.removed and other.format == DATABASE]
    return found if len(mine) == 1 else {}  # nobody knows of which it is


def with_logs(job: Job, rows: Iterable[FindRow]) -> tuple[list[FindRow],
                                                          dict[int, tuple[int, str]]]:
    """(`rows` and the logs of the databases among them, the number of each log -> (that of its
    database, its ending))."""
    chosen = list(rows)
    numbers = {row.id for row in chosen}
    owners: dict[int, tuple[int, str]] = {}
    for row in list(chosen):
        for ending, log in logs_of(job, row).items():
            owners[log.id] = row.id, ending
            if log.id not in numbers:
                numbers.add(log.id)
                chosen.append(log)
    return chosen, owners


def open_logs(job: Job, row: FindRow, media: Media, held: ExitStack) -> dict[str, Source]:
    """LOG and JOURNAL of a database, open until `held` ends, as far as they can be read."""
    found = {}
    for ending, log in logs_of(job, row).items():
        with suppress(NeedlewrightError):
            found[ending] = held.enter_context(media.content(job.record(log.id)))
    return found
