"""What the specialist said of finds: into the tray, put aside, for later, a note; with undo.

All four stand in one table. Each call is one step of a journal, and the last step can be taken
back as a whole.
"""

from __future__ import annotations

import time
from collections.abc import Iterable
from dataclasses import dataclass
from functools import partial
from typing import Any

from needlewright.core.jobfile.database import Database
from needlewright.core.jobfile.odd_rows import whole_row

TRAY, ASIDE, LATER, NOTE = FIELDS = ("tray", "aside", "later", "note")
MAX_NOTE = 4000  # letters
EMPTY = "tray IS NULL AND aside IS NULL AND later IS NULL AND note = ''"


@dataclass(frozen=True, slots=True)
class Review:
    """What was said of one find; times in seconds since 1970, None where it was not."""

    tray: float | None = None
    aside: float | None = None
    later: float | None = None
    note: str = ""


NOTHING_SAID = Review()


class Reviews:
    """The reviews of one job; every change is a transaction of its own."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def of(self, number: int) -> Review:
        """What was said of a find."""
        row = self._database.row(
            "SELECT tray, aside, later, note FROM reviews WHERE find = ?", (number,))
        return Review(*row) if row else NOTHING_SAID

    def mark(self, field: str, ids: Iterable[int], on: bool) -> int:
        """Put finds into the tray, aside or to later, or take them out; how many that changed.

        What is gone cannot be delivered, so it never gets into the tray.
        """
        if field not in (TRAY, ASIDE, LATER):
            raise ValueError(field)
        return self._database.write(partial(self._mark, field, tuple(ids), on), soon=True)

    def put_in_tray(self, ids: Iterable[int]) -> None:
        """Choose finds for delivery; those that are gone cannot be."""
        self.mark(TRAY, ids, True)

    def take_from_tray(self, ids: Iterable[int]) -> None:
        self.mark(TRAY, ids, False)

    def _mark(self, field: str, ids: tuple[int, ...], on: bool) -> int:
        now = time.time() if on else None
        wanted = "grade <> 'gone'" if field == TRAY and on else "1"
        changed = []
        for number in ids:
            row = self._database.row(
                f"SELECT r.{field} FROM finds f LEFT JOIN reviews r ON r.find = f.id"
                f" WHERE f.id = ? AND {wanted}", (number,))
            if row is not None and (row[0] is not None) != on:
                changed.append((number, row[0], now))
        self._change(field, changed)
        return len(changed)

    def write_note(self, number: int, text: str) -> None:
        """Write a note to a find; an empty one takes it away."""
        self._database.write(partial(self._write_note, number, text.strip()[:MAX_NOTE]), soon=True)

    def _write_note(self, number: int, text: str) -> None:
        was = self.of(number).note
        there = self._database.row("SELECT 1 FROM finds WHERE id = ?", (number,))
        if there is not None and was != text:
            self._change(NOTE, [(number, was, text)])

    def undo(self) -> tuple[int, ...]:
        """Take the last step back; the finds that it concerned, none where there is no step."""
        return self._database.write(self._undo, soon=True)

    @whole_row()
    def _undo(self) -> tuple[int, ...]:
        rows = self._database.rows(
            "SELECT find, field, was FROM review_journal WHERE step ="
            " (SELECT max(step) FROM review_journal)")
        for number, field, was in rows:
            self._set(field, number, was)
        self._database.run("DELETE FROM review_journal WHERE step ="
                           " (SELECT max(step) FROM review_journal)")
        return tuple(number for number, _, _ in rows)

    def tray_size(self) -> tuple[int, int]:
        """(finds, bytes) in the tray."""
        row = self._database.row(
            "SELECT count(*), coalesce(sum(f.size), 0) FROM reviews r"
            " JOIN finds f ON f.id = r.find WHERE r.tray IS NOT NULL")
        assert row is not None
        return int(row[0]), int(row[1])

    @whole_row()
    def _change(self, field: str, changes: list[tuple[int, Any, Any]]) -> None:
        if not changes:
            return
        last = self._database.row("SELECT coalesce(max(step), 0) FROM review_journal")
        step = (last[0] if last else 0) + 1
        for number, _, became in changes:
            self._set(field, number, became)
        now = time.time()
        self._database.many(
            "INSERT INTO review_journal (step, at, find, field, was, became)"
            " VALUES (?, ?, ?, ?, ?, ?)",
            [(step, now, number, field, was, became) for number, was, became in changes])

    def _set(self, field: str, number: int, value: Any) -> None:
        self._database.run(
            f"INSERT INTO reviews (find, {field}) VALUES (?, ?)"
            f" ON CONFLICT DO UPDATE SET {field} = excluded.{field}", (number, value))
        self._database.run(f"DELETE FROM reviews WHERE find = ? AND {EMPTY}", (number,))
