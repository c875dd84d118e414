"""The command line's part about rows of databases on a shelf, before the rest of it is fetched."""

from __future__ import annotations

import sys
from collections import Counter
from collections.abc import Iterator, Sequence
from contextlib import ExitStack
from itertools import chain
from typing import Any

from needlewright.cli.command_rows import as_json
from needlewright.core.databases.reading import Database
from needlewright.core.databases.rows import Row
from needlewright.core.errors import NeedlewrightError
from needlewright.core.search.shelf_names import Inside
from needlewright.core.search.shelf_rows import NamedFiles, fetch_rows, holds_rows
from needlewright.core.sources.shelf import DistantShelf
from needlewright.core.stopping import Interrupted, StopSignal
from needlewright.wording import inside as inside_words
from needlewright.wording import rows as told


class RowsInside:
    """The rows of those of `wanted` that are databases; one that cannot be read costs itself
    alone."""

    def __init__(self, shelf: DistantShelf, wanted: Sequence[Inside], stop: StopSignal) -> None:
        self._shelf, self._stop = shelf, stop
        self._databases = [one for one in wanted if holds_rows(one)]
        self._named = NamedFiles(shelf.offered())
        self._failed: set[str] = set()

    def show(self, names_only: bool) -> None:
        """Print them; `names_only`: the paths of the files that they name, each once."""
        seen: set[str] = set()
        for one in self._databases:
            counts: Counter[str] = Counter()
            if not names_only:
                print(one.path)
            for row in self._rows(one):
                counts[row.state] += 1
                files = [found.entry.path for found in self._named.of(row)]
                if not names_only:
                    print(f"  {told.line(row)}")
                for path in files:
                    if not names_only:
                        print(f"    {inside_words.NAMES.format(path=path)}")
                    elif path not in seen:
                        print(path)
                        seen.add(path)
            if not names_only and one.path not in self._failed:
                print(f"  {told.totals(counts)}")
        if not self._databases and not names_only:
            print(inside_words.NO_ROWS)

    def as_json(self) -> list[dict[str, Any]]:
        """As the list has them: for each database its rows, and the files that each names."""
        return [{"path": one.path, "rows": [
            {**as_json(row), "files": [found.entry.path for found in self._named.of(row)]}
            for row in self._rows(one)]} for one in self._databases]

    def _rows(self, one: Inside) -> Iterator[Row]:
        try:
            with ExitStack() as held:
                database = Database(*fetch_rows(self._shelf, one.offered, held), self._breathe)
                flaw = self._shelf.flaw(one.offered)
                if flaw is not None:
                    self._problem(one, flaw)
                yield from chain(database.live(), database.removed())
        except NeedlewrightError as error:
            self._failed.add(one.path)
            self._problem(one, error)

    def _problem(self, one: Inside, error: NeedlewrightError) -> None:
        print(f"needlewright: {one.path}: {inside_words.flaw_line(error)}", file=sys.stderr)

    def _breathe(self) -> None:
        if self._stop.is_set():
            raise Interrupted
