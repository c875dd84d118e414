"""Relations between the finds of a job: what lies inside another, was joined or mended from it."""

from __future__ import annotations

import json
from collections.abc import Sequence
from typing import Any

from needlewright.core.codes import Reason
from needlewright.core.finds import MENDED_FROM, NOT_MENDED
from needlewright.core.jobfile.database import Database


class Links:
    """The relations of one job; each change is a transaction of its own."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def mended(self, number: int) -> tuple[int | None, tuple[Reason, ...]]:
        """(the find that `number` was mended from, what was changed)."""
        row = self._database.row("SELECT other, detail FROM links WHERE find = ? AND relation = ?",
                                 (number, MENDED_FROM))
        if row is None:
            return None, ()
        told = json.loads(row[1]) if row[1] else []
        return int(row[0]), tuple(Reason(str(code), dict(values)) for code, values in told)

    def treated(self) -> dict[int, tuple[str, float, str]]:
        """Damaged finds that mending was tried on -> (grade, share of what was mended from it, why
        nothing was: a code, or "")."""
        rows = self._database.rows(
            "SELECT l.other, m.grade, m.share, '' FROM links l JOIN finds m ON m.id = l.find"
            " WHERE l.relation = ? UNION ALL"
            " SELECT find, '', 0.0, detail FROM links WHERE relation = ?",
            (MENDED_FROM, NOT_MENDED))
        # What was mended counts, whatever came of an earlier try.
        return {row[0]: (row[1], row[2], row[3]) for row in reversed(rows)}

    def of(self, number: int, relation: str, back: bool = False) -> list[int]:
        """The finds that `number` has a relation to; with `back`, those that have it to it."""
        mine, others = ("other", "find") if back else ("find", "other")
        return [row[0] for row in self._database.rows(
            f"SELECT {others} FROM links WHERE {mine} = ? AND relation = ? ORDER BY 1",
            (number, relation))]

    def all(self, relation: str) -> list[tuple[Any, ...]]:
        """(find, other) of all that have a relation."""
        return self._database.rows("SELECT find, other FROM links WHERE relation = ?", (relation,))

    def add(self, number: int, other: int, relation: str, detail: str = "") -> None:
        """Keep that find `number` has a relation to find `other`."""
        self._database.change("INSERT OR REPLACE INTO links VALUES (?, ?, ?, ?)",
                              (number, other, relation, detail))

    def replace(self, pairs: Sequence[tuple[int, int]], relation: str) -> None:
        """Keep many at once, in the place of all that had the relation before."""
        def write() -> None:
            self._database.run("DELETE FROM links WHERE relation = ?", (relation,))
            self._database.many("INSERT OR REPLACE INTO links VALUES (?, ?, ?, '')",
                                ((one, other, relation) for one, other in pairs))

        self._database.write(write)
