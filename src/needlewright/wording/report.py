"""The report that goes into a delivery, in plain words for the client."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from needlewright.core.jobs.rows import FindRow
from needlewright.wording import finds, units

OPENINGS = {
    "whole": "open as they always did", "mended": "were mended", "partial": "are there in part",
    "remnant": "are only a preview or a scrap",
}
SINGLE = {
    "whole": "opens as it always did", "mended": "was mended", "partial": "is there in part",
    "remnant": "is only a preview or a scrap",
}


def text(title: str, rows: Sequence[FindRow], sources: Sequence[str]) -> str:
    """The whole report as lines of text."""
    counts = Counter(row.grade for row in rows)
    total = sum(row.size for row in rows)
    lines = [title, "=" * len(title), "", "What came back",
             f"{units.count(len(rows), 'file')} in this delivery, {units.size(total)}."]
    for grade in OPENINGS:
        number = counts.get(grade, 0)
        if number:
            lines.append(f"{number:,} {SINGLE[grade] if number == 1 else OPENINGS[grade]}.")
    partial = [row for row in rows if row.grade in ("partial", "remnant")]
    if partial:
        lines += ["", "Not complete"]
        lines += [f"{finds.file_name(row) if not row.name else row.name}: "
                  f"{units.percent(row.share)} is there" for row in partial]
    lines += ["", "Where it came from", *(f"{name}, read only, never written to"
                                          for name in sources),
              "", "Hashes are in manifest-sha256.txt; places on the medium and every check are in "
              "finds.json and finds.csv.", ""]
    return "\n".join(lines)
