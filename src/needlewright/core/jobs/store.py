"""The job file: the one place that speaks SQL. Use one `Job` a thread.

Writes come in batches inside explicit transactions; lists are paged by index, and counts are kept
as they change, so 200,000 finds stay comfortable.
"""

from __future__ import annotations

import json
import os
import sqlite3
import time
from collections.abc import Iterable, Sequence
from contextlib import contextmanager
from pathlib import Path
from types import TracebackType
from typing import Any

from needlewright.core.errors import JobError
from needlewright.core.jobs import folder as places
from needlewright.core.jobs.coverage import CoverageRow
from needlewright.core.jobs.migrations import migrate
from needlewright.core.jobs.rows import (
    Filter,
    FindRecord,
    FindRow,
    SourceRow,
    StepRow,
    TallyRow,
)
from needlewright.core.jobs.writing import RECORD_COLUMNS, FindWriter, record_from
from needlewright.core.search.events import Find, VolumeSeen
from needlewright.core.sources.source import Source
from needlewright.core.walks import Check, Outcome, Part

# What is still kept comes first, the likeliest to be wanted before the rest.
KEPT_FIRST = ("CASE f.kept WHEN 'trash' THEN 0 WHEN 'phone-trash' THEN 1"
              " WHEN 'gallery-trash' THEN 2 WHEN 'version' THEN 3 WHEN 'unfinished' THEN 4"
              " WHEN 'hidden' THEN 5 ELSE 6 END")
ORDERS = {
    "origin": f"f.source, {KEPT_FIRST}, f.folder IS NULL, f.folder, f.start",
    "name": "f.name IS NULL, f.name, f.id",
    "found": "f.id", "size": "f.size DESC, f.id",
    "taken": "coalesce(f.taken, f.modified) IS NULL, coalesce(f.taken, f.modified), f.id",
    "grade": "f.grade <> 'whole', f.grade, f.id", "kind": "f.kind, f.source, f.start",
    "camera": "f.camera IS NULL, f.camera, f.taken, f.id",
}
# What finds are grouped by in an order: SQL that gives one text a group.
GROUPS = {
    "origin": "CASE WHEN f.kept <> '' THEN 'kept:' || f.kept WHEN f.folder IS NOT NULL"
              " THEN 'in:' || f.folder END",
    "taken": "coalesce(substr(coalesce(f.taken, f.modified), 1, 10), '')",
    "camera": "coalesce(f.camera, '')", "kind": "f.kind", "grade": "f.grade",
}
# Where a source has several volumes, folders of one name lie on different ones.
VOLUME = ("(SELECT {told} FROM volumes v WHERE v.source = f.source AND v.start <= f.start"
          " ORDER BY v.start DESC LIMIT 1)")
VOLUME_NAME = "coalesce(nullif(v.label, ''), v.kind)"
ORDER_BY_VOLUME = (f"f.source, {KEPT_FIRST}, {VOLUME.format(told='v.start')}, f.folder IS NULL,"
                   " f.folder, f.start")
GROUP_BY_VOLUME = (
    "CASE WHEN f.kept <> '' THEN 'kept:' || f.kept WHEN f.folder IS NOT NULL THEN 'in:' || f.folder"
    f" || char(10) || coalesce({VOLUME.format(told=VOLUME_NAME)}, '')"
    " END")
FIND_COLUMNS = (
    "f.id, f.source, f.kind, f.format, f.extension, f.start, f.size, f.grade, f.share, f.name,"
    " f.path, f.removed, f.width, f.height, f.taken, f.camera, f.orientation, f.damage_row,"
    " f.found_by, f.has_thumbnail, t.find IS NOT NULL, f.duration, f.has_strip, f.kept, f.modified"
)
FROM_FINDS = " FROM finds f LEFT JOIN tray t ON t.find = f.id"
IDS_AT_ONCE = 500
EVERYTHING = Filter()


class Job:
    """An open job folder. Raises JobError with a code for everything that is wrong with one."""

    def __init__(self, folder: str | os.PathLike[str], *, create: bool = False,
                 read_only: bool = False) -> None:
        self.folder = Path(folder).absolute()
        self._database = _connect(self.folder, create, read_only)
        self._writer = FindWriter(self._database, self.folder)

    @property
    def title(self) -> str:
        return self.meta("title") or self.folder.name

    def close(self) -> None:
        self._database.close()

    def __enter__(self) -> Job:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.close()

    @contextmanager
    def _writing(self) -> Any:
        try:
            self._database.execute("BEGIN IMMEDIATE")
            yield
            self._database.execute("COMMIT")
        except sqlite3.OperationalError as error:
            if self._database.in_transaction:
                self._database.execute("ROLLBACK")
            raise JobError("job-not-written", path=str(self.folder), reason=str(error)) from error
        except BaseException:
            if self._database.in_transaction:
                self._database.execute("ROLLBACK")
            raise

    def meta(self, key: str) -> str | None:
        row = self._database.execute("SELECT value FROM meta WHERE key = ?", (key,)).fetchone()
        return row[0] if row else None

    def set_meta(self, key: str, value: str) -> None:
        with self._writing():
            self._database.execute("INSERT OR REPLACE INTO meta VALUES (?, ?)", (key, value))

    # sources

    def add_source(self, source: Source, path: str) -> SourceRow:
        """The row of the source at `path`, added where new; refused where its size changed."""
        for row in self.sources():
            if row.path == path:
                if row.size != source.size:
                    raise JobError("source-changed", path=path, was=row.size, now=source.size)
                return row
        with self._writing():
            self._database.execute(
                "INSERT INTO sources (name, path, size, sector_size, added) VALUES (?, ?, ?, ?, ?)",
                (source.name, path, source.size, source.sector_size, time.time()))
        return self.sources()[-1]

    def sources(self) -> list[SourceRow]:
        rows = self._database.execute(
            "SELECT id, name, path, size, sector_size, sha256 FROM sources ORDER BY id")
        return [SourceRow(*row) for row in rows]

    def set_source_hash(self, source: int, sha256: str) -> None:
        with self._writing():
            self._database.execute("UPDATE sources SET sha256 = ? WHERE id = ?", (sha256, source))

    # finds

    def add_finds(self, source: int, finds: Sequence[Find]) -> list[int]:
        """Write a batch; returns the ids of those that are new or better now, in order.

        Searching again adds to a job and never takes from it: a find that stands already is
        replaced, under its number, only where the new one is better or names it (see `merging`).
        """
        with self._writing():
            return self._writer.add(source, finds)

    def recheck_finds(self, source: int, finds: Sequence[Find]) -> list[int]:
        """Write what longer checks made of finds that stand already; returns their ids.

        The pictures that a find has stay where the new version brings none.
        """
        with self._writing():
            return self._writer.recheck(source, finds)

    def thumbnail(self, number: int) -> bytes:
        """The JPEG thumbnail of a find; empty where there is none."""
        try:
            return places.thumbnail_path(self.folder, number).read_bytes()
        except OSError:
            return b""

    def find_ids(self, wanted: Filter = EVERYTHING, order: str = "origin") -> list[
            tuple[int, int, int, int, int, int, int, str | None]]:
        """(id, width, height, source, start, size, orientation, group) of all matches in `order`.

        The group is what heads them (see GROUPS); None where there is none.
        """
        where, values = _where(wanted)
        group, by = GROUPS.get(order, "NULL"), ORDERS[order]
        if order == "origin" and self._several_volumes():
            group, by = GROUP_BY_VOLUME, ORDER_BY_VOLUME
        return self._database.execute(
            "SELECT f.id, coalesce(f.width, 0), coalesce(f.height, 0), f.source, f.start, f.size,"
            f" f.orientation, {group}{FROM_FINDS}{where} ORDER BY {by}", values).fetchall()

    def _several_volumes(self) -> bool:
        """Whether any source has more than one."""
        return self._database.execute(
            "SELECT 1 FROM volumes GROUP BY source HAVING count(*) > 1").fetchone() is not None

    def rows(self, ids: Sequence[int]) -> list[FindRow]:
        """The rows of `ids`, in their order; unknown ids are left out."""
        found: dict[int, FindRow] = {}
        for at in range(0, len(ids), IDS_AT_ONCE):
            part = list(ids[at : at + IDS_AT_ONCE])
            marks = ",".join("?" * len(part))
            cursor = self._database.execute(
                f"SELECT {FIND_COLUMNS}{FROM_FINDS} WHERE f.id IN ({marks})", part)
            found.update((row[0], _find_row(row)) for row in cursor)
        return [found[i] for i in ids if i in found]

    def matching(self, wanted: Filter = EVERYTHING, order: str = "origin") -> list[FindRow]:
        """All matching rows; for deliveries and reports, not for lists on screen."""
        where, values = _where(wanted)
        cursor = self._database.execute(
            f"SELECT {FIND_COLUMNS}{FROM_FINDS}{where} ORDER BY {ORDERS[order]}", values)
        return [_find_row(row) for row in cursor]

    def record(self, number: int) -> FindRecord:
        """Everything about one find; JobError where there is none of that number."""
        rows = self.rows([number])
        if not rows:
            raise JobError("find-unknown", find=number)
        extra, parts, start, stop, parent, *told = self._database.execute(
            "SELECT f.extra, f.parts, f.preview_start, f.preview_stop, min(p.id),"
            f" {', '.join(f'f.{name}' for name in RECORD_COLUMNS)} FROM finds f"
            " LEFT JOIN finds p ON p.source = f.source AND p.start = f.parent_start"
            " AND p.format = f.parent_format WHERE f.id = ?", (number,)).fetchone()
        extents = self._database.execute(
            "SELECT offset, length FROM extents WHERE find = ? ORDER BY place", (number,))
        checks = self._database.execute(
            "SELECT name, outcome, code, detail, content FROM checks WHERE find = ? ORDER BY place",
            (number,))
        return FindRecord(
            rows[0], tuple((o, length) for o, length in extents),
            tuple(Check(n, Outcome(o), c, json.loads(d), bool(k)) for n, o, c, d, k in checks),
            tuple(Part(n, a, b) for n, a, b in json.loads(parts)), json.loads(extra),
            None if start is None else (start, stop), parent, record_from(told))

    def spans(self, source: int) -> list[tuple[int, int, int]]:
        """(id, first byte, length of the first extent) of all finds of a source, by place."""
        return self._database.execute(
            "SELECT f.id, e.offset, e.length FROM finds f JOIN extents e ON e.find = f.id"
            " WHERE f.source = ? AND e.offset IS NOT NULL ORDER BY e.offset", (source,)).fetchall()

    def whole_spans(self, source: int) -> list[tuple[int, int]]:
        """(start, stop) of all extents of finds that are whole and that a record names."""
        return self._database.execute(
            "SELECT e.offset, e.offset + e.length FROM finds f JOIN extents e ON e.find = f.id"
            " WHERE f.source = ? AND f.grade = 'whole' AND f.encoding = 'plain'"
            " AND f.record_at IS NOT NULL"
            " AND e.offset IS NOT NULL ORDER BY e.offset", (source,)).fetchall()

    def neighbours(self, row: FindRow) -> tuple[FindRow | None, FindRow | None]:
        """The finds that lie before and behind `row` on its source, where there are any."""
        found = []
        for compare, order in (("<", "DESC"), (">", "ASC")):
            beside = self._database.execute(
                f"SELECT id FROM finds WHERE source = ? AND start {compare} ? AND grade <> 'gone'"
                f" ORDER BY start {order} LIMIT 1", (row.source, row.start)).fetchone()
            found.append(self.rows([beside[0]])[0] if beside else None)
        return found[0], found[1]

    def tally(self) -> list[TallyRow]:
        """Running counts by source, step, kind and grade."""
        rows = self._database.execute(
            "SELECT source, step, kind, grade, finds, bytes FROM tally WHERE finds > 0"
            " ORDER BY 1, 2, 3, 4")
        return [TallyRow(*row) for row in rows]

    # tray

    def put_in_tray(self, ids: Iterable[int]) -> None:
        """Choose finds for delivery; those that are gone cannot be."""
        now = time.time()
        with self._writing():
            self._database.executemany(
                "INSERT OR IGNORE INTO tray SELECT id, ? FROM finds WHERE id = ?"
                " AND grade <> 'gone'",
                [(now, i) for i in ids])

    def take_from_tray(self, ids: Iterable[int]) -> None:
        with self._writing():
            self._database.executemany("DELETE FROM tray WHERE find = ?", [(i,) for i in ids])

    def tray_size(self) -> tuple[int, int]:
        """(finds, bytes) in the tray."""
        row = self._database.execute(
            "SELECT count(*), coalesce(sum(f.size), 0) FROM tray t JOIN finds f ON f.id = t.find"
        ).fetchone()
        return int(row[0]), int(row[1])

    # steps and log

    def save_step(self, row: StepRow) -> None:
        with self._writing():
            self._database.execute(
                "INSERT OR REPLACE INTO steps VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
                (row.source, row.step, ",".join(row.kinds), row.area_start, row.area_stop,
                 row.checkpoint, row.ending, time.time()))

    def cover(self, row: CoverageRow) -> None:
        """Keep how far a pass has come; the same pass replaces its own row."""
        with self._writing():
            self._database.execute(
                "INSERT OR REPLACE INTO coverage VALUES (?, ?, ?, ?, ?, ?, ?)",
                (row.source, row.step, ",".join(row.tokens), int(row.every_byte),
                 int(row.every_frame), row.start, row.stop))

    def coverage(self, source: int, step: str) -> list[CoverageRow]:
        """What `step` has covered of a source."""
        rows = self._database.execute(
            "SELECT source, step, tokens, every_byte, every_frame, start, stop FROM coverage"
            " WHERE source = ? AND step = ? AND stop > start", (source, step))
        return [CoverageRow(s, n, tuple(t.split(",")), bool(b), bool(f), a, o)
                for s, n, t, b, f, a, o in rows]

    def set_volumes(self, source: int, rows: Sequence[VolumeSeen]) -> None:
        """Keep what was learnt of volumes; one that begins at the same byte replaces its row."""
        with self._writing():
            self._database.executemany(
                "INSERT OR REPLACE INTO volumes VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                [(source, r.start, r.size, r.kind, r.label, r.cluster_size, r.state, r.named_by,
                  r.used, r.used_bytes, ",".join(r.limits)) for r in rows])

    def volumes(self, source: int) -> list[VolumeSeen]:
        """The volumes that are known of a source, by place."""
        rows = self._database.execute(
            "SELECT start, size, kind, label, cluster_size, state, named_by, used, used_bytes,"
            " limits FROM volumes WHERE source = ? ORDER BY start", (source,))
        return [VolumeSeen(s, n, k, name, c, state, by, used, total, tuple(filter(
            None, limits.split(",")))) for s, n, k, name, c, state, by, used, total, limits in rows]

    def steps(self) -> list[StepRow]:
        rows = self._database.execute(
            "SELECT source, step, kinds, area_start, area_stop, checkpoint, ending FROM steps"
            " ORDER BY changed")
        return [StepRow(s, n, tuple(k.split(",")) if k else (), a, b, c, e)
                for s, n, k, a, b, c, e in rows]

    def log(self, code: str, values: dict[str, Any] | None = None) -> None:
        with self._writing():
            self._database.execute("INSERT INTO log (at, code, detail) VALUES (?, ?, ?)",
                                   (time.time(), code, json.dumps(values or {}, default=str)))

    def log_lines(self, newest: int = 500) -> list[tuple[float, str, dict[str, Any]]]:
        """(seconds since 1970, code, values) of the newest entries, oldest first."""
        rows = self._database.execute(
            "SELECT at, code, detail FROM log ORDER BY id DESC LIMIT ?", (newest,)).fetchall()
        return [(at, code, json.loads(detail)) for at, code, detail in reversed(rows)]


def _connect(folder: Path, create: bool, read_only: bool) -> sqlite3.Connection:
    path = folder / places.DATABASE
    if not path.exists():
        _prepare(folder, path, create)
    if not read_only and path.exists() and not os.access(path, os.W_OK):
        raise JobError("job-read-only", path=str(folder))
    if not read_only and not os.access(folder, os.W_OK):
        raise JobError("job-read-only", path=str(folder))
    try:
        mode = "ro" if read_only else "rwc"
        database = sqlite3.connect(
            f"file:{_quoted(path)}?mode={mode}", uri=True, isolation_level=None, timeout=20.0)
        _check_and_migrate(database, folder, read_only)
    except sqlite3.DatabaseError as error:
        raise JobError("job-damaged", path=str(folder), reason=str(error)) from error
    return database


def _check_and_migrate(database: sqlite3.Connection, folder: Path, read_only: bool) -> None:
    try:
        migrate(database, str(folder))
        if not read_only:
            database.execute(f"PRAGMA journal_mode = {places.journal_mode(folder)}")
            database.execute("PRAGMA synchronous = NORMAL")
    except (JobError, sqlite3.DatabaseError):
        database.close()
        raise


def _prepare(folder: Path, path: Path, create: bool) -> None:
    """Make a new job folder; an existing folder must be empty, so that no stranger is mixed in."""
    if not create:
        raise JobError("job-missing", path=str(folder))
    try:
        folder.mkdir(parents=True, exist_ok=True)
        strangers = next(iter(folder.iterdir()), None)
    except NotADirectoryError as error:
        raise JobError("job-not-a-folder", path=str(folder)) from error
    except FileExistsError as error:
        raise JobError("job-not-a-folder", path=str(folder)) from error
    except OSError as error:
        raise JobError("job-not-written", path=str(folder), reason=error.strerror or "") from error
    if strangers is not None:
        raise JobError("job-not-ours", path=str(folder))


def _quoted(path: Path) -> str:
    return path.as_uri().removeprefix("file://")


def _where(wanted: Filter) -> tuple[str, list[Any]]:
    terms: list[str] = []
    values: list[Any] = []
    for column, chosen in (("kind", wanted.kinds), ("grade", wanted.grades),
                           ("format", wanted.formats)):
        if chosen:
            terms.append(f"f.{column} IN ({','.join('?' * len(chosen))})")
            values += sorted(chosen)
    for word in wanted.text.split():
        terms.append("(coalesce(f.name, '') || ' ' || coalesce(f.path, '') || ' ' ||"
                     " coalesce(f.camera, '') || ' ' || coalesce(f.taken, '') || ' ' ||"
                     " f.kind || ' ' || f.format || ' ' || f.grade) LIKE ? ESCAPE '\\'")
        plain = word.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")
        values.append(f"%{plain}%")
    if wanted.removed is not None:
        terms.append("f.removed = ?" if wanted.removed else "(f.removed IS NULL OR f.removed = ?)")
        values.append(int(wanted.removed))
    if wanted.tray_only:
        terms.append("t.find IS NOT NULL")
    return (" WHERE " + " AND ".join(terms) if terms else ""), values


def _find_row(row: Sequence[Any]) -> FindRow:
    removed = None if row[11] is None else bool(row[11])
    values = [*row[:11], removed, *row[12:18], tuple(row[18].split(",")), bool(row[19]),
              bool(row[20]), row[21], bool(row[22]), row[23], row[24]]
    return FindRow(*values)
