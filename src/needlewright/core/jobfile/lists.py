"""The SQL of lists of finds: their columns, orders, groups, and what narrows them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from needlewright.core.checks.grading import Grade
from needlewright.core.jobfile.labels import MISSING
from needlewright.core.jobfile.rows import Filter, FindRow
from needlewright.core.walks import Kind

# What is still kept comes first, the likeliest to be wanted before the rest.
KEPT_FIRST = ("CASE f.kept WHEN 'trash' THEN 0 WHEN 'phone-trash' THEN 1"
              " WHEN 'gallery-trash' THEN 2 WHEN 'version' THEN 3 WHEN 'unfinished' THEN 4"
              " WHEN 'hidden' THEN 5 ELSE 6 END")
SCRAPS_LAST = "f.kind = 'scrap'"
ORDERS = {
    "origin": f"f.source, {SCRAPS_LAST}, {KEPT_FIRST}, f.folder IS NULL, f.folder, f.start",
    "name": "f.name IS NULL, f.name, f.id",
    "found": "f.id", "size": "f.size DESC, f.id",
    "taken": "coalesce(f.taken, f.modified) IS NULL, coalesce(f.taken, f.modified), f.id",
    "grade": "f.grade <> 'whole', f.grade, f.id", "kind": "f.kind, f.source, f.start",
    "camera": "f.camera IS NULL, f.camera, f.taken, f.id",
}
# What finds are grouped by in an order: SQL that gives one text a group.
GROUPS = {
    "origin": "CASE WHEN f.kind = 'scrap' THEN 'scraps' WHEN f.kept <> '' THEN 'kept:' || f.kept"
              " WHEN f.folder IS NOT NULL"
              " THEN 'in:' || f.folder END",
    "taken": "coalesce(substr(coalesce(f.taken, f.modified), 1, 10), '')",
    "camera": "coalesce(f.camera, '')", "kind": "f.kind", "grade": "f.grade",
}
# Where a source has several volumes, folders of one name lie on different ones.
VOLUME = ("(SELECT {told} FROM volumes v WHERE v.source = f.source AND v.start <= f.start"
          " ORDER BY v.start DESC LIMIT 1)")
VOLUME_NAME = "coalesce(nullif(v.label, ''), v.kind)"
ORDER_BY_VOLUME = (f"f.source, {SCRAPS_LAST}, {KEPT_FIRST}, {VOLUME.format(told='v.start')},"
                   " f.folder IS NULL, f.folder, f.start")
GROUP_BY_VOLUME = (
    "CASE WHEN f.kind = 'scrap' THEN 'scraps' WHEN f.kept <> '' THEN 'kept:' || f.kept"
    " WHEN f.folder IS NOT NULL THEN 'in:' || f.folder"
    f" || char(10) || coalesce({VOLUME.format(told=VOLUME_NAME)}, '')"
    " END")
FIND_COLUMNS = (
    "f.id, f.source, f.kind, f.format, f.extension, f.start, f.size, f.grade, f.share, f.name,"
    " f.path, f.removed, f.width, f.height, f.taken, f.camera, f.orientation, f.damage_row,"
    " f.found_by, f.has_thumbnail, r.tray IS NOT NULL, f.duration, f.has_strip, f.kept, f.modified,"
    " f.removed_at, f.former, f.volume"
)
FROM_FINDS = " FROM finds f LEFT JOIN reviews r ON r.find = f.id"


def where(wanted: Filter) -> tuple[str, list[Any]]:
    terms: list[str] = []
    values: list[Any] = []
    for column, chosen in (("kind", wanted.kinds), ("grade", wanted.grades),
                           ("format", wanted.formats)):
        if chosen:
            terms.append(f"f.{column} IN ({','.join('?' * len(chosen))})")
            values += sorted(chosen)
    for word in wanted.text.split():
        terms.append("(coalesce(f.name, '') || ' ' || coalesce(f.path, '') || ' ' ||"
                     " coalesce(f.camera, '') || ' ' || coalesce(f.taken, '') || ' ' ||"
                     " f.kind || ' ' || f.format || ' ' || f.grade) LIKE ? ESCAPE '\\'")
        plain = word.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")
        values.append(f"%{plain}%")
    if wanted.removed is not None:
        terms.append("f.removed = ?" if wanted.removed else "(f.removed IS NULL OR f.removed = ?)")
        values.append(int(wanted.removed))
    if wanted.missing_only:
        terms.append("f.id IN (SELECT find FROM labels WHERE name = ?)")
        values.append(MISSING)
    if wanted.tray_only:
        terms.append("r.tray IS NOT NULL")
    return (" WHERE " + " AND ".join(terms) if terms else ""), values


def find_row(row: Sequence[Any]) -> FindRow:
    """The row that FIND_COLUMNS hold; ValueError and the like where they make no sense."""
    removed = None if row[11] is None else bool(row[11])
    values = [*row[:11], removed, *row[12:18], tuple(row[18].split(",")), bool(row[19]),
              bool(row[20]), row[21], bool(row[22]), *row[23:26], bool(row[26]), row[27]]
    found = FindRow(*values)
    Grade(found.grade), Kind(found.kind)  # of a damaged file it may be neither
    if not (isinstance(found.size, int) and isinstance(found.share, float | int)):
        raise ValueError(found.id)
    return found
