"""Writes finds into the job file: what is new, what is better, what two ways have found."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from needlewright.core.checks.grading import Grade
from needlewright.core.errors import JobError
from needlewright.core.jobs import folder as places
from needlewright.core.jobs.merging import RECORD_CHECKS, Act, Standing, is_same, settle
from needlewright.core.search.events import Find, Record
from needlewright.core.volumes.base import Coded, CodedParts
from needlewright.core.walks import Check, Outcome

COLUMNS = (
    "id", "source", "kind", "format", "extension", "start", "size", "grade", "share", "name",
    "path", "removed", "width", "height", "taken", "camera", "orientation", "damage_row",
    "found_by", "extra", "parts", "preview_start", "preview_stop", "has_thumbnail", "duration",
    "parent_start", "parent_format", "has_strip", "claim", "folder", "record_at", "stated",
    "created", "modified", "accessed", "removed_at", "kept", "original", "purge_at", "encoding",
    "content", "coded", "unproven",
)
INSERT = (f"INSERT OR IGNORE INTO finds ({', '.join(COLUMNS)})"
          f" VALUES ({', '.join('?' * len(COLUMNS))})")
RECORD_COLUMNS = COLUMNS[COLUMNS.index("record_at"):]
STANDING = (
    "SELECT id, grade, share, size, claim, found_by, name, path, removed,"
    f" {', '.join(RECORD_COLUMNS)} FROM finds WHERE source = ? AND start = ? AND format = ?")


class FindWriter:
    """Writes into an open database; the caller holds the transaction."""

    def __init__(self, database: sqlite3.Connection, folder: Path) -> None:
        self._database, self._folder = database, folder

    def add(self, source: int, finds: Sequence[Find]) -> list[int]:
        """Write what is new or better; returns the ids of those."""
        done: list[tuple[int, Find]] = []
        for find in finds:
            done += self._settled(source, find, self._standing(source, find))
        self._finish(source, done)
        return [number for number, _ in done]

    def _settled(self, source: int, find: Find, standing: Sequence[Standing]) -> list[
            tuple[int, Find]]:
        """Write `find` as far as it is new; (id, find) of what was written."""
        decision = settle(find, standing)
        number: int | None = decision.number
        if decision.act is Act.KEEP:
            return []
        if decision.act is Act.JOIN:
            self._set_found_by(decision.number, decision.find.found_by)
            return []
        if decision.act is Act.ADD:
            number = self._insert(source, decision.find, decision.claim)
        else:
            self._replace(source, decision.find, decision.number)
        return [] if number is None else [(number, decision.find)]

    def recheck(self, source: int, finds: Sequence[Find]) -> list[int]:
        """Write what longer checks made of finds that stand already; returns their ids.

        The pictures that a find has stay where the new version brings none, and so does its name.
        """
        done: list[tuple[int, Find]] = []
        for find in finds:
            standing = self._standing(source, find)
            stands = self._itself(find, standing)
            if stands is None:
                # What it was told as before has joined another find.
                done += self._settled(source, find, standing)
                continue
            number = stands.number
            find = _kept_record(find, stands)
            pictures = self._database.execute(
                "SELECT has_thumbnail, has_strip FROM finds WHERE id = ?", (number,)).fetchone()
            self._replace(source, find, number)
            self._database.execute(
                "UPDATE finds SET has_thumbnail = max(has_thumbnail, ?),"
                " has_strip = max(has_strip, ?) WHERE id = ?", (*pictures, number))
            done.append((number, find))
        self._finish(source, done)
        return [number for number, _ in done]

    def _itself(self, find: Find, standing: Sequence[Standing]) -> Standing | None:
        """The earlier version of `find` among what stands in its place."""
        if find.record is not None:
            own = [s for s in standing if is_same(find, s)]
            return own[0] if own else None
        plain = [s for s in standing if s.record is None]
        # A carve in one piece says more than a record with pieces and holes only where it is whole.
        merged = [s for s in standing if set(find.found_by) <= set(s.found_by)
                  and s.size == find.size and find.grade is Grade.WHOLE
                  and s.grade is not Grade.GONE]
        return next(iter(plain or merged), None)

    def _finish(self, source: int, done: Sequence[tuple[int, Find]]) -> None:
        self._insert_parts(done)
        self._count(source, [find for _, find in done])
        # Before the finds count as known: killed in between, a later search makes both anew.
        for number, find in done:
            self._write_pictures(number, find)

    def _standing(self, source: int, find: Find) -> list[Standing]:
        rows = self._database.execute(STANDING, (source, find.start, find.format)).fetchall()
        return [self._standing_of(row) for row in rows]

    def _standing_of(self, row: Sequence[Any]) -> Standing:
        checks = self._database.execute(
            "SELECT name, outcome, code, detail, content FROM checks WHERE find = ? ORDER BY place",
            (row[0],)) if row[9] is not None or row[1] == Grade.WHOLE else ()
        record = record_from(row[9:])
        return Standing(
            int(row[0]), Grade(row[1]), row[2], row[3], row[4], tuple(row[5].split(",")), row[6],
            row[7], None if row[8] is None else bool(row[8]), record,
            tuple(Check(n, Outcome(o), c, json.loads(d), bool(k)) for n, o, c, d, k in checks))

    def _insert(self, source: int, find: Find, claim: str, number: int | None = None) -> int | None:
        facts, record = find.facts, find.record
        removed = None if find.removed is None else int(find.removed)
        folder = None if find.path is None else find.path.rpartition("/")[0]
        cursor = self._database.execute(INSERT, (
            number, source, find.kind, find.format, find.extension, find.start, find.size,
            find.grade, find.share, find.name, find.path, removed, facts.width, facts.height,
            facts.taken, facts.camera, facts.orientation, find.damage_row, ",".join(find.found_by),
            json.dumps(dict(facts.extra)),
            json.dumps([[p.name, p.start, p.stop] for p in find.parts]),
            *(find.preview or (None, None)), int(bool(find.thumbnail)), facts.duration_s,
            *(find.parent or (None, None)), int(bool(find.strip)), claim, folder,
            *_record_columns(record)))
        return cursor.lastrowid if cursor.rowcount else None

    def _set_found_by(self, number: int, found_by: Sequence[str]) -> None:
        """Note that another way leads to a find; it counts for the first of them."""
        source, size, kind, grade, by = self._database.execute(
            "SELECT source, size, kind, grade, found_by FROM finds WHERE id = ?",
            (number,)).fetchone()
        self._database.execute("UPDATE finds SET found_by = ? WHERE id = ?",
                               (",".join(found_by), number))
        before = by.split(",")[0]
        if before != found_by[0]:
            self._tally(source, before, kind, grade, -1, -size)
            self._tally(source, found_by[0], kind, grade, 1, size)

    def _replace(self, source: int, find: Find, number: int) -> None:
        """Put `find` in the place of what stands under `number`; its tray entry stays."""
        size, kind, grade, by, claim = self._database.execute(
            "SELECT size, kind, grade, found_by, claim FROM finds WHERE id = ?",
            (number,)).fetchone()
        in_tray = self._database.execute(
            "SELECT added FROM tray WHERE find = ?", (number,)).fetchone()
        self._remove(source, number, size, kind, grade, by)
        self._insert(source, find, claim, number)
        if find.grade is Grade.WHOLE:
            self._drop_scraps(source, find)
        if in_tray is not None:
            self._database.execute("INSERT INTO tray VALUES (?, ?)", (number, in_tray[0]))

    def _drop_scraps(self, source: int, find: Find) -> None:
        """What was told of the inside of a broken find is nothing once that find is whole."""
        inside = self._database.execute(
            "SELECT id, size, kind, grade, found_by FROM finds WHERE source = ?"
            " AND parent_start = ? AND parent_format = ? AND grade = ? AND start < ?"
            " AND id NOT IN (SELECT find FROM tray)",
            (source, find.start, find.format, Grade.REMNANT, find.start + find.size)).fetchall()
        for number, size, kind, grade, by in inside:
            self._remove(source, number, size, kind, grade, by)

    def _remove(self, source: int, number: int, size: int, kind: str, grade: str,
                by: str) -> None:
        for table in ("extents", "checks", "tray"):
            self._database.execute(f"DELETE FROM {table} WHERE find = ?", (number,))
        self._database.execute("DELETE FROM finds WHERE id = ?", (number,))
        self._tally(source, by.split(",")[0], kind, grade, -1, -size)

    def _insert_parts(self, new: Iterable[tuple[int, Find]]) -> None:
        new = list(new)
        self._database.executemany(
            "INSERT OR REPLACE INTO extents VALUES (?, ?, ?, ?)",
            [(n, i, o, length) for n, f in new for i, (o, length) in enumerate(f.extents)])
        self._database.executemany(
            "INSERT OR REPLACE INTO checks VALUES (?, ?, ?, ?, ?, ?, ?)",
            [(n, i, c.name, c.outcome, c.code, json.dumps(dict(c.values)), int(c.content))
             for n, f in new for i, c in enumerate(f.checks)])

    def _count(self, source: int, finds: Iterable[Find]) -> None:
        for find in finds:
            self._tally(source, find.found_by[0], find.kind, find.grade, 1, find.size)

    def _tally(self, source: int, step: str, kind: str, grade: str, count: int, size: int) -> None:
        self._database.execute(
            "INSERT INTO tally VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET"
            " finds = finds + excluded.finds, bytes = bytes + excluded.bytes",
            (source, step, kind, grade, count, size))

    def _write_pictures(self, number: int, find: Find) -> None:
        for path, picture in ((places.thumbnail_path(self._folder, number), find.thumbnail),
                              (places.strip_path(self._folder, number), find.strip)):
            if not picture:
                continue
            try:
                path.parent.mkdir(parents=True, exist_ok=True)
                path.write_bytes(picture)
            except OSError as error:
                raise JobError("job-not-written", path=str(self._folder),
                               reason=str(error)) from error


def record_from(row: Sequence[Any]) -> Record | None:
    """The record that RECORD_COLUMNS hold; None where there is none."""
    if row[0] is None:
        return None
    (at, stated, created, modified, accessed, removed_at, kept, original, purge_at, encoding,
     content, coded, unproven) = row
    return Record(at, stated, created, modified, accessed, removed_at, kept, encoding, content,
                  coded_from(coded), original, purge_at, bool(unproven))


def _record_columns(record: Record | None) -> tuple[Any, ...]:
    if record is None:
        return (None, None, None, None, None, None, "", None, None, "plain", None, None, 0)
    return (record.at, record.size, record.created, record.modified, record.accessed,
            record.removed_at, record.kept, record.original, record.purge_at, record.encoding,
            record.content, coded_text(record.coded), int(record.claim))


def _kept_record(find: Find, stands: Standing) -> Find:
    """`find` with the record that its earlier version has, if it brings none."""
    if find.record is not None or stands.record is None:
        return replace(find, found_by=tuple(dict.fromkeys((*stands.found_by, *find.found_by))))
    checks = (*find.checks, *(c for c in stands.checks if c.name in RECORD_CHECKS))
    return replace(find, name=stands.name, path=stands.path, removed=stands.removed,
                   record=stands.record, checks=checks,
                   found_by=tuple(dict.fromkeys((*stands.found_by, *find.found_by))))


def coded_text(parts: CodedParts) -> str | None:
    """Compressed pieces as JSON; None where there are none."""
    if not parts:
        return None
    return json.dumps([
        list(p) if isinstance(p, tuple) else
        {"extents": p.extents, "length": p.length, "coding": p.coding, "made": p.made,
         "skip": p.skip} for p in parts])


def coded_from(text: str | None) -> CodedParts:
    """The pieces that `coded_text` wrote."""
    if not text:
        return ()
    return tuple(
        (p[0], p[1]) if isinstance(p, list) else
        Coded(tuple((o, n) for o, n in p["extents"]), p["length"], p["coding"], p["made"],
              p["skip"]) for p in json.loads(text))
