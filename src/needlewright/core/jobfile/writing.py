"""Writes finds into the job file: what is new, what is better, what two ways have found.

A find keeps its number for good: better versions are written over it, numbers are never given out
twice, and its pictures go with it.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

from needlewright.core.checks.grading import Grade
from needlewright.core.codes import Reason, Seam, SeamWord
from needlewright.core.contents import Content, ShelfObject, Stretches, content_from
from needlewright.core.errors import JobError
from needlewright.core.finds import INSIDE, JOINED_FROM, MENDED_FROM, Find, Record, key_of
from needlewright.core.jobfile import folder as on_disk
from needlewright.core.jobfile.database import Database
from needlewright.core.jobfile.merging import (
    BY_HAND,
    MENDED,
    STITCHED,
    Act,
    Standing,
    is_same,
    joined_claim,
    settle,
    taken_over,
    with_record,
)
from needlewright.core.jobfile.odd_rows import whole_row
from needlewright.core.walks import Check, Facts, Kind, Outcome

COLUMNS = (
    "source", "key", "kind", "format", "extension", "start", "size", "grade", "share", "name",
    "path", "folder", "removed", "width", "height", "taken", "camera", "orientation", "duration",
    "damage_row", "broken_at", "broken_why", "found_by", "extra", "parts", "preview_start",
    "preview_stop", "has_thumbnail", "has_strip", "content", "content_kind", "content_key",
    "content_sum", "record_at", "stated", "created", "modified", "accessed", "removed_at", "kept",
    "original", "purge_at", "unproven", "former", "volume",
)
INSERT = (f"INSERT OR IGNORE INTO finds ({', '.join(COLUMNS)})"
          f" VALUES ({', '.join('?' * len(COLUMNS))})")
UPDATE = f"UPDATE finds SET {', '.join(f'{name} = ?' for name in COLUMNS)} WHERE id = ?"
RECORD_COLUMNS = COLUMNS[COLUMNS.index("record_at"):]
STANDING = (
    "SELECT id, grade, share, size, key, found_by, name, path, removed,"
    f" {', '.join(RECORD_COLUMNS)} FROM finds WHERE source = ? AND start = ? AND format = ?")
#: Finds that are objects of a shelf; nothing else has a key there.
ON_SHELF = "content_key IS NOT NULL"
STANDING_ON_SHELF = STANDING.replace(
    "start = ? AND format = ?", "path = ? AND content_key = ?")
CHECKS = "SELECT name, outcome, code, detail, content FROM checks WHERE find = ? ORDER BY place"
SEAMS = "SELECT at, word, reasons, rivals FROM seams WHERE find = ? ORDER BY place"
DAMAGED = (Grade.PARTIAL, Grade.REMNANT, Grade.UNPROVEN)
Told = tuple[int, Find]


class FindWriter:
    """Writes into an open database; the caller holds the transaction."""

    def __init__(self, database: Database, folder: Path) -> None:
        self._database, self._folder = database, folder
        self._dropped: dict[Path, list[Path]] = {}  # pictures that go once that is written

    def add(self, source: int, finds: Sequence[Find]) -> list[int]:
        """Write what is new or better; returns the ids of those."""
        done: list[Told] = []
        for find in finds:
            done += self._settled(source, find, self._standing(source, find))
        self._finish(source, done)
        return [number for number, _ in done]

    def _settled(self, source: int, find: Find, standing: Sequence[Standing]) -> list[Told]:
        """Write `find` as far as it is new; (id, find) of what was written."""
        if self._is_taken(source, find):
            find = taken_over(find)
            standing = self._standing(source, find)
        decision = settle(find, standing)
        number: int | None = decision.number
        if decision.act is Act.KEEP or self._is_back(source, find) or (
                self._lies_in_joined(source, find)):
            return []
        if decision.act is Act.JOIN:
            self._set_found_by(decision.number, decision.find.found_by)
            return []
        if decision.act is Act.ADD:
            number = self._insert(source, decision.find, decision.claim)
            if number is not None and find.seams and find.grade is Grade.WHOLE:
                self._drop_found_scraps(number, decision.find)
        else:
            self._replace(source, decision.find, decision.number, keep_pictures=False)
        return [] if number is None else [(number, decision.find)]

    def _is_back(self, source: int, find: Find) -> bool:
        """Whether the file of a record that leads to nothing was found elsewhere meanwhile: by its
        pieces, or by the size that the record states."""
        if find.grade is not Grade.GONE or find.record is None or find.path is None:
            return False
        return self._database.row(
            "SELECT 1 FROM finds WHERE source = ? AND folder = ? AND path = ? AND record_at = ?"
            " AND grade <> ?", (source, find.path.rpartition("/")[0], find.path, find.record.at,
                                Grade.GONE)) is not None

    def _lies_in_joined(self, source: int, find: Find) -> bool:
        """Whether a damaged find without a name lies in a file that was put together, and is whole:
        it was listed before, and found its file."""
        if find.record is not None or find.seams or find.grade not in (
                Grade.PARTIAL, Grade.REMNANT):
            return False
        return self._database.row(
            "SELECT 1 FROM finds f JOIN extents e ON e.find = f.id WHERE f.source = ?"
            " AND f.grade = ? AND f.id IN (SELECT find FROM seams)"
            " AND e.offset <= ? AND e.offset + e.length >= ?",
            (source, Grade.WHOLE, find.start, find.start + find.size)) is not None

    def _is_taken(self, source: int, find: Find) -> bool:
        """Whether a removed file begins where a whole file lies that was put together."""
        if find.record is None or not find.removed or find.seams or find.grade not in DAMAGED:
            return False
        return self._database.row(
            "SELECT 1 FROM finds f JOIN extents e ON e.find = f.id WHERE f.source = ?"
            " AND f.grade = ? AND f.id IN (SELECT find FROM seams) AND f.path IS NOT ?"
            " AND (f.path IS NOT NULL OR f.start <> ?)"  # without a name it may be this very one
            " AND e.offset <= ? AND e.offset + e.length > ?",
            (source, Grade.WHOLE, find.path, find.start, find.start, find.start)) is not None

    def add_mended(self, source: int, find: Find, origin: int, changes: str) -> int:
        """Write what was mended from find `origin`, over an earlier version; its id."""
        key = key_of(find.format, find.start, f"{MENDED}-{origin}")
        stands = self._database.row(
            "SELECT find FROM links WHERE other = ? AND relation = ?", (origin, MENDED_FROM))
        number = None if stands is None else int(stands[0])
        if number is None:
            cursor = self._database.run(INSERT, _columns(source, key, find))
            number = int(cursor.lastrowid or 0)
        else:
            self._replace(source, find, number, keep_pictures=False)
        self._database.run("INSERT OR REPLACE INTO links (find, other, relation, detail)"
                           " VALUES (?, ?, ?, ?)", (number, origin, MENDED_FROM, changes))
        self._finish(source, [(number, find)])
        return number

    def recheck(self, source: int, finds: Sequence[Find]) -> list[int]:
        """Write what longer checks made of finds that stand already; returns their ids.

        The pictures that a find has stay where the new version brings none, and so does its name.
        """
        done: list[Told] = []
        for find in finds:
            standing = self._standing(source, find)
            stands = self._itself(find, standing)
            if stands is None:
                # What it was told as before has joined another find.
                done += self._settled(source, find, standing)
                continue
            find = _kept_record(find, stands)
            self._replace(source, find, stands.number, keep_pictures=True)
            done.append((stands.number, find))
        self._finish(source, done)
        return [number for number, _ in done]

    def _itself(self, find: Find, standing: Sequence[Standing]) -> Standing | None:
        """The earlier version of `find` among what stands in its place."""
        if find.joined_from is not None:
            return next((s for s in standing if s.claim == joined_claim(find)), None)
        standing = [s for s in standing if s.claim not in (STITCHED, BY_HAND)]
        if find.record is not None:
            own = [s for s in standing if is_same(find, s)]
            return own[0] if own else None
        plain = [s for s in standing if s.record is None]
        # A carve in one piece says more than a record with pieces and holes only where it is whole.
        merged = [s for s in standing if set(find.found_by) <= set(s.found_by)
                  and s.size == find.size and find.grade is Grade.WHOLE
                  and s.grade is not Grade.GONE]
        return next(iter(plain or merged), None)

    def _finish(self, source: int, done: Sequence[Told]) -> None:
        self._insert_parts(done)
        for _, find in done:
            self._tally(source, find.found_by[0], find.kind, find.grade, 1, find.size)
        # Before the finds count as known: killed in between, a later search makes both anew.
        for number, find in done:
            self._write_pictures(number, find)

    def _standing(self, source: int, find: Find) -> list[Standing]:
        if isinstance(find.content, ShelfObject):
            # A shelf may have several files of one path: two of a name, or older versions.
            rows = self._database.rows(
                STANDING_ON_SHELF, (source, find.path, json.dumps(find.content.key)))
        else:
            rows = self._database.rows(STANDING, (source, find.start, find.format))
        standing = [self._standing_of(row) for row in rows]
        return [s for s in standing if not s.claim.startswith(MENDED)]

    @whole_row()
    def _standing_of(self, row: Sequence[Any]) -> Standing:
        told = row[9] is not None or row[1] == Grade.WHOLE
        checks = self._database.rows(CHECKS, (row[0],)) if told else []
        claim = _claim_in(row[4])
        return Standing(
            int(row[0]), Grade(row[1]), row[2], row[3], claim, tuple(row[5].split(",")), row[6],
            row[7], None if row[8] is None else bool(row[8]), record_from(row[9:]),
            checks_from(checks))

    def _insert(self, source: int, find: Find, claim: str) -> int | None:
        key = key_of(find.format, find.start, claim)
        cursor = self._database.run(INSERT, _columns(source, key, find))
        number = cursor.lastrowid if cursor.rowcount else None
        if number is not None:
            self._link(source, number, key, find)
        return number

    def _link(self, source: int, number: int, key: str, find: Find) -> None:
        """Relate a new find to others: those it knows by their key, and those that waited for it.
        """
        run = self._database.run
        if find.joined_from is not None:
            run("INSERT OR IGNORE INTO links (find, other, relation) SELECT ?, id, ? FROM finds"
                " WHERE source = ? AND key = ? AND id <> ?",
                (number, JOINED_FROM, source, find.joined_from, number))
        if find.inside is not None:
            other = self._database.row("SELECT id FROM finds WHERE source = ? AND key = ?",
                                       (source, find.inside))
            if other is not None and other[0] != number:
                run("INSERT OR IGNORE INTO links (find, other, relation) VALUES (?, ?, ?)",
                    (number, other[0], INSIDE))
            else:
                run("INSERT OR IGNORE INTO link_waits (find, source, key, relation)"
                    " VALUES (?, ?, ?, ?)", (number, source, find.inside, INSIDE))
        waits = self._database.row("SELECT 1 FROM link_waits WHERE source = ? AND key = ?",
                                   (source, key))
        if waits is not None:
            run("INSERT OR IGNORE INTO links SELECT find, ?, relation, detail FROM link_waits"
                " WHERE source = ? AND key = ? AND find <> ?", (number, source, key, number))
            run("DELETE FROM link_waits WHERE source = ? AND key = ?", (source, key))

    def _set_found_by(self, number: int, found_by: Sequence[str]) -> None:
        """Note that another way leads to a find; it counts for the first of them."""
        found = self._database.row(
            "SELECT source, size, kind, grade, found_by FROM finds WHERE id = ?", (number,))
        assert found is not None
        source, size, kind, grade, by = found
        self._database.run("UPDATE finds SET found_by = ? WHERE id = ?",
                           (",".join(found_by), number))
        before = by.split(",")[0]
        if before != found_by[0]:
            self._tally(source, before, kind, grade, -1, -size)
            self._tally(source, found_by[0], kind, grade, 1, size)

    def _replace(self, source: int, find: Find, number: int, keep_pictures: bool) -> None:
        """Write `find` over what stands under `number`; what was said of that stays."""
        found = self._database.row(
            "SELECT size, kind, grade, found_by, key, start, has_thumbnail, has_strip FROM finds"
            " WHERE id = ?", (number,))
        assert found is not None
        size, kind, grade, by, key, start, thumbnail, strip = found
        self._tally(source, by.split(",")[0], kind, grade, -1, -size)
        if start != find.start:
            key = key_of(find.format, find.start, _claim_in(key))
        values = list(_columns(source, key, find))
        if keep_pictures:
            for name, had in (("has_thumbnail", thumbnail), ("has_strip", strip)):
                values[COLUMNS.index(name)] = max(values[COLUMNS.index(name)], had)
        else:
            self._drop_pictures(number)
        self._database.run(UPDATE, (*values, number))
        for table in ("extents", "checks", "seams"):
            self._database.run(f"DELETE FROM {table} WHERE find = ?", (number,))
        if find.grade is Grade.WHOLE:
            self._drop_scraps(number, find)

    def _drop_scraps(self, number: int, find: Find) -> None:
        """What was told of the inside of a broken find is nothing once that find is whole."""
        inside = self._database.rows(
            "SELECT f.id, f.source, f.size, f.kind, f.grade, f.found_by FROM links l"
            " JOIN finds f ON f.id = l.find WHERE l.other = ? AND l.relation = ?"
            " AND f.grade = ? AND f.start < ?"
            " AND f.id NOT IN (SELECT find FROM reviews)",
            (number, INSIDE, Grade.REMNANT, find.start + find.size))
        self._drop(inside)
        self._drop_found_scraps(number, find)

    def _drop_found_scraps(self, number: int, find: Find) -> None:
        """Scraps, and frames, that lie in a whole file are told no more: they have found it."""
        for offset, length in find.extents:
            if offset is not None and find.seams:
                self._drop(self._database.rows(
                    "SELECT id, source, size, kind, grade, found_by FROM finds WHERE"
                    " (kind = ? OR (? = 'video' AND format = 'jpeg' AND grade = ? AND start > ?))"
                    " AND start >= ? AND start < ? AND source = (SELECT source FROM finds"
                    " WHERE id = ?) AND id NOT IN (SELECT find FROM reviews)",
                    (Kind.SCRAP, find.kind, Grade.REMNANT, find.start,
                     offset, offset + length, number)))
        if find.seams and joined_claim(find) == STITCHED:
            self._drop_joined(number, find)

    def _drop_joined(self, number: int, find: Find) -> None:
        """The find that had the first piece only, and damaged ones without a name in the others:
        all of them are in the whole file now. What a person has judged, or is joining, stays."""
        column = "id, source, size, kind, grade, found_by"
        ((source,),) = self._database.rows("SELECT source FROM finds WHERE id = ?", (number,))
        self._drop(self._database.rows(
            f"SELECT {column} FROM finds WHERE source = ? AND id <> ? AND grade <> ?"
            " AND (key = ? OR start = ? AND format = ?) AND (record_at IS NULL OR path IS ?)"
            " AND id NOT IN (SELECT find FROM reviews)"
            " AND id NOT IN (SELECT find FROM threads)",
            (source, number, Grade.WHOLE, find.joined_from, find.start, find.format, find.path)))
        for offset, length in find.extents:
            if offset is not None:
                self._drop(self._database.rows(
                    f"SELECT {column} FROM finds WHERE source = ? AND start >= ? AND start + size"
                    " <= ? AND id <> ? AND grade IN ('partial', 'remnant') AND record_at IS NULL"
                    " AND id NOT IN (SELECT find FROM seams)"
                    " AND id NOT IN (SELECT find FROM threads)"
                    " AND id NOT IN (SELECT find FROM reviews)",
                    (source, offset, offset + length, number)))
                self._drop_content(source, number, find, offset, length)

    def _drop_content(self, source: int, number: int, find: Find, offset: int, length: int
                      ) -> None:
        """Removed files whose records say that they begin in this stretch of the whole file."""
        for told in self._database.rows(
                "SELECT id, format, kind, extension, size, name, path, found_by,"
                f" {', '.join(RECORD_COLUMNS)} FROM finds WHERE source = ? AND start >= ?"
                " AND start < ? AND id <> ? AND record_at IS NOT NULL AND removed = 1"
                " AND (? IS NOT NULL OR start <> ?)"
                f" AND path IS NOT ? AND grade IN ({', '.join('?' * len(DAMAGED))})"
                " AND id NOT IN (SELECT find FROM seams)"
                " AND id NOT IN (SELECT find FROM threads)"
                " AND id NOT IN (SELECT find FROM reviews)",
                (source, offset, offset + length, number, find.path, find.start, find.path,
                 *DAMAGED)):
            other, form, kind, extension, size, name, path, by, *record = told
            stood = Find(form, Kind(kind), extension, Stretches(((None, size),)), Grade.PARTIAL,
                         0.0, tuple(by.split(",")),
                         checks_from(self._database.rows(CHECKS, (other,))), Facts(), name=name,
                         path=path, removed=True, record=record_from(record))
            gone = taken_over(stood)
            self._replace(source, gone, other, keep_pictures=False)
            self._finish(source, [(other, gone)])

    def _drop(self, rows: Sequence[tuple[Any, ...]]) -> None:
        for scrap, source, size, kind, grade, by in rows:
            self._database.run("DELETE FROM finds WHERE id = ?", (scrap,))
            self._tally(source, by.split(",")[0], kind, grade, -1, -size)
            self._drop_pictures(scrap)

    def _insert_parts(self, new: Sequence[Told]) -> None:
        self._database.many(
            "INSERT OR REPLACE INTO extents VALUES (?, ?, ?, ?)",
            [(n, i, o, length) for n, f in new for i, (o, length) in enumerate(f.extents)])
        self._database.many(
            "INSERT OR REPLACE INTO checks VALUES (?, ?, ?, ?, ?, ?, ?)",
            [(n, i, c.name, c.outcome, c.code, json.dumps(dict(c.values)), int(c.content))
             for n, f in new for i, c in enumerate(f.checks)])

        self._database.many(
            "INSERT OR REPLACE INTO seams VALUES (?, ?, ?, ?, ?, ?)",
            [(n, i, s.at, s.word, json.dumps([[r.code, dict(r.values)] for r in s.reasons]),
              json.dumps(s.rivals)) for n, f in new for i, s in enumerate(f.seams)])

    def _tally(self, source: int, step: str, kind: str, grade: str, count: int, size: int) -> None:
        self._database.run(
            "INSERT INTO tally VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET"
            " finds = finds + excluded.finds, bytes = bytes + excluded.bytes",
            (source, step, kind, grade, count, size))

    def _drop_pictures(self, number: int) -> None:
        """They go once it is written that the find has none: undone, it would have lost them."""
        for path in (on_disk.thumbnail_path(self._folder, number),
                     on_disk.strip_path(self._folder, number)):
            dropped = self._dropped[path] = [path]
            self._database.afterwards(partial(self._unlink, dropped))

    def _unlink(self, dropped: list[Path]) -> None:
        for path in dropped:  # none where another was written in its place since
            self._dropped.pop(path, None)
            path.unlink(missing_ok=True)

    def _write_pictures(self, number: int, find: Find) -> None:
        for path, picture in ((on_disk.thumbnail_path(self._folder, number), find.thumbnail),
                              (on_disk.strip_path(self._folder, number), find.strip)):
            if not picture:
                continue
            self._dropped.pop(path, []).clear()
            try:
                path.parent.mkdir(parents=True, exist_ok=True)
                path.write_bytes(picture)
            except OSError as error:
                raise JobError("job-not-written", path=str(self._folder),
                               reason=str(error)) from error


def _claim_in(key: str) -> str:
    """The claim that `key_of` put into a key."""
    return key.split(":", 2)[2] if key.count(":") > 1 else ""


def _columns(source: int, key: str, find: Find) -> tuple[Any, ...]:
    """The values of COLUMNS."""
    facts, record, broken = find.facts, find.record, find.broken
    told = None  # of stretches, of which the extents say all
    if not isinstance(find.content, Stretches):
        told = find.content.as_json()
    return (
        source, key, find.kind, find.format, find.extension, find.start, find.size, find.grade,
        find.share, find.name, find.path,
        None if find.path is None else find.path.rpartition("/")[0],
        None if find.removed is None else int(find.removed), facts.width, facts.height, facts.taken,
        facts.camera, facts.orientation, facts.duration_s, find.damage_row,
        broken.offset if broken else None, broken.why if broken else None,
        ",".join(find.found_by), json.dumps(dict(facts.extra)),
        json.dumps([[p.name, p.start, p.stop] for p in find.parts]),
        *(find.preview or (None, None)), int(bool(find.thumbnail)), int(bool(find.strip)),
        json.dumps(told) if told else None, told["kind"] if told else "stretches",
        json.dumps(find.content.key) if isinstance(find.content, ShelfObject) else None,
        find.content_sum,
        *_record_columns(record))


def content_of_row(told: str | None, extents: Iterable[Sequence[Any]]) -> Content:
    """The content that a row tells, whose extents are (offset, length) in order."""
    if told is None:
        return Stretches(tuple((offset, length) for offset, length in extents))
    return content_from(json.loads(told))


def checks_from(rows: Iterable[Sequence[Any]]) -> tuple[Check, ...]:
    """The checks that rows of CHECKS hold."""
    return tuple(Check(n, Outcome(o), c, json.loads(d), bool(k)) for n, o, c, d, k in rows)


def seams_from(rows: Iterable[Sequence[Any]]) -> tuple[Seam, ...]:
    """The seams that rows of SEAMS hold."""
    return tuple(Seam(at, SeamWord(word), tuple(Reason(c, v) for c, v in json.loads(reasons)),
                      tuple((byte, behind) for byte, behind in json.loads(rivals)))
                 for at, word, reasons, rivals in rows)


def record_from(row: Sequence[Any]) -> Record | None:
    """The record that RECORD_COLUMNS hold; None where there is none."""
    if row[0] is None:
        return None
    at, stated, created, modified, accessed, removed_at, kept, original, purge_at = row[:9]
    return Record(at, stated, created, modified, accessed, removed_at, kept, original, purge_at,
                  bool(row[9]), bool(row[10]), row[11])


def _record_columns(record: Record | None) -> tuple[Any, ...]:
    if record is None:
        return (None, None, None, None, None, None, "", None, None, 0, 0, 0)
    return (record.at, record.stated, record.created, record.modified, record.accessed,
            record.removed_at, record.kept, record.original, record.purge_at, int(record.claim),
            int(record.former), record.volume)


def _kept_record(find: Find, stands: Standing) -> Find:
    """`find` with the record that its earlier version has, if it brings none."""
    if find.record is not None or stands.record is None:
        return replace(find, found_by=tuple(dict.fromkeys((*stands.found_by, *find.found_by))))
    named = with_record(find, stands)
    return replace(named, record=stands.record,
                   found_by=tuple(dict.fromkeys((*stands.found_by, *find.found_by))))
