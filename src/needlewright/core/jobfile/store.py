"""The job file: the one place that speaks SQL, with `lists`, `writing` and `reviews`.

Writes come in batches inside explicit transactions; lists are paged by index, and counts are kept
as they change, so 200,000 finds stay comfortable. Use one `Job` a thread.
"""

from __future__ import annotations

import json
import os
import time
from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path
from types import TracebackType
from typing import Any, TypeVar

from needlewright.core.codes import Reason
from needlewright.core.errors import JobError
from needlewright.core.finds import INSIDE, JOINED_FROM, Find
from needlewright.core.jobfile import folder as on_disk
from needlewright.core.jobfile.database import Database
from needlewright.core.jobfile.labels import Labels
from needlewright.core.jobfile.links import Links
from needlewright.core.jobfile.lists import (
    FIND_COLUMNS,
    FROM_FINDS,
    GROUP_BY_VOLUME,
    GROUPS,
    ORDER_BY_VOLUME,
    ORDERS,
    find_row,
    where,
)
from needlewright.core.jobfile.naming import name_by_size
from needlewright.core.jobfile.odd_rows import whole_row
from needlewright.core.jobfile.places import Places
from needlewright.core.jobfile.reviews import Reviews
from needlewright.core.jobfile.rows import (
    Filter,
    FindRecord,
    FindRow,
    SourceRow,
    TallyRow,
)
from needlewright.core.jobfile.searched import Searched
from needlewright.core.jobfile.sums import Sums
from needlewright.core.jobfile.threads import Threads
from needlewright.core.jobfile.writing import (
    CHECKS,
    RECORD_COLUMNS,
    SEAMS,
    FindWriter,
    checks_from,
    content_of_row,
    record_from,
    seams_from,
)
from needlewright.core.sources.source import Source
from needlewright.core.walks import Part

IDS_AT_ONCE = 500
SLICE = 25  # finds of one transaction
SALVAGE_ROWS = 64  # of a damaged file that are asked for at once
EVERYTHING = Filter()
ListedFind = tuple[int, int, int, int, int, int, int, str | None]
T = TypeVar("T")


class Job:
    """An open job folder. Raises JobError with a code for everything that is wrong with one."""

    def __init__(self, folder: str | os.PathLike[str], *, create: bool = False,
                 read_only: bool = False) -> None:
        self.folder = Path(folder).absolute()
        self.read_only = read_only
        self._database = Database(self.folder, create=create, read_only=read_only)
        self._writer = FindWriter(self._database, self.folder)
        self.reviews = Reviews(self._database)
        self.threads = Threads(self._database)
        self.sums = Sums(self._database)
        self.links = Links(self._database)
        self.labels = Labels(self._database)
        self.places = Places(self._database)
        self.searched = Searched(self._database)

    @property
    def title(self) -> str:
        return self.meta("title") or self.folder.name

    @property
    def damage(self) -> str | None:
        """What SQLite said of the job file where a part of it could not be read; None: all was."""
        return self._database.damage

    def close(self) -> None:
        self._database.close()

    def __enter__(self) -> Job:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.close()

    def meta(self, key: str) -> str | None:
        row = self._database.row("SELECT value FROM meta WHERE key = ?", (key,))
        return row[0] if row else None

    def set_meta(self, key: str, value: str) -> None:
        self._database.change("INSERT OR REPLACE INTO meta VALUES (?, ?)", (key, value))

    # sources

    def add_source(self, source: Source, path: str) -> SourceRow:
        """The row of the source at `path`, added where new; refused where its size changed."""
        for row in self.sources():
            if row.path == path:
                return row if row.size == source.size else self.resized(row, source)
        self._database.change(
            "INSERT INTO sources (kind, name, path, size, sector_size, added)"
            " VALUES (?, ?, ?, ?, ?, ?)", (source.kind, source.name, path, source.size,
                                           source.sector_size, time.time()))
        return self.sources()[-1]

    def resized(self, row: SourceRow, source: Source) -> SourceRow:
        """The row of a source whose size is another now: JobError for bytes in a line; a shelf is
        searched anew, and what was found on it stays."""
        if source.kind == Source.kind:
            raise JobError("source-changed", path=row.path, was=row.size, now=source.size)
        for change in ("UPDATE sources SET size = ?2, sha256 = NULL WHERE id = ?1",
                       "DELETE FROM coverage WHERE source = ?1 AND ?2",
                       "DELETE FROM steps WHERE source = ?1 AND ?2"):
            self._database.change(change, (row.id, source.size))
        return next(new for new in self.sources() if new.id == row.id)

    def sources(self) -> list[SourceRow]:
        rows = self._database.rows(
            "SELECT id, name, path, coalesce(size, 0), coalesce(sector_size, 0), sha256, kind"
            " FROM sources ORDER BY id")
        return self._database.readable(rows, lambda row: SourceRow(*row))

    def set_source_hash(self, source: int, sha256: str) -> None:
        self._database.change("UPDATE sources SET sha256 = ? WHERE id = ?", (sha256, source))

    # finds

    def add_finds(self, source: int, finds: Sequence[Find]) -> list[int]:
        """Write a batch; returns the ids of those that are new or better now, in order.

        Searching again adds to a job and never takes from it: a find that stands already is
        replaced, under its number, only where the new one is better or names it (see `merging`).
        """
        return self._in_slices(partial(self._writer.add, source), finds)

    def recheck_finds(self, source: int, finds: Sequence[Find]) -> list[int]:
        """Write what longer checks made of finds that stand already; returns their ids.

        The pictures that a find has stay where the new version brings none.
        """
        return self._in_slices(partial(self._writer.recheck, source), finds)

    def _in_slices(self, write: Callable[[Sequence[Find]], list[int]],
                   finds: Sequence[Find]) -> list[int]:
        """Write a few finds a transaction, so that who else writes never waits for long."""
        return [number for at in range(0, len(finds), SLICE)
                for number in self._database.write(partial(write, finds[at : at + SLICE]))]

    def name_by_size(self, source: int) -> list[int]:
        """Give leftover names to finds that have none (see `naming`); the ids of what changed."""
        return name_by_size(self._database, source)

    def thumbnail(self, number: int) -> bytes:
        """The JPEG thumbnail of a find; empty where there is none."""
        try:
            return on_disk.thumbnail_path(self.folder, number).read_bytes()
        except OSError:
            return b""

    def find_ids(self, wanted: Filter = EVERYTHING, order: str = "origin") -> list[ListedFind]:
        """(id, width, height, source, start, size, orientation, group) of all matches in `order`.

        The group is what heads them (see GROUPS); None where there is none. Of a damaged job file
        those that can still be read, by number.
        """
        terms, values = where(wanted)
        group, by = GROUPS.get(order, "NULL"), ORDERS[order]
        if order == "origin" and self._several_volumes():
            group, by = GROUP_BY_VOLUME, ORDER_BY_VOLUME
        columns = ("SELECT f.id, coalesce(f.width, 0), coalesce(f.height, 0), f.source, f.start,"
                   f" f.size, f.orientation, {group}{FROM_FINDS}")
        found = self._database.rows(f"{columns}{terms} ORDER BY {by}", values)
        if self._database.damage is not None:
            found = self._salvaged(f"{columns}{terms}{' AND' if terms else ' WHERE'}", values)
        return found  # type: ignore[return-value]

    def _salvaged(self, sql: str, values: Sequence[Any]) -> list[tuple[Any, ...]]:
        """The rows that a damaged file still gives, asked for a few at a time."""
        last = self._database.rows("SELECT seq FROM sqlite_sequence WHERE name = 'finds'")
        last += self._database.rows("SELECT max(id) FROM finds")  # either may be what is damaged
        found: dict[int, tuple[Any, ...]] = {}
        for low in range(0, max((row[0] or 0 for row in last), default=-1) + 1, SALVAGE_ROWS):
            for row in self._database.rows(f"{sql} f.id BETWEEN ? AND ?",
                                           (*values, low, low + SALVAGE_ROWS - 1)):
                found[row[0]] = row
        return [found[number] for number in sorted(found)]

    def _several_volumes(self) -> bool:
        """Whether any source has more than one."""
        return bool(self._database.rows(
            "SELECT 1 FROM volumes GROUP BY source HAVING count(*) > 1 LIMIT 1"))

    def rows(self, ids: Sequence[int]) -> list[FindRow]:
        """The rows of `ids`, in their order; unknown ids are left out."""
        found: dict[int, FindRow] = {}
        for at in range(0, len(ids), IDS_AT_ONCE):
            part = list(ids[at : at + IDS_AT_ONCE])
            marks = ",".join("?" * len(part))
            rows = self._database.rows(
                f"SELECT {FIND_COLUMNS}{FROM_FINDS} WHERE f.id IN ({marks})", part)
            found.update((row.id, row) for row in self._database.readable(rows, find_row))
        return [found[i] for i in ids if i in found]

    def matching(self, wanted: Filter = EVERYTHING, order: str = "origin") -> list[FindRow]:
        """All matching rows; for deliveries and reports, not for lists on screen."""
        terms, values = where(wanted)
        rows = self._database.rows(
            f"SELECT {FIND_COLUMNS}{FROM_FINDS}{terms} ORDER BY {ORDERS[order]}", values)
        if self._database.damage is not None:
            rows = self._salvaged(f"SELECT {FIND_COLUMNS}{FROM_FINDS}{terms}"
                                  f"{' AND' if terms else ' WHERE'}", values)
        return self._database.readable(rows, find_row)

    @whole_row()
    def record(self, number: int) -> FindRecord:
        """Everything about one find; JobError where there is none of that number."""
        rows = self.rows([number])
        found = self._database.row(
            "SELECT extra, parts, preview_start, preview_stop, content,"
            f" {', '.join(RECORD_COLUMNS)} FROM finds WHERE id = ?", (number,))
        if not rows or found is None:
            raise JobError("find-unknown", find=number)
        extra, parts, start, stop, content, *told = found
        extents = self._database.rows(
            "SELECT offset, length FROM extents WHERE find = ? ORDER BY place", (number,))
        around = self.links.of(number, INSIDE)
        origin = self.links.of(number, JOINED_FROM)
        return FindRecord(
            rows[0], content_of_row(content, extents),
            checks_from(self._database.rows(CHECKS, (number,))),
            tuple(Part(n, a, b) for n, a, b in json.loads(parts)), json.loads(extra),
            None if start is None else (start, stop), around[0] if around else None,
            record_from(told), seams_from(self._database.rows(SEAMS, (number,))),
            origin[0] if origin else None, *self.links.mended(number))

    def add_mended(self, source: int, find: Find, origin: int, changes: Sequence[Reason]) -> int:
        """Keep a find that was mended from `origin`, in place of an earlier one; its id."""
        told = json.dumps([[c.code, dict(c.values)] for c in changes])
        return self._database.write(
            partial(self._writer.add_mended, source, find, origin, told))

    def tally(self) -> list[TallyRow]:
        """Running counts by source, step, kind and grade."""
        rows = self._database.rows(
            "SELECT source, step, kind, grade, finds, bytes FROM tally WHERE finds > 0"
            " ORDER BY 1, 2, 3, 4")
        return [TallyRow(*row) for row in rows]

    # tray

    # steps and log

    def log(self, code: str, values: dict[str, Any] | None = None) -> None:
        self._database.change("INSERT INTO log (at, code, detail) VALUES (?, ?, ?)",
                              (time.time(), code, json.dumps(values or {}, default=str)))

    def log_lines(self, newest: int = 500) -> list[tuple[float, str, dict[str, Any]]]:
        """(seconds since 1970, code, values) of the newest entries, oldest first."""
        rows = self._database.rows(
            "SELECT at, code, detail FROM log ORDER BY id DESC LIMIT ?", (newest,))
        return self._database.readable(reversed(rows), lambda r: (r[0], r[1], json.loads(r[2])))
