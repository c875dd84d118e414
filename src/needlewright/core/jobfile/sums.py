"""What a find's bytes were when it was judged: a fast sum of them, kept with it. A source that
changed since then is noticed where its bytes are used again.

The sum is a CRC-32: it is to show accidents, and reads several times as fast as a hash.
"""

from __future__ import annotations

import json
import zlib
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from needlewright.core.checks.grading import Grade, lowered, share_of
from needlewright.core.contents import Inline, Packed, Place, Stretches
from needlewright.core.errors import NeedlewrightError
from needlewright.core.finds import Find
from needlewright.core.jobfile.database import Database
from needlewright.core.sources.blocks import blocks
from needlewright.core.sources.source import Source
from needlewright.core.stopping import Interrupted, StopSignal
from needlewright.core.walks import Check, Outcome

MOST_OF_PARTIAL = 1 << 26  # bytes of what is not complete: it may claim the rest of the medium
CHANGED = Check("source", Outcome.FAIL, "source-changed", content=True)


def summed(find: Find, medium: Source, folder: Path, stop: StopSignal) -> Find:
    """`find` with the sum of its bytes; without where they cannot be read, or are none of the
    medium's."""
    complete = find.grade in (Grade.WHOLE, Grade.UNPROVEN)
    if not isinstance(find.content, (Stretches, Packed, Inline)) or find.grade is Grade.GONE or (
            not complete and find.content.size > MOST_OF_PARTIAL):
        return find
    total = 0
    try:
        with find.content.open(Place(medium, folder)) as file:
            for block in blocks(file, stop=stop):
                total = zlib.crc32(block, total)
    except (NeedlewrightError, Interrupted):
        return find
    return replace(find, content_sum=total)


class Sums:
    """The sums of a job's finds."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def of(self, number: int) -> int | None:
        """The sum of a find; None where none was made."""
        row = self._database.row("SELECT content_sum FROM finds WHERE id = ?", (number,))
        return None if row is None else row[0]

    def changed(self, number: int, now: Find | None) -> tuple[Grade, float]:
        """Keep that the bytes of a find are not what they were. `now`: what they are; None where
        they are of no format. Returns (grade, share)."""
        checks: Sequence[Check] = (CHANGED, *(now.checks if now is not None else ()))
        grade = lowered(now.grade, checks) if now is not None else Grade.PARTIAL
        share = share_of(grade, now.share if now is not None else 0.0)

        def write() -> None:
            row = self._database.row(
                "SELECT source, kind, grade, found_by, size FROM finds WHERE id = ?", (number,))
            if row is None:
                return
            source, kind, before, by, size = row
            self._database.run("UPDATE finds SET grade = ?, share = ?, content_sum = NULL"
                               " WHERE id = ?", (grade, share, number))
            self._database.run("DELETE FROM checks WHERE find = ?", (number,))
            self._database.many("INSERT INTO checks VALUES (?, ?, ?, ?, ?, ?, ?)", [
                (number, place, c.name, c.outcome, c.code, json.dumps(dict(c.values)),
                 int(c.content)) for place, c in enumerate(checks)])
            for named, count in ((before, -1), (grade, 1)):
                self._database.run(
                    "INSERT INTO tally VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET"
                    " finds = finds + excluded.finds, bytes = bytes + excluded.bytes",
                    (source, by.split(",")[0], kind, named, count, count * size))
        self._database.write(write)
        return grade, share
