"""The connection to a job's SQLite file: the one place where its errors become ours.

All writing is done by the job's one writing thread (see `scribe`); only for other processes is
SQLite asked again and again. What can still be read of a damaged file is given; that it is damaged
is kept in `damage`.
"""

from __future__ import annotations

import os
import shutil
import sqlite3
import tempfile
import threading
from collections.abc import Callable, Iterable, Sequence
from functools import partial
from pathlib import Path
from typing import Any, TypeVar

from needlewright.core.errors import JobError
from needlewright.core.jobfile import folder as on_disk
from needlewright.core.jobfile.migrations import MIGRATIONS, migrate
from needlewright.core.jobfile.odd_rows import readable
from needlewright.core.jobfile.scribe import Scribe, scribe_of

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
        self._connection = _connect(folder, create, read_only)
        self._name = str(folder)
        self._afterwards: list[Callable[[], None]] = []
        self.damage = _looked_through(self._name, self._connection)
        self._scribe: Scribe | None = None if read_only else scribe_of(folder)

    def close(self) -> None:
        """Close it, after all that waits is written."""
        scribe, self._scribe = self._scribe, None
        if scribe is not None:
            scribe.leave()
        self._connection.close()
        name, self._name = self._name, ""
        _let_go(name)

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

    def readable(self, rows: Iterable[Any], make: Callable[[Any], T]) -> list[T]:
        """What `make` gives for each row; those whose values make no sense are left out, and noted
        as damage."""
        return readable(rows, make, self.damaged)

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
            self._afterwards.clear()
            raise
        while self._afterwards:
            self._afterwards.pop()()
        return done

    def afterwards(self, act: Callable[[], None]) -> None:
        """Have `act` run once the transaction that is being written is, and not if it never is."""
        self._afterwards.append(act)

    def _explained(self, error: Exception) -> JobError:
        if isinstance(error, sqlite3.OperationalError) or _kind(error) in FULL_OR_READ_ONLY:
            return JobError("job-not-written", path=str(self.folder), reason=str(error))
        return JobError("job-damaged", path=str(self.folder), reason=str(error))


_open: dict[str, tuple[int, str | None]] = {}  # folder -> (how many have it open, its damage)
_lock = threading.Lock()


def _looked_through(name: str, connection: sqlite3.Connection) -> str | None:
    """What is wrong with the pages of the job file in the folder `name`, which is looked through
    where nobody in this process has it open yet; None where nothing is."""
    with _lock:
        users, damage = _open.get(name, (0, None))
        if not users:
            try:
                told = str(connection.execute("PRAGMA quick_check(1)").fetchone()[0])
            except BROKEN as error:  # one that is busy is not damaged
                told = "ok" if _kind(error) in FULL_OR_READ_ONLY else str(error)
            damage = None if told == "ok" else told.splitlines()[-1]
        _open[name] = users + 1, damage
        return damage


def _let_go(name: str) -> None:
    with _lock:
        users, damage = _open.get(name, (0, None))
        if users > 1:
            _open[name] = users - 1, damage
        else:
            _open.pop(name, None)


def _kind(error: Exception) -> int:
    return getattr(error, "sqlite_errorcode", 0) & 0xFF


def _connect(folder: Path, create: bool, read_only: bool) -> sqlite3.Connection:
    path = folder / on_disk.DATABASE
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
        database.execute(f"PRAGMA journal_mode = {on_disk.journal_mode(folder)}")
        database.execute("PRAGMA synchronous = NORMAL")
        database.execute("PRAGMA foreign_keys = ON")
    except BaseException:
        database.close()
        raise
    return database


def _open_to_read(path: Path, folder: Path, copied: bool = False) -> sqlite3.Connection:
    """Open without changing a byte; an older file, or one that is `copied`, in memory only."""
    writable = os.access(path.parent, os.W_OK)
    log = path.with_name(f"{path.name}-wal")
    if not writable and log.exists() and log.stat().st_size:
        return _with_log(path, log, folder)
    mode = "mode=ro" if writable else "mode=ro&immutable=1"  # no room for files beside it
    database = sqlite3.connect(f"file:{_quoted(path)}?{mode}", uri=True, isolation_level=None,
                               timeout=BUSY_SECONDS, check_same_thread=False)
    try:
        version = database.execute("PRAGMA user_version").fetchone()[0]
        if copied or version < len(MIGRATIONS):
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


def _with_log(path: Path, log: Path, folder: Path) -> sqlite3.Connection:
    """A copy in memory of a job file and the log beside it, on a medium that allows no writing: the
    newest finds stand in the log alone, which SQLite reads only where it may write beside it."""
    with tempfile.TemporaryDirectory(prefix="needlewright-") as place:
        for one in (path, log):
            shutil.copyfile(one, Path(place) / one.name)
        return _open_to_read(Path(place) / path.name, folder, copied=True)


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
