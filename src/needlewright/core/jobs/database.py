"""The connection to a job's SQLite file: the one place where its errors become ours.

All writing is done by the job's one writing thread (see `scribe`); only for other processes is
SQLite asked again and again. What can still be read of a damaged file is given; that it is damaged
is kept in `damage`.
"""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Callable, Iterable, Sequence
from functools import partial
from pathlib import Path
from typing import Any, TypeVar

from needlewright.core.errors import JobError
from needlewright.core.jobs import folder as places
from needlewright.core.jobs.migrations import MIGRATIONS, migrate
from needlewright.core.jobs.scribe import Scribe, scribe_of

BUSY_SECONDS = 20.0
FULL_OR_READ_ONLY = (sqlite3.SQLITE_FULL, sqlite3.SQLITE_READONLY, sqlite3.SQLITE_IOERR,
                     sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED, sqlite3.SQLITE_CANTOPEN,
                     sqlite3.SQLITE_PERM)
#: What SQLite raises; of a damaged file its messages may not even be text.
BROKEN = (sqlite3.Error, UnicodeDecodeError)
Row = tuple[Any, ...]
T = TypeVar("T")


class Database:
    """An open job file. All methods raise JobError, never an error of SQLite."""

    def __init__(self, folder: Path, *, create: bool, read_only: bool) -> None:
        self.folder = folder
        self.damage: str | None = None
        self._connection = _connect(folder, create, read_only)
        self._scribe: Scribe | None = None if read_only else scribe_of(folder)

    def close(self) -> None:
        """Close it, after all that waits is written."""
        scribe, self._scribe = self._scribe, None
        if scribe is not None:
            scribe.leave()
        self._connection.close()

    @property
    def changes(self) -> int:
        """Rows changed since it was opened."""
        return self._connection.total_changes

    def rows(self, sql: str, values: Sequence[Any] = ()) -> list[Row]:
        """All rows; of a damaged file those before the damage, which is noted."""
        found: list[Row] = []
        try:
            for row in self._connection.execute(sql, values):
                found.append(row)
        except BROKEN as error:
            if _kind(error) in FULL_OR_READ_ONLY or isinstance(error, sqlite3.ProgrammingError):
                raise self._explained(error) from error
            self.damage = str(error)
        return found

    def damaged(self, why: str) -> None:
        """Note that something of the file makes no sense."""
        self.damage = self.damage or why

    def row(self, sql: str, values: Sequence[Any] = ()) -> Row | None:
        """The first row, or None."""
        try:
            found: Row | None = self._connection.execute(sql, values).fetchone()
        except BROKEN as error:
            raise self._explained(error) from error
        return found

    def run(self, sql: str, values: Sequence[Any] = ()) -> sqlite3.Cursor:
        """Run a statement that changes something."""
        try:
            return self._connection.execute(sql, values)
        except BROKEN as error:
            raise self._explained(error) from error

    def many(self, sql: str, values: Iterable[Sequence[Any]]) -> None:
        """Run one statement for each of `values`."""
        try:
            self._connection.executemany(sql, values)
        except BROKEN as error:
            raise self._explained(error) from error

    def write(self, act: Callable[[], T], soon: bool = False) -> T:
        """Run `act` as one transaction, in the writing thread: all of it happens or nothing.

        `soon`: a person waits for it, so it goes before the batches of a search.
        """
        if self._scribe is None:
            return self._transaction(act)
        return self._scribe.write(partial(self._transaction, act), soon)

    def change(self, sql: str, values: Sequence[Any] = ()) -> None:
        """Run one statement as a transaction of its own."""
        self.write(partial(self.run, sql, values))

    def _transaction(self, act: Callable[[], T]) -> T:
        if self._connection.in_transaction:  # a part of something larger
            return act()
        self.run("BEGIN IMMEDIATE")
        try:
            done = act()
            self.run("COMMIT")
        except BaseException:
            if self._connection.in_transaction:
                self._connection.rollback()
            raise
        return done

    def _explained(self, error: Exception) -> JobError:
        if isinstance(error, sqlite3.OperationalError) or _kind(error) in FULL_OR_READ_ONLY:
            return JobError("job-not-written", path=str(self.folder), reason=str(error))
        return JobError("job-damaged", path=str(self.folder), reason=str(error))


def _kind(error: Exception) -> int:
    return getattr(error, "sqlite_errorcode", 0) & 0xFF


def _connect(folder: Path, create: bool, read_only: bool) -> sqlite3.Connection:
    path = folder / places.DATABASE
    if not path.exists():
        _prepare(folder, create)
    if not read_only and not all(
            os.access(p, os.W_OK) for p in (folder, path) if p.exists()):
        raise JobError("job-read-only", path=str(folder))
    try:
        return _open_to_read(path, folder) if read_only else _open_to_write(path, folder)
    except BROKEN as error:
        code = "job-not-written" if _kind(error) in FULL_OR_READ_ONLY else "job-damaged"
        raise JobError(code, path=str(folder), reason=str(error)) from error


def _open_to_write(path: Path, folder: Path) -> sqlite3.Connection:
    database = sqlite3.connect(f"file:{_quoted(path)}?mode=rwc", uri=True, isolation_level=None,
                               timeout=BUSY_SECONDS, check_same_thread=False)
    try:
        migrate(database, str(folder))
        database.execute(f"PRAGMA journal_mode = {places.journal_mode(folder)}")
        database.execute("PRAGMA synchronous = NORMAL")
        database.execute("PRAGMA foreign_keys = ON")
    except BaseException:
        database.close()
        raise
    return database


def _open_to_read(path: Path, folder: Path) -> sqlite3.Connection:
    """Open without changing a byte; an older file is brought up to date in memory only."""
    writable = os.access(folder, os.W_OK)
    mode = "mode=ro" if writable else "mode=ro&immutable=1"  # no room for files beside it
    database = sqlite3.connect(f"file:{_quoted(path)}?{mode}", uri=True, isolation_level=None,
                               timeout=BUSY_SECONDS, check_same_thread=False)
    try:
        if database.execute("PRAGMA user_version").fetchone()[0] < len(MIGRATIONS):
            copy = sqlite3.connect(":memory:", isolation_level=None, check_same_thread=False)
            database.backup(copy)
            database.close()
            database = copy
        migrate(database, str(folder))
        database.execute("PRAGMA query_only = ON")
    except BaseException:
        database.close()
        raise
    return database


def _prepare(folder: Path, create: bool) -> None:
    """Make a new job folder; an existing folder must be empty, so that no stranger is mixed in."""
    if not create:
        raise JobError("job-missing", path=str(folder))
    try:
        folder.mkdir(parents=True, exist_ok=True)
        strangers = next(iter(folder.iterdir()), None)
    except (NotADirectoryError, FileExistsError) as error:
        raise JobError("job-not-a-folder", path=str(folder)) from error
    except OSError as error:
        raise JobError("job-not-written", path=str(folder), reason=error.strerror or "") from error
    if strangers is not None:
        raise JobError("job-not-ours", path=str(folder))


def _quoted(path: Path) -> str:
    return path.as_uri().removeprefix("file://")
