"""Gives leftover names to nameless finds: where exactly one find has the size that a name states.

A folder may still hold a name with its size and times after the file's own record is gone. Where
one find, and one only, is that long to the byte and of the format that the name promises, it is
told under it, as likely.
"""

from __future__ import annotations

import json
from collections import Counter
from functools import partial

from needlewright.core.jobfile.database import Database, Row
from needlewright.core.walks import Outcome

LEAST_BYTES = 1024  # of a file whose size tells it from others
GONE = ("SELECT id, source, kind, format, stated, name, path, folder, record_at, created, modified,"
        " accessed, removed_at, kept, original, purge_at, former, volume, found_by FROM finds"
        " WHERE source = ? AND grade = 'gone' AND stated >= ? AND name IS NOT NULL"
        " AND id NOT IN (SELECT find FROM reviews)")
NAMELESS = ("SELECT id FROM finds WHERE source = ? AND format = ? AND size = ? AND name IS NULL"
            " AND grade IN ('whole', 'unproven', 'partial') AND id NOT IN (SELECT find FROM links"
            " WHERE relation = 'inside')")
NAMED = ("UPDATE finds SET name = ?, path = ?, folder = ?, removed = 1, record_at = ?, created = ?,"
         " modified = ?, accessed = ?, removed_at = ?, kept = ?, original = ?, purge_at = ?,"
         " unproven = 1, former = ?, volume = ? WHERE id = ?")


def name_by_size(database: Database, source: int) -> list[int]:
    """Name what can be named; the ids of the finds that got a name, and of those that went."""
    gone = database.rows(GONE, (source, LEAST_BYTES))
    claimed = Counter((row[3], row[4]) for row in gone)
    changed: list[int] = []
    for row in gone:
        if claimed[row[3], row[4]] == 1:
            changed += database.write(partial(_name_one, database, source, row))
    return changed


def _name_one(database: Database, source: int, gone: Row) -> list[int]:
    """Give one name; the ids of the find that got it and of the one that went."""
    found = database.rows(NAMELESS, (source, gone[3], gone[4]))
    if len(found) != 1:
        return []
    _give(database, gone, found[0][0])
    return [found[0][0], gone[0]]


def _give(database: Database, gone: Row, number: int) -> None:
    (lost, source, kind, _, stated, name, path, folder, *told, former, volume, by) = gone
    database.run(NAMED, (name, path, folder, *told, former, volume, number))
    place = database.rows("SELECT coalesce(max(place), -1) + 1 FROM checks WHERE find = ?",
                          (number,))[0][0]
    database.run("INSERT INTO checks VALUES (?, ?, 'name', ?, 'name-likely', ?, 0)",
                 (number, place, Outcome.NOT_APPLICABLE, json.dumps({"bytes": stated})))
    database.run("DELETE FROM finds WHERE id = ?", (lost,))
    database.run("UPDATE tally SET finds = finds - 1, bytes = bytes - ? WHERE source = ?"
                 " AND step = ? AND kind = ? AND grade = 'gone'",
                 (stated, source, by.split(",")[0], kind))
