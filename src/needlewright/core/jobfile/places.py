"""Where the finds of a job lie on its sources, and in what state: what steps and lists of work ask.
"""

from __future__ import annotations

from collections.abc import Sequence

from needlewright.core.errors import JobError
from needlewright.core.finds import INSIDE, JOINED_FROM, MENDED_FROM
from needlewright.core.jobfile.database import Database
from needlewright.core.jobfile.lists import FIND_COLUMNS, FROM_FINDS, find_row
from needlewright.core.jobfile.rows import FindRow
from needlewright.core.jobfile.writing import ON_SHELF


class Places:
    """Asks the finds of one job by their places; changes nothing."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def spans(self, source: int) -> list[tuple[int, int, int]]:
        """(id, first byte, length of the first extent) of all finds of a source, by place; of the
        files of a shelf their places on it."""
        return self._database.rows(  # type: ignore[return-value]
            f"SELECT id, start, size FROM finds WHERE source = ?1 AND {ON_SHELF} UNION ALL "
            "SELECT f.id, e.offset, e.length FROM finds f JOIN extents e ON e.find = f.id"
            " WHERE f.source = ?1 AND e.offset IS NOT NULL ORDER BY 2", (source,))

    def whole_spans(self, source: int) -> list[tuple[int, int]]:
        """(start, stop) of all extents of finds that are whole and that a record names."""
        return self._database.rows(  # type: ignore[return-value]
            "SELECT e.offset, e.offset + e.length FROM finds f JOIN extents e ON e.find = f.id"
            " WHERE f.source = ? AND f.grade = 'whole' AND f.content_kind = 'stretches'"
            " AND f.record_at IS NOT NULL"
            " AND e.offset IS NOT NULL ORDER BY e.offset", (source,))

    def owned_spans(self, source: int) -> list[tuple[int, int]]:
        """(start, stop) of all extents of finds that are whole."""
        return self._database.rows(  # type: ignore[return-value]
            "SELECT e.offset, e.offset + e.length FROM finds f JOIN extents e ON e.find = f.id"
            " WHERE f.source = ? AND f.grade = 'whole' AND e.offset IS NOT NULL"
            " ORDER BY e.offset", (source,))

    def whole_starts(self, source: int) -> list[int]:
        """The first bytes of the finds that are whole."""
        return [row[0] for row in self._database.rows(
            "SELECT DISTINCT start FROM finds WHERE source = ? AND grade = 'whole'"
            " AND content_kind = 'stretches'", (source,))]

    def pieces(self, source: int) -> list[tuple[int, int, int]]:
        """(id, byte, length) of the extents of whole finds in several pieces, in file order."""
        return self._database.rows(  # type: ignore[return-value]
            "SELECT e.find, e.offset, e.length FROM extents e JOIN finds f ON f.id = e.find"
            " WHERE f.source = ? AND f.grade = 'whole' AND e.offset IS NOT NULL"
            " AND e.find IN (SELECT find FROM extents WHERE place = 1)"
            " ORDER BY e.find, e.place LIMIT 100000", (source,))

    def proven(self, source: int) -> list[tuple[int, int]]:
        """(id, size) of the removed files of a source that are whole and that a record names."""
        return self._database.rows(  # type: ignore[return-value]
            "SELECT id, size FROM finds WHERE source = ? AND grade = 'whole' AND removed = 1"
            " AND record_at IS NOT NULL AND content_kind = 'stretches'", (source,))

    def broken(self, source: int) -> list[tuple[int, str, str, int | None, str]]:
        """(id, key, format, byte where it breaks, why) of the finds of a source that are not whole
        and not gone, and of which no stitched one is whole."""
        return self._database.rows(  # type: ignore[return-value]
            "SELECT id, key, format, broken_at, coalesce(broken_why, '') FROM finds"
            " WHERE source = ? AND grade IN ('unproven', 'partial', 'remnant')"
            " AND id NOT IN (SELECT find FROM seams)"
            " AND id NOT IN (SELECT l.other FROM links l JOIN finds s ON s.id = l.find"
            f" WHERE l.relation = '{JOINED_FROM}' AND s.grade = 'whole') ORDER BY start",
            (source,))

    def break_of(self, number: int) -> tuple[str, int | None, str]:
        """(key, byte of the source where it breaks, why) of a find."""
        row = self._database.row(
            "SELECT key, broken_at, coalesce(broken_why, '') FROM finds WHERE id = ?", (number,))
        if row is None:
            raise JobError("find-unknown", find=number)
        return row[0], row[1], row[2]

    def damaged(self, kinds: Sequence[str], formats: Sequence[str]) -> list[int]:
        """The ids of the partial finds of these kinds, and of all clips and sounds of these
        formats that are not whole, and of those that are there as files what is left of any of
        these kinds; in the order of their places; without those that are inside another or of
        which a stitched one is whole."""
        marks = ",".join("?" * len(kinds))
        terms = " OR ".join((f"grade = 'partial' AND kind IN ({marks})",
                             f"removed = 0 AND kind IN ({marks})",
                             "kind IN ('video', 'audio') AND"
                             f" format IN ({','.join('?' * len(formats))})"))
        return [row[0] for row in self._database.rows(
            f"SELECT id FROM finds WHERE grade IN ('partial', 'remnant') AND ({terms})"
            " AND id NOT IN (SELECT find FROM seams)"
            f" AND id NOT IN (SELECT find FROM links WHERE relation = '{INSIDE}')"
            " AND id NOT IN (SELECT l.other FROM links l JOIN finds s ON s.id = l.find"
            f" WHERE l.relation = '{JOINED_FROM}' AND s.grade = 'whole')"
            f" AND id NOT IN (SELECT find FROM links WHERE relation = '{MENDED_FROM}')"
            " ORDER BY source, start, id",
            (*kinds, *kinds, *formats))]

    def in_folder(self, source: int, folder: str) -> list[FindRow]:
        """The photos and clips of one folder of a source."""
        return self._database.readable(self._database.rows(
            f"SELECT {FIND_COLUMNS}{FROM_FINDS} WHERE f.source = ? AND f.folder = ?"
            " AND f.kind IN ('photo', 'video')", (source, folder)), find_row)

    def at_path(self, source: int, path: str) -> list[FindRow]:
        """The finds that a source holds at just this path."""
        return self._database.readable(self._database.rows(
            f"SELECT {FIND_COLUMNS}{FROM_FINDS} WHERE f.source = ? AND f.path = ?",
            (source, path)), find_row)

    def neighbours(self, row: FindRow) -> tuple[FindRow | None, FindRow | None]:
        """The finds that lie before and behind `row` on its source, where there are any."""
        found = []
        for compare, order in (("<", "DESC"), (">", "ASC")):
            beside = self._database.readable(self._database.rows(
                f"SELECT {FIND_COLUMNS}{FROM_FINDS} WHERE f.source = ? AND f.start {compare} ?"
                f" AND f.grade <> 'gone' ORDER BY f.start {order} LIMIT 1",
                (row.source, row.start)), find_row)
            found.append(next(iter(beside), None))
        return found[0], found[1]
