"""What can be read of a damaged job file, row by row, for a new one."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from typing import Any

from needlewright.core.checks.grading import Grade
from needlewright.core.errors import JobError
from needlewright.core.jobfile.database import Database
from needlewright.core.jobfile.store import SALVAGE_ROWS, Job
from needlewright.core.stopping import Interrupted, StopSignal

#: Neither what was covered nor how far steps came: searched again, what the damage took comes back.
OF_THE_JOB = ("meta", "sources", "volumes", "log")
OF_FINDS = ("extents", "checks", "seams", "reviews", "threads", "labels", "link_waits")
TALLIED = ("INSERT INTO tally SELECT source, substr(found_by, 1, instr(found_by || ',', ',') - 1),"
           " kind, grade, count(*), sum(size) FROM finds GROUP BY 1, 2, 3, 4")


def copy_rows(old: Job, new: Job, stop: StopSignal) -> tuple[int, int]:
    """Copy what can be read of `old` into the empty job `new`: (finds copied, finds that `old` is
    known to have had). Raises JobError where nothing can be written, Interrupted."""
    source, to = old._database, new._database
    columns = {table: _columns(source, to, table)
               for table in (*OF_THE_JOB, *OF_FINDS, "finds", "links")}
    for table in OF_THE_JOB:
        rows = source.rows(f"SELECT {columns[table]} FROM {table}")
        to.write(partial(_insert, to, table, columns[table], rows))
    known = {row[0] for row in to.rows("SELECT id FROM sources")}
    ids = [row[0] for row in old.find_ids(order="found")]
    copied = set[int]()
    for at in range(0, len(ids), SALVAGE_ROWS):
        if stop.is_set():
            raise Interrupted
        whole = [n for n in ids[at : at + SALVAGE_ROWS] if _makes_sense(old, n, known)]

        def write(whole: Sequence[int] = whole) -> None:
            for number in whole:
                for table in ("finds", *OF_FINDS):
                    by = "id" if table == "finds" else "find"
                    _insert(to, table, columns[table], source.rows(
                        f"SELECT {columns[table]} FROM {table} WHERE {by} = ?", (number,)))

        to.write(write)
        copied.update(whole)
    links = [row for number in sorted(copied) for row in source.rows(
        f"SELECT {columns['links']} FROM links WHERE find = ?", (number,))]
    place = columns["links"].split(", ").index("other")
    to.write(lambda: _insert(to, "links", columns["links"],
                             [row for row in links if row[place] in copied]))
    to.change(TALLIED)
    return len(copied), max(len(ids), sum(row.finds for row in old.tally()))


def _columns(source: Database, to: Database, table: str) -> str:
    """The columns that both have."""
    there = {row[1] for row in source.rows(f"PRAGMA table_info({table})")}
    return ", ".join(row[1] for row in to.rows(f"PRAGMA table_info({table})") if row[1] in there)


def _insert(to: Database, table: str, columns: str, rows: Sequence[tuple[Any, ...]]) -> None:
    marks = ", ".join("?" * len(columns.split(", ")))
    to.many(f"INSERT OR IGNORE INTO {table} ({columns}) VALUES ({marks})", rows)


def _makes_sense(old: Job, number: int, sources: set[int]) -> bool:
    """Whether all that is kept of a find can be read: its grade says nothing without its checks."""
    try:
        record = old.record(number)
    except JobError:
        return False
    there = record.row.grade == Grade.GONE or record.content.size == record.row.size
    return record.row.source in sources and bool(record.checks) and there
