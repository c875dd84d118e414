"""The report that goes into a delivery, in plain words for the client."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING

from needlewright.core.names import harmless
from needlewright.wording import checks, finds, units

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from needlewright.core.delivery.bag import Handed
    from needlewright.core.jobfile.rows import FindRow

#: Per grade: how one file is told, and how several are.
OPENINGS = {
    "whole": ("opens as it always did", "open as they always did"),
    "unproven": ("is complete, but no check can prove it",
                 "are complete, but no check can prove it"),
    "mended": ("was mended", "were mended"),
    "partial": ("is there in part", "are there in part"),
    "remnant": ("is only a preview or a scrap", "are only previews or scraps"),
}
MAX_NAMES = 2000  # of each list; the rest is in finds.csv


def text(title: str, handed: Handed, sources: Sequence[str],
         why: Callable[[int], str] = lambda number: "") -> str:
    """The whole report as lines of text; nothing in it turns letters around. `why`: what is wrong
    with a find, "" where nothing is told."""
    rows = [row for row in handed.rows if row.id not in handed.failed]
    counts = Counter(row.grade for row in rows)
    total = sum(row.size for row in rows)
    lines = [title, "=" * len(title), "", "What came back",
             f"{units.count(len(rows), 'file')} in this delivery, {units.size(total)}."]
    for grade, (one, many) in OPENINGS.items():
        number = counts.get(grade, 0)
        if number:
            lines.append(f"{number:,} {one if number == 1 else many}.")
    removed = sum(1 for row in rows if row.removed)
    if removed:
        there = sum(row.removed is False for row in rows)
        lines.append(f"{removed:,} had been removed; {there:,} were still there.")
    incomplete = [row for row in rows if row.grade in ("unproven", "partial", "remnant")]
    lines += _listed("Not complete, or not proven", [
        _with(f"{_name(row)}: {checks.share_line(row.grade, row.share, row.kind)}", "; ",
              why(row.id)) for row in incomplete[:MAX_NAMES]], len(incomplete))
    lines += _listed("Mended; what was changed is in finds.json, for each under 'changes'", [
        f"{_name(row)}: {units.percent(row.share)} is there"
        for row in rows if row.grade == "mended"])
    lines += _listed("Chosen, but could not be handed over", [
        f"{_name(row)}: {handed.failed[row.id]}"
        for row in handed.rows if row.id in handed.failed])
    lines += _listed("Names that had to be shortened", [
        f"{was} is now {now}" for was, now in handed.shortened])
    lines += _listed("Known by name only: nothing of their content is left", [
        _with(_name(row), ": ", why(row.id)) for row in handed.gone[:MAX_NAMES]], len(handed.gone))
    lines += ["", "Where it came from", *(f"{name}, read only, never written to"
                                          for name in sources),
              "", "Hashes are in manifest-sha256.txt; places on the medium and every check are in "
              "finds.json and finds.csv.", ""]
    return harmless("\n".join(lines))


def _name(row: FindRow) -> str:
    return row.path or row.name or finds.file_name(row)


def _with(line: str, between: str, reason: str) -> str:
    return f"{line}{between}{reason}" if reason else line


def _listed(head: str, lines: Sequence[str], count: int | None = None) -> list[str]:
    """`count`: of how many `lines` are the first ones."""
    if not lines:
        return []
    every = len(lines) if count is None else count
    shown = [" ".join(line.split()) for line in lines[:MAX_NAMES]]
    more = [f"and {every - MAX_NAMES:,} more, in finds.csv"] if every > MAX_NAMES else []
    return ["", f"{head} ({every:,})", *shown, *more]
