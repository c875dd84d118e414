"""The job file: the one place that speaks SQL, with `lists`, `writing` and `reviews`.

Writes come in batches inside explicit transactions; lists are paged by index, and counts are kept
as they change, so 200,000 finds stay comfortable. Use one `Job` a thread.
"""

from __future__ import annotations

import json
import os
import time
from collections.abc import Callable, Iterable, Sequence
from functools import partial
from pathlib import Path
from types import TracebackType
from typing import Any, TypeVar

from needlewright.core.codes import Reason
from needlewright.core.errors import JobError
from needlewright.core.finds import INSIDE, JOINED_FROM, MENDED_FROM, NOT_MENDED, Find
from needlewright.core.jobs import folder as places
from needlewright.core.jobs.coverage import CoverageRow
from needlewright.core.jobs.database import Database
from needlewright.core.jobs.lists import (
    FIND_COLUMNS,
    FROM_FINDS,
    GROUP_BY_VOLUME,
    GROUPS,
    ORDER_BY_VOLUME,
    ORDERS,
    find_row,
    where,
)
from needlewright.core.jobs.naming import name_by_size
from needlewright.core.jobs.odd_rows import readable, whole_row
from needlewright.core.jobs.reviews import TRAY, Reviews
from needlewright.core.jobs.rows import (
    Filter,
    FindRecord,
    FindRow,
    SourceRow,
    StepRow,
    TallyRow,
)
from needlewright.core.jobs.sums import Sums
from needlewright.core.jobs.threads import Threads
from needlewright.core.jobs.writing import (
    CHECKS,
    ON_SHELF,
    RECORD_COLUMNS,
    SEAMS,
    FindWriter,
    checks_from,
    content_of_row,
    record_from,
    seams_from,
)
from needlewright.core.search.events import VolumeSeen
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

    def _readable(self, rows: Iterable[Any], make: Callable[[Any], T]) -> list[T]:
        return readable(rows, make, self._database.damaged)

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
        return self._readable(rows, lambda row: SourceRow(*row))

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
            return places.thumbnail_path(self.folder, number).read_bytes()
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
        last = self._database.rows("SELECT max(seq) FROM sqlite_sequence WHERE name = 'finds'")
        found: dict[int, tuple[Any, ...]] = {}
        for low in range(0, (last[0][0] or 0) + 1 if last else 0, SALVAGE_ROWS):
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
            found.update((row.id, row) for row in self._readable(rows, find_row))
        return [found[i] for i in ids if i in found]

    def matching(self, wanted: Filter = EVERYTHING, order: str = "origin") -> list[FindRow]:
        """All matching rows; for deliveries and reports, not for lists on screen."""
        terms, values = where(wanted)
        rows = self._database.rows(
            f"SELECT {FIND_COLUMNS}{FROM_FINDS}{terms} ORDER BY {ORDERS[order]}", values)
        if self._database.damage is not None:
            rows = self._salvaged(f"SELECT {FIND_COLUMNS}{FROM_FINDS}{terms}"
                                  f"{' AND' if terms else ' WHERE'}", values)
        return self._readable(rows, find_row)

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
        around = self.related(number, INSIDE)
        origin = self.related(number, JOINED_FROM)
        return FindRecord(
            rows[0], content_of_row(content, extents),
            checks_from(self._database.rows(CHECKS, (number,))),
            tuple(Part(n, a, b) for n, a, b in json.loads(parts)), json.loads(extra),
            None if start is None else (start, stop), around[0] if around else None,
            record_from(told), seams_from(self._database.rows(SEAMS, (number,))),
            origin[0] if origin else None, *self._mended(number))

    def _mended(self, number: int) -> tuple[int | None, tuple[Reason, ...]]:
        """(the find that `number` was mended from, what was changed)."""
        row = self._database.row("SELECT other, detail FROM links WHERE find = ? AND relation = ?",
                                 (number, MENDED_FROM))
        if row is None:
            return None, ()
        told = json.loads(row[1]) if row[1] else []
        return int(row[0]), tuple(Reason(str(code), dict(values)) for code, values in told)

    def add_mended(self, source: int, find: Find, origin: int, changes: Sequence[Reason]) -> int:
        """Keep a find that was mended from `origin`, in place of an earlier one; its id."""
        told = json.dumps([[c.code, dict(c.values)] for c in changes])
        return self._database.write(
            partial(self._writer.add_mended, source, find, origin, told))

    def treated(self) -> dict[int, tuple[str, float, str]]:
        """Damaged finds that mending was tried on -> (grade, share of what was mended from it, why
        nothing was: a code, or "")."""
        rows = self._database.rows(
            "SELECT l.other, m.grade, m.share, '' FROM links l JOIN finds m ON m.id = l.find"
            " WHERE l.relation = ? UNION ALL"
            " SELECT find, '', 0.0, detail FROM links WHERE relation = ?",
            (MENDED_FROM, NOT_MENDED))
        # What was mended counts, whatever came of an earlier try.
        return {row[0]: (row[1], row[2], row[3]) for row in reversed(rows)}

    def related(self, number: int, relation: str, back: bool = False) -> list[int]:
        """The finds that `number` has a relation to; with `back`, those that have it to it."""
        mine, others = ("other", "find") if back else ("find", "other")
        return [row[0] for row in self._database.rows(
            f"SELECT {others} FROM links WHERE {mine} = ? AND relation = ? ORDER BY 1",
            (number, relation))]

    def links(self, relation: str) -> list[tuple[Any, ...]]:
        """(find, other) of all that have a relation."""
        return self._database.rows("SELECT find, other FROM links WHERE relation = ?", (relation,))

    def relate(self, number: int, other: int, relation: str, detail: str = "") -> None:
        """Keep that find `number` has a relation to find `other`."""
        self._database.change("INSERT OR REPLACE INTO links VALUES (?, ?, ?, ?)",
                              (number, other, relation, detail))

    def relate_all(self, pairs: Sequence[tuple[int, int]], relation: str) -> None:
        """The same for many, in the place of all that had it before."""
        def write() -> None:
            self._database.run("DELETE FROM links WHERE relation = ?", (relation,))
            self._database.many("INSERT OR REPLACE INTO links VALUES (?, ?, ?, '')",
                                ((one, other, relation) for one, other in pairs))

        self._database.write(write)

    def set_missing(self, ids: Iterable[int]) -> None:
        """Keep which finds are on a shelf alone, in the place of what was kept before."""
        def write() -> None:
            self._database.run("DELETE FROM missing")
            self._database.many("INSERT INTO missing VALUES (?)", ((n,) for n in ids))

        self._database.write(write)

    def spans(self, source: int) -> list[tuple[int, int, int]]:
        """(id, first byte, length of the first extent) of all finds of a source, by place; of the
        files of a shelf their places on it."""
        return self._database.rows(  # type: ignore[return-value]
            f"SELECT id, start, size FROM finds WHERE source = ?1 AND {ON_SHELF} UNION ALL "
            "SELECT f.id, e.offset, e.length FROM finds f JOIN extents e ON e.find = f.id"
            " WHERE f.source = ?1 AND e.offset IS NOT NULL ORDER BY 2", (source,))

    def whole_spans(self, source: int) -> list[tuple[int, int]]:
        """(start, stop) of all extents of finds that are whole and that a record names."""
        return self._database.rows(  # type: ignore[return-value]
            "SELECT e.offset, e.offset + e.length FROM finds f JOIN extents e ON e.find = f.id"
            " WHERE f.source = ? AND f.grade = 'whole' AND f.content IS NULL"
            " AND f.record_at IS NOT NULL"
            " AND e.offset IS NOT NULL ORDER BY e.offset", (source,))

    def owned_spans(self, source: int) -> list[tuple[int, int]]:
        """(start, stop) of all extents of finds that are whole."""
        return self._database.rows(  # type: ignore[return-value]
            "SELECT e.offset, e.offset + e.length FROM finds f JOIN extents e ON e.find = f.id"
            " WHERE f.source = ? AND f.grade = 'whole' AND e.offset IS NOT NULL"
            " ORDER BY e.offset", (source,))

    def whole_starts(self, source: int) -> list[int]:
        """The first bytes of the finds that are whole."""
        return [row[0] for row in self._database.rows(
            "SELECT DISTINCT start FROM finds WHERE source = ? AND grade = 'whole'"
            " AND content IS NULL", (source,))]

    def pieces(self, source: int) -> list[tuple[int, int, int]]:
        """(id, byte, length) of the extents of whole finds in several pieces, in file order."""
        return self._database.rows(  # type: ignore[return-value]
            "SELECT e.find, e.offset, e.length FROM extents e JOIN finds f ON f.id = e.find"
            " WHERE f.source = ? AND f.grade = 'whole' AND e.offset IS NOT NULL"
            " AND e.find IN (SELECT find FROM extents WHERE place = 1)"
            " ORDER BY e.find, e.place LIMIT 100000", (source,))

    def proven(self, source: int) -> list[tuple[int, int]]:
        """(id, size) of the removed files of a source that are whole and that a record names."""
        return self._database.rows(  # type: ignore[return-value]
            "SELECT id, size FROM finds WHERE source = ? AND grade = 'whole' AND removed = 1"
            " AND record_at IS NOT NULL AND content IS NULL", (source,))

    def broken(self, source: int) -> list[tuple[int, str, str, int | None, str]]:
        """(id, key, format, byte where it breaks, why) of the finds of a source that are not whole
        and not gone, and of which no stitched one is whole."""
        return self._database.rows(  # type: ignore[return-value]
            "SELECT id, key, format, broken_at, coalesce(broken_why, '') FROM finds"
            " WHERE source = ? AND grade IN ('unproven', 'partial', 'remnant')"
            " AND id NOT IN (SELECT find FROM seams)"
            " AND id NOT IN (SELECT l.other FROM links l JOIN finds s ON s.id = l.find"
            f" WHERE l.relation = '{JOINED_FROM}' AND s.grade = 'whole') ORDER BY start",
            (source,))

    def break_of(self, number: int) -> tuple[str, int | None, str]:
        """(key, byte of the source where it breaks, why) of a find."""
        row = self._database.row(
            "SELECT key, broken_at, coalesce(broken_why, '') FROM finds WHERE id = ?", (number,))
        if row is None:
            raise JobError("find-unknown", find=number)
        return row[0], row[1], row[2]

    def damaged(self, kinds: Sequence[str], formats: Sequence[str]) -> list[int]:
        """The ids of the partial finds of these kinds, and of all clips and sounds of these
        formats that are not whole, and of those that are there as files what is left of any of
        these kinds; in the order of their places; without those that are inside another or of
        which a stitched one is whole."""
        marks = ",".join("?" * len(kinds))
        terms = " OR ".join((f"grade = 'partial' AND kind IN ({marks})",
                             f"removed = 0 AND kind IN ({marks})",
                             "kind IN ('video', 'audio') AND"
                             f" format IN ({','.join('?' * len(formats))})"))
        return [row[0] for row in self._database.rows(
            f"SELECT id FROM finds WHERE grade IN ('partial', 'remnant') AND ({terms})"
            " AND id NOT IN (SELECT find FROM seams)"
            f" AND id NOT IN (SELECT find FROM links WHERE relation = '{INSIDE}')"
            " AND id NOT IN (SELECT l.other FROM links l JOIN finds s ON s.id = l.find"
            f" WHERE l.relation = '{JOINED_FROM}' AND s.grade = 'whole')"
            f" AND id NOT IN (SELECT find FROM links WHERE relation = '{MENDED_FROM}')"
            " ORDER BY source, start, id",
            (*kinds, *kinds, *formats))]

    def in_folder(self, source: int, folder: str) -> list[FindRow]:
        """The photos and clips of one folder of a source."""
        return self._readable(self._database.rows(
            f"SELECT {FIND_COLUMNS}{FROM_FINDS} WHERE f.source = ? AND f.folder = ?"
            " AND f.kind IN ('photo', 'video')", (source, folder)), find_row)

    def at_path(self, source: int, path: str) -> list[FindRow]:
        """The finds that a source holds at just this path."""
        return self._readable(self._database.rows(
            f"SELECT {FIND_COLUMNS}{FROM_FINDS} WHERE f.source = ? AND f.path = ?",
            (source, path)), find_row)

    def neighbours(self, row: FindRow) -> tuple[FindRow | None, FindRow | None]:
        """The finds that lie before and behind `row` on its source, where there are any."""
        found = []
        for compare, order in (("<", "DESC"), (">", "ASC")):
            beside = self._database.rows(
                f"SELECT id FROM finds WHERE source = ? AND start {compare} ? AND grade <> 'gone'"
                f" ORDER BY start {order} LIMIT 1", (row.source, row.start))
            found.append(next(iter(self.rows([beside[0][0]])), None) if beside else None)
        return found[0], found[1]

    def tally(self) -> list[TallyRow]:
        """Running counts by source, step, kind and grade."""
        rows = self._database.rows(
            "SELECT source, step, kind, grade, finds, bytes FROM tally WHERE finds > 0"
            " ORDER BY 1, 2, 3, 4")
        return [TallyRow(*row) for row in rows]

    # tray

    def put_in_tray(self, ids: Iterable[int]) -> None:
        """Choose finds for delivery; those that are gone cannot be."""
        self.reviews.mark(TRAY, ids, True)

    def take_from_tray(self, ids: Iterable[int]) -> None:
        self.reviews.mark(TRAY, ids, False)

    def tray_size(self) -> tuple[int, int]:
        """(finds, bytes) in the tray."""
        return self.reviews.tray_size()

    # steps and log

    def save_step(self, row: StepRow) -> None:
        self._database.change(
            "INSERT OR REPLACE INTO steps VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
            (row.source, row.step, ",".join(row.kinds), row.area_start, row.area_stop,
             row.checkpoint, row.ending, time.time(), row.state))

    def cover(self, row: CoverageRow) -> None:
        """Keep how far a pass has come; the same pass replaces its own row."""
        self._database.change(
            "INSERT OR REPLACE INTO coverage VALUES (?, ?, ?, ?, ?, ?, ?)",
            (row.source, row.step, ",".join(row.tokens), int(row.every_byte),
             int(row.every_frame), row.start, row.stop))

    def coverage(self, source: int, step: str) -> list[CoverageRow]:
        """What `step` has covered of a source."""
        rows = self._database.rows(
            "SELECT source, step, tokens, every_byte, every_frame, start, stop FROM coverage"
            " WHERE source = ? AND step = ? AND stop > start", (source, step))
        return self._readable(rows, lambda r: CoverageRow(
            r[0], r[1], tuple(r[2].split(",")), bool(r[3]), bool(r[4]), *r[5:]))

    def set_volumes(self, source: int, rows: Sequence[VolumeSeen]) -> None:
        """Keep what was learnt of volumes; one that begins at the same byte replaces its row."""
        told = [(source, r.start, r.size, r.kind, r.label, r.cluster_size, r.state, r.named_by,
                 r.used, r.used_bytes, ",".join(r.limits)) for r in rows]
        self._database.write(partial(
            self._database.many,
            "INSERT OR REPLACE INTO volumes VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)", told))

    def volumes(self, source: int) -> list[VolumeSeen]:
        """The volumes that are known of a source, by place."""
        rows = self._database.rows(
            "SELECT start, size, kind, label, cluster_size, state, named_by, used, used_bytes,"
            " limits FROM volumes WHERE source = ? ORDER BY start", (source,))
        return self._readable(rows, lambda r: VolumeSeen(
            r[0], r[1], r[2], r[3], r[4], r[5], r[6], r[7], r[8],
            tuple(filter(None, r[9].split(",")))))

    def steps(self) -> list[StepRow]:
        rows = self._database.rows(
            "SELECT source, step, kinds, area_start, area_stop, checkpoint, ending, state"
            " FROM steps ORDER BY changed")
        return self._readable(rows, lambda r: StepRow(
            r[0], r[1], tuple(r[2].split(",")) if r[2] else (), *r[3:]))

    def log(self, code: str, values: dict[str, Any] | None = None) -> None:
        self._database.change("INSERT INTO log (at, code, detail) VALUES (?, ?, ?)",
                              (time.time(), code, json.dumps(values or {}, default=str)))

    def log_lines(self, newest: int = 500) -> list[tuple[float, str, dict[str, Any]]]:
        """(seconds since 1970, code, values) of the newest entries, oldest first."""
        rows = self._database.rows(
            "SELECT at, code, detail FROM log ORDER BY id DESC LIMIT ?", (newest,))
        return self._readable(reversed(rows), lambda r: (r[0], r[1], json.loads(r[2])))
