"""The rows of a database as files that anything opens: a CSV file for each table, a page, and what
its values hold as files of their own.
"""

from __future__ import annotations

import contextlib
import csv
import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO, Any

from needlewright.core.databases.records import Value
from needlewright.core.databases.rows import Row
from needlewright.core.databases.talk import Talk, may_name_file, talk_of
from needlewright.core.delivery.listing import cell
from needlewright.core.errors import NeedlewrightError
from needlewright.core.formats.recognising import recognise
from needlewright.core.names import safe_name

MOST_NAMES = 1000
MOST_ON_PAGE = 20_000  # rows of a table; all are in its CSV file
MOST_ATTACHED, MOST_BYTES = 10_000, 1 << 33  # files laid beside, and bytes of them
MOST_TABLES, MOST_OPEN = 5000, 64  # files of tables, and open at a time
LEAST_ATTACHED = 64  # bytes of a value that may be a file
INNER, PAGE = "attachments", "index.html"
HEAD = ("state", "row number")
NUMBER = re.compile(r"[+\-]?[0-9 ().-]*")


@dataclass(frozen=True, slots=True)
class Shown:
    """A row on the page. `files`: column -> the file, from the page on, that its value is, or
    names."""

    row: Row
    talk: Talk | None
    files: Mapping[str, str]


@dataclass(slots=True)
class Sheet:
    """The rows of one table on the page, and how many more there are."""

    table: str
    file: str
    rows: list[Shown] = field(default_factory=list)
    more: int = 0


@dataclass(slots=True)
class _Table:
    """A CSV file on its way."""

    file: IO[str]
    writer: Any
    sheet: Sheet


class RowsFolder:
    """Writes rows into `folder`, which is made with the first one. `page`: the page of all sheets;
    None: CSV alone; `evidence`: where a row stands; `named`: the bytes of a file that a value
    names, or where it is from the page on, None for none."""

    def __init__(self, folder: Path, evidence: Callable[[Row], str],
                 page: Callable[[list[Sheet]], str] | None = None,
                 named: Callable[[str], bytes | str | None] = lambda name: None) -> None:
        self.folder, self.written = folder, list[Path]()
        self._evidence, self._page, self._named = evidence, page, named
        self._files: dict[tuple[str, tuple[str, ...]], _Table] = {}
        self._open: list[_Table] = []
        self._attached: dict[str, str] = {}  # name in a value -> file
        self._bytes = 0  # of what was laid beside

    def __enter__(self) -> RowsFolder:
        return self

    def __exit__(self, kind: object, *_: object) -> None:
        self._close()
        if kind is None and self._page is not None and self._files:
            text = self._page([made.sheet for made in self._files.values()])
            self._write(self.folder / PAGE, text.encode("utf-8", "backslashreplace"))

    def make(self) -> None:
        """Make the folder; refused where there is one."""
        try:
            self.folder.mkdir(parents=True)
        except FileExistsError as error:
            raise NeedlewrightError("rows-folder-there", path=str(self.folder)) from error

    def add(self, row: Row) -> None:
        """One row more."""
        key = row.table, row.columns
        if key not in self._files:
            if not self._files and not self.folder.exists():
                self.make()
            if len(self._files) >= MOST_TABLES:
                return
            table = self._files[key] = self._new(row.table)
            table.writer.writerow((*HEAD, *row.columns, "not known", "where"))
        writer, sheet = self._opened(self._files[key]).writer, self._files[key].sheet
        files = self._files_of(row) if self._page is not None else {}
        writer.writerow((row.state, row.rowid,
                         *(files.get(name) or csv_value(value)
                           for name, value in zip(row.columns, row.values)),
                         ", ".join(row.lost), self._evidence(row)))
        if self._page is None:
            return
        if len(sheet.rows) < MOST_ON_PAGE:
            sheet.rows.append(Shown(row, talk_of(row), files))
        else:
            sheet.more += 1

    def _files_of(self, row: Row) -> dict[str, str]:
        """What values of a row are, or name, as files of their own."""
        found: dict[str, str] = {}
        for name, value in zip(row.columns, row.values):
            if isinstance(value, bytes) and len(value) >= LEAST_ATTACHED:
                forms = recognise(value[:4096])
                if forms:
                    stem = f"{row.table} {row.rowid if row.rowid is not None else row.evidence.at}"
                    found[name] = self._attach(f"{stem} {name}.{forms[0].extension}", value)
            elif may_name_file(value):
                if value not in self._attached:
                    found_one = self._named(value)
                    leaf = value.replace("\\", "/").rstrip("/").rpartition("/")[2]
                    self._attached[value] = self._attach(leaf, found_one) if isinstance(
                        found_one, bytes) else found_one or ""
                if self._attached[value]:
                    found[name] = self._attached[value]
        return {name: file for name, file in found.items() if file}

    def _attach(self, name: str, data: bytes) -> str:
        inner = self.folder / INNER
        self._bytes += len(data)
        if len(self.written) > MOST_ATTACHED or self._bytes > MOST_BYTES:
            return ""
        inner.mkdir(exist_ok=True)
        for path in _free(inner, name):
            with contextlib.suppress(FileExistsError):
                self._write(path, data)
                return f"{INNER}/{path.name}"
        return ""

    def _write(self, path: Path, data: bytes) -> None:
        with open(path, "xb") as out:
            out.write(data)
        self.written.append(path)

    def _opened(self, table: _Table) -> _Table:
        """`table`, ready to be written to; few are at a time."""
        if table.file.closed:
            self._close_some()
            table.file = (self.folder / table.sheet.file).open(
                "a", encoding="utf-8", newline="", errors="backslashreplace")
            table.writer = csv.writer(table.file)
            self._open.append(table)
        return table

    def _close_some(self) -> None:
        if len(self._open) >= MOST_OPEN:
            self._close()

    def _close(self) -> None:
        for table in self._open:
            table.file.close()
        self._open.clear()

    def _new(self, table: str) -> _Table:
        self._close_some()
        for path in _free(self.folder, f"{safe_name(table)}.csv"):
            with contextlib.suppress(FileExistsError):
                made = path.open("x", encoding="utf-8", newline="", errors="backslashreplace")
                self.written.append(path)
                self._open.append(_Table(made, csv.writer(made), Sheet(table, path.name)))
                return self._open[-1]
        raise NeedlewrightError("rows-folder-there", path=str(self.folder))


def _free(folder: Path, name: str) -> Iterator[Path]:
    """Names like `name`, one of which no file in `folder` has yet."""
    stem, dot, suffix = safe_name(name).rpartition(".")
    yield folder / f"{stem}{dot}{suffix}"
    for number in range(2, MOST_NAMES):
        yield folder / f"{stem}-{number}{dot}{suffix}"


def csv_value(value: Value) -> Any:
    """A value as a cell; what a stranger wrote must not run in a table program."""
    if isinstance(value, bytes):
        return value.hex()
    if isinstance(value, str) and NUMBER.fullmatch(value) is not None:
        return value  # as a telephone number with its plus
    return cell(value)
