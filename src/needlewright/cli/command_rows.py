"""The command that prints the rows of a SQLite database, removed ones included."""

from __future__ import annotations

import argparse
import contextlib
import math
import sys
import threading
from collections import Counter
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path
from typing import IO, Any

from needlewright.cli.arguments import existing
from needlewright.cli.command_files import listing
from needlewright.cli.registry import Command, register
from needlewright.cli.work import stoppable
from needlewright.core.databases.logs import JOURNAL, LOG
from needlewright.core.databases.reading import Database
from needlewright.core.databases.records import Value
from needlewright.core.databases.rows import Evidence, Row
from needlewright.core.databases.sim_book import MOST_BYTES, Contact, contacts
from needlewright.core.databases.vcards import card
from needlewright.core.delivery.rows_folder import RowsFolder
from needlewright.core.errors import NeedlewrightError
from needlewright.core.sources.files import ImageFile
from needlewright.core.sources.source import Source
from needlewright.wording import cli as words
from needlewright.wording import rows as told
from needlewright.wording.rows_page import page

MOST_ATTACHED = 1 << 30  # bytes of a file that a value names
MAGIC = b"SQLite format 3\0"


def _rows_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("file", metavar="FILE", type=existing, help=words.HELP["rows_file"])
    parser.add_argument("--removed-only", action="store_true", help=words.HELP["rows_removed"])
    parser.add_argument("--json", metavar="OUT", help=words.HELP["json_out"])
    folder = parser.add_mutually_exclusive_group()
    folder.add_argument("--csv", metavar="DIR", help=words.HELP["rows_csv"])
    folder.add_argument("--html", metavar="DIR", help=words.HELP["rows_html"])
    parser.add_argument("--files", metavar="FOLDER", type=_folder_there,
                      help=words.HELP["rows_files"])
    parser.add_argument("--vcard", metavar="OUT", help=words.HELP["rows_vcard"])


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
        tables = _folder(options, path, options.files)
        if tables is not None:
            open_ones.enter_context(tables)
        list_ = open_ones.enter_context(listing(options.json, "rows"))
        cards = open_ones.enter_context(_Cards(options.vcard))
        for row in map(_as_row, book) if database is None else _of(database, options.removed_only):
            counts[row.state] += 1
            list_.add(as_json(row))
            if tables is not None:
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
        "table": row.table, "rowid": row.rowid, "rowid_likely": row.probable,
        "columns": list(row.columns),
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


def _folder(options: argparse.Namespace, path: Path, files: str | None) -> RowsFolder | None:
    """Where rows go as files, as far as that is wanted."""
    where = options.csv or options.html
    if where is None:
        return None
    made = RowsFolder(Path(where), told.evidence,
                      partial(page, path.name) if options.html else None, _beside_in(files))
    made.make()
    return made


def _folder_there(text: str) -> str:
    if not Path(text).is_dir():
        raise argparse.ArgumentTypeError(f"there is no folder {text}")
    return text


def _beside_in(folder: str | None) -> Callable[[str], bytes | None]:
    """Finds files that values name, by their names, in a folder and those within it."""
    if folder is None:
        return lambda name: None
    by_name: dict[str, Path] = {}
    for found in sorted(Path(folder).rglob("*")):
        if found.is_file() and not found.is_symlink():
            by_name.setdefault(found.name.casefold(), found)

    def read(name: str) -> bytes | None:
        leaf = name.replace("\\", "/").rpartition("/")[2].casefold()
        path = by_name.get(leaf)
        with contextlib.suppress(OSError):
            if path is not None and path.stat().st_size <= MOST_ATTACHED:
                return path.read_bytes()
        return None

    return read


register(Command("rows", _rows_arguments, stoppable(_rows)))
