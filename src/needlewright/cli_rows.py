"""The command that prints the rows of a SQLite database, removed ones included."""

from __future__ import annotations

import argparse
import contextlib
import csv
import math
import sys
import threading
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import IO, Any

from needlewright.cli_files import listing
from needlewright.core.databases.reading import Database, Evidence, Row
from needlewright.core.databases.records import Value
from needlewright.core.databases.sim_book import MOST_BYTES, Contact, contacts
from needlewright.core.databases.vcards import card
from needlewright.core.errors import NeedlewrightError
from needlewright.core.names import safe_name
from needlewright.core.sources.files import ImageFile
from needlewright.core.sources.source import Source
from needlewright.wording import cli as words
from needlewright.wording import rows as told

LOG, JOURNAL = "-wal", "-journal"
MAX_NAMES = 1000
MAGIC = b"SQLite format 3\0"


def add_command(commands: Any, existing: Any, interrupt: Any) -> None:
    """Add `rows`; `existing` parses the path of a file, `interrupt` gives a stop signal."""
    rows = commands.add_parser("rows", help=words.HELP["rows"])
    rows.add_argument("file", metavar="FILE", type=existing, help=words.HELP["rows_file"])
    rows.add_argument("--removed-only", action="store_true", help=words.HELP["rows_removed"])
    rows.add_argument("--json", metavar="OUT", help=words.HELP["json_out"])
    rows.add_argument("--csv", metavar="DIR", help=words.HELP["rows_csv"])
    rows.add_argument("--vcard", metavar="OUT", help=words.HELP["rows_vcard"])
    rows.set_defaults(action=lambda options: _rows(options, interrupt()))


def _rows(options: argparse.Namespace, stop: threading.Event) -> int:
    counts: Counter[str] = Counter()
    path = Path(options.file)

    def breathe() -> None:
        if stop.is_set():
            raise KeyboardInterrupt

    with contextlib.ExitStack() as open_ones:
        source = open_ones.enter_context(contextlib.closing(ImageFile(path)))
        book = [] if source.read_at(0, len(MAGIC)) == MAGIC else contacts(
            source.read_at(0, MOST_BYTES + 1))
        log, journal = (_beside(path, suffix, open_ones) for suffix in (LOG, JOURNAL))
        database = None if book else Database(source, log, journal, breathe)
        tables = open_ones.enter_context(_Tables(options.csv))
        list_ = open_ones.enter_context(listing(options.json, "rows"))
        cards = open_ones.enter_context(_Cards(options.vcard))
        for row in map(_as_row, book) if database is None else _of(database, options.removed_only):
            counts[row.state] += 1
            list_.add(as_json(row))
            tables.add(row)
            cards.add(row)
            print(told.line(row), flush=stop.is_set())
    print(told.totals(counts))
    for sentence in told.trouble(database.trouble) if database is not None else ():
        print(f"needlewright: {sentence}", file=sys.stderr)
    return 0


def _as_row(one: Contact) -> Row:
    """An entry of a SIM's phone book."""
    return Row("phone book", ("name", "number"), one.record, (one.name, one.number), "live",
               Evidence("record", one.record, one.at))


class _Cards:
    """A new file of cards, one for each row that is a contact; nothing without one."""

    def __init__(self, path: str | None) -> None:
        self._path = path
        self._file: IO[str] | None = None

    def __enter__(self) -> _Cards:
        if self._path is not None:
            try:
                self._file = open(self._path, "x", encoding="utf-8", newline="")
            except FileExistsError as error:
                raise NeedlewrightError("list-there", path=self._path) from error
        return self

    def __exit__(self, *_: object) -> None:
        if self._file is not None:
            self._file.close()

    def add(self, row: Row) -> None:
        made = card(row.columns, row.values) if self._file is not None and not row.lost else None
        if made is not None and self._file is not None:
            self._file.write(made)


def _beside(path: Path, suffix: str, open_ones: contextlib.ExitStack) -> Source | None:
    """The log or journal beside a database, where one is."""
    other = path.with_name(path.name + suffix)
    if not other.is_file() or other.stat().st_size == 0:
        return None
    return open_ones.enter_context(contextlib.closing(ImageFile(other)))


def _of(database: Database, removed_only: bool) -> Iterator[Row]:
    if not removed_only:
        yield from database.live()
    yield from database.removed()


def as_json(row: Row) -> dict[str, Any]:
    """A row as the list has it; bytes as {"hex": …}, numbers that JSON has not as text."""
    return {
        "table": row.table, "rowid": row.rowid, "columns": list(row.columns),
        "values": [_json_value(v) for v in row.values], "state": row.state,
        "evidence": {"where": row.evidence.where, "page": row.evidence.page,
                     "offset": row.evidence.at, "pages": list(row.evidence.more)},
        "lost": list(row.lost), "doubts": [told.DOUBTS.get(code, code) for code in row.doubts],
    }


def _json_value(value: Value) -> Any:
    if isinstance(value, bytes):
        return {"hex": value.hex()}
    if isinstance(value, float) and not math.isfinite(value):
        return str(value)
    return value


class _Tables:
    """A CSV file for each table in a new folder; nothing without one."""

    def __init__(self, folder: str | None) -> None:
        self._folder = None if folder is None else Path(folder)
        self._files: dict[tuple[str, tuple[str, ...]], tuple[IO[str], Any]] = {}

    def __enter__(self) -> _Tables:
        if self._folder is not None:
            try:
                self._folder.mkdir(parents=True)
            except FileExistsError as error:
                raise NeedlewrightError("rows-folder-there", path=str(self._folder)) from error
        return self

    def __exit__(self, *_: object) -> None:
        for file, _writer in self._files.values():
            file.close()

    def add(self, row: Row) -> None:
        if self._folder is None:
            return
        key = row.table, row.columns
        if key not in self._files:
            file = self._new(row.table)
            writer = csv.writer(file)
            writer.writerow(("state", "row number", *row.columns, "not known", "where"))
            self._files[key] = file, writer
        self._files[key][1].writerow((
            row.state, row.rowid, *map(_csv_value, row.values), ", ".join(row.lost),
            told.evidence(row)))

    def _new(self, table: str) -> IO[str]:
        assert self._folder is not None
        stem = safe_name(table) or "table"
        for number in range(1, MAX_NAMES):
            name = f"{stem}.csv" if number == 1 else f"{stem}-{number}.csv"
            with contextlib.suppress(FileExistsError):
                return open(self._folder / name, "x", encoding="utf-8", newline="",
                            errors="backslashreplace")
        raise NeedlewrightError("rows-folder-there", path=str(self._folder))


def _csv_value(value: Value) -> Any:
    return value.hex() if isinstance(value, bytes) else value
