"""The rows of a database that the window shows: removed ones first, and not endlessly many."""

from __future__ import annotations

import itertools
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass

from needlewright.core.databases.reading import Database
from needlewright.core.databases.rows import Row
from needlewright.core.sources.source import Source

ROWS_SHOWN = 5000


@dataclass(frozen=True, slots=True)
class RowsRead:
    """Rows of a database: removed ones, then older states, then live ones, as many as are shown;
    how many there are in each state."""

    rows: list[Row]
    counts: dict[str, int]


def read_rows(file: Source, breathe: Callable[[], None], log: Source | None = None,
              journal: Source | None = None,
              each: Callable[[Row], object] = lambda row: None) -> RowsRead:
    """FormatError where the database has no beginning, Interrupted where `breathe` says so. `log`,
    `journal`: its own; `each` is told every row, also those that are not shown."""
    database = Database(file, log, journal, breathe)
    counts: Counter[str] = Counter()
    kept: dict[str, list[Row]] = {"removed": [], "older": [], "live": []}
    for row in itertools.chain(database.removed(), database.live()):
        counts[row.state] += 1
        each(row)
        if len(kept[row.state]) < ROWS_SHOWN:
            kept[row.state].append(row)
    rows = [row for state in kept.values() for row in state]
    return RowsRead(rows[:ROWS_SHOWN], dict(counts))
