"""The finds of a shelf by the days from which they are."""

from __future__ import annotations

from dataclasses import dataclass

from needlewright.core.jobfile.store import Job


@dataclass(frozen=True, slots=True)
class Day:
    """One day, as YYYY-MM-DD ("": none is known), with its finds in the order of their times;
    `removed` of them were removed."""

    date: str
    finds: tuple[int, ...]
    removed: int


def days_of(job: Job, source: int) -> tuple[Day, ...]:
    """The days of the finds of a source, in order; those of unknown date last."""
    by_day: dict[str, list[tuple[str, int, bool]]] = {}
    for row in job.matching():
        if row.source == source and row.grade != "gone":
            time = row.taken or row.modified or ""
            by_day.setdefault(time[:10], []).append((time, row.id, bool(row.removed)))
    return tuple(
        Day(date, tuple(number for _, number, _ in sorted(rows)),
            sum(1 for *_, removed in rows if removed))
        for date, rows in sorted(by_day.items(), key=lambda item: (not item[0], item[0])))
