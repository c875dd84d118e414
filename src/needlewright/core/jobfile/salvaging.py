"""What can be read of a damaged job file, row by row, for a new one."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from needlewright.core.checks.grading import Grade
from needlewright.core.errors import JobError
from needlewright.core.jobfile.database import Database, Row
from needlewright.core.jobfile.store import SALVAGE_ROWS, Job
from needlewright.core.stopping import Interrupted, StopSignal

#: Neither what was covered nor how far steps came: searched again, what the damage took comes back.
OF_THE_JOB = ("meta", "sources", "volumes", "log")
OF_FINDS = ("extents", "checks", "seams", "reviews", "threads", "labels", "link_waits")
JUDGED = ("finds", "extents", "checks")  # a find of which a part of these is lost is left
TALLIED = ("INSERT INTO tally SELECT source, substr(found_by, 1, instr(found_by || ',', ',') - 1),"
           " kind, grade, count(*), sum(size) FROM finds GROUP BY 1, 2, 3, 4")


def copy_rows(old: Job, new: Job, stop: StopSignal) -> tuple[list[int], int]:
    """Copy what can be read of `old` into the empty job `new`: (the ids of the finds copied, how
    many `old` is known to have had). Raises JobError where nothing can be written, Interrupted."""
    source, to = old._database, new._database
    columns = {table: _columns(source, to, table)
               for table in (*OF_THE_JOB, "finds", *OF_FINDS, "links")}
    for table in OF_THE_JOB:
        rows = source.rows(f"SELECT {columns[table]} FROM {table}")
        to.write(partial(_insert, to, table, columns[table], rows))
    known = {row[0] for row in to.rows("SELECT id FROM sources")}
    ids = [row[0] for row in old.find_ids(order="found")]
    copied: list[int] = []
    links: list[Row] = []
    for at in range(0, len(ids), SALVAGE_ROWS):
        if stop.is_set():
            raise Interrupted
        some = {n: _whole(old, n, columns, known) for n in ids[at : at + SALVAGE_ROWS]}
        whole = {n: tables for n, tables in some.items() if tables is not None}
        for tables in whole.values():
            links += tables.pop("links")
        to.write(partial(_insert_all, to, columns, list(whole.values())))
        copied += whole
    place, there = columns["links"].split(", ").index("other"), set(copied)
    to.write(partial(_insert, to, "links", columns["links"],
                     [row for row in links if row[place] in there]))
    to.change(TALLIED)
    _go_on_counting(source, to, ids)
    return copied, max(len(ids), sum(row.finds for row in old.tally()))


def _whole(old: Job, number: int, columns: dict[str, str], sources: set[int]
           ) -> dict[str, list[Row]] | None:
    """All rows of a find by table; None where what it is judged by cannot be read or makes no
    sense: a grade says nothing without its checks. Of the rest as much as can be read."""
    try:
        record = old.record(number)
    except JobError:
        return None
    there = record.row.grade == Grade.GONE or record.content.size == record.row.size
    if record.row.source not in sources or not record.checks or not there:
        return None
    database, tables = old._database, dict[str, list[Row]]()
    for table in ("finds", *OF_FINDS, "links"):
        before, database.damage = database.damage, None
        tables[table] = database.rows(
            f"SELECT {columns[table]} FROM {table}"
            f" WHERE {'id' if table == 'finds' else 'find'} = ?", (number,))
        met, database.damage = database.damage, before
        if met is not None and table in JUDGED:
            return None
    return tables


def _go_on_counting(source: Database, to: Database, ids: Sequence[int]) -> None:
    """Numbers of finds that were lost are not given out again."""
    last = source.rows("SELECT seq FROM sqlite_sequence WHERE name = 'finds'")
    # Where nothing was copied there is no row of it yet.
    to.change("DELETE FROM sqlite_sequence WHERE name = 'finds'")
    to.change("INSERT INTO sqlite_sequence (name, seq) VALUES ('finds', ?)",
              (max([*ids, *(row[0] for row in last)], default=0),))


def _insert_all(to: Database, columns: dict[str, str], finds: Sequence[dict[str, list[Row]]]
                ) -> None:
    for tables in finds:
        for table, rows in tables.items():
            _insert(to, table, columns[table], rows)


def _columns(source: Database, to: Database, table: str) -> str:
    """The columns that both have."""
    there = {row[1] for row in source.rows(f"PRAGMA table_info({table})")}
    return ", ".join(row[1] for row in to.rows(f"PRAGMA table_info({table})") if row[1] in there)


def _insert(to: Database, table: str, columns: str, rows: Sequence[Row]) -> None:
    marks = ", ".join("?" * len(columns.split(", ")))
    to.many(f"INSERT OR IGNORE INTO {table} ({columns}) VALUES ({marks})", rows)
