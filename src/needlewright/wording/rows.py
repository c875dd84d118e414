"""Rows of databases: their states, where they stand, and what is doubted, in words."""

from __future__ import annotations

from typing import TYPE_CHECKING

from needlewright.core.names import one_line
from needlewright.wording import units

if TYPE_CHECKING:
    from collections.abc import Sequence

    from needlewright.core.databases.reading import Trouble
    from needlewright.core.databases.records import Value
    from needlewright.core.databases.rows import Row

WHERE = {
    "cell": "in its place", "free-block": "in a free block", "unallocated": "between the rows",
    "free-page": "on a free page", "lost-page": "on a page that nothing owns",
    "log": "in the log", "journal": "in the journal", "file": "in the file, under its log",
}
DOUBTS = {
    "table-likely": "its columns fit more than one table",
    "table-dropped": "its table was dropped",
    "goes-on-in-free-pages": "it goes on in pages that are free now",
    "number-by-place": "its number follows from where it stands among many",
    "number-likely": "its number is likely, from where it stands",
    "log-unproven": "the log's own sums do not cover it",
}
COLUMNS = ("State", "Table", "Row", "What it holds", "Where it stands")
NONE = "No rows were found in it."
CLEARED = "{counts}; what was removed from it was cleared, or written over."
MORE = "{counts}; the first {shown:,} are shown."
SHOWN = 60  # characters of a value in a line


def value(one: Value) -> str:
    """A value in a line of text."""
    if one is None:
        return "–"
    if isinstance(one, bytes):
        return f"[{units.size(len(one))}]"
    text = one_line(str(one))
    return text if len(text) <= SHOWN else text[: SHOWN - 1] + "…"


def evidence(row: Row) -> str:
    """'page 7, byte 3,012, in a free block'."""
    found = row.evidence
    if found.where == "record":
        return f"record {found.page:,}, byte {found.at:,}"
    return f"page {found.page:,}, byte {found.at:,}, {WHERE.get(found.where, found.where)}"


def number_of(row: Row) -> str:
    """'214'; '214?' where that is likely only, '?' where nothing tells it."""
    known = row.rowid if row.rowid is not None else row.probable
    return f"{'' if known is None else known}{'?' if row.rowid is None else ''}"


def line(row: Row) -> str:
    """One row: 'removed  messages 214  thread 3 | hide 4 | … (page 7, byte 3,012, in a free
    block)'."""
    values = " | ".join("?" if name in row.lost else value(one)
                        for name, one in zip(row.columns, row.values))
    number = number_of(row)
    doubts = "".join(f"; {DOUBTS.get(code, code)}" for code in row.doubts)
    return f"{row.state:<8} {one_line(row.table)} {number}  {values}  ({evidence(row)}{doubts})"


def totals(counts: dict[str, int]) -> str:
    """'300 live, 2 older, 41 removed'."""
    return ", ".join(f"{counts.get(state, 0):,} {state}" for state in ("live", "older", "removed"))


def trouble(met: Trouble) -> Sequence[str]:
    """What could not be read."""
    told = []
    pages = sorted(set(met.pages))
    if pages:
        some = ", ".join(f"{page:,}" for page in pages[:8]) + (" …" if len(pages) > 8 else "")
        told.append(f"{units.count(len(pages), 'page')} of its tables could not be read in full: "
                    f"{some}")
    if met.free_list:
        told.append("its list of free pages is damaged; what it names was searched as far as it "
                    "goes")
    return told


def cells(row: Row) -> tuple[str, str, str, str, str]:
    """A row as COLUMNS: '214', 'sender hide 4 · body seen at the weir · …'."""
    held = "   ".join(f"{one_line(name)}: {'not known' if name in row.lost else value(one)}"
                      for at, (name, one) in enumerate(zip(row.columns, row.values))
                      if at or one is None or one != row.rowid)  # its number has a column
    return row.state, one_line(row.table), number_of(row), held, evidence(row)


def in_full(row: Row) -> str:
    """All that is known of a row, a line a column."""
    lines = [f"{one_line(name)}: {'not known' if name in row.lost else value(one)}"
             for name, one in zip(row.columns, row.values)]
    return "\n".join((*lines, evidence(row), *(DOUBTS.get(code, code) for code in row.doubts)))


def summary(counts: dict[str, int], shown: int) -> str:
    """What stands below the rows of a database."""
    total = sum(counts.values())
    if not total:
        return NONE
    if shown < total:
        return MORE.format(counts=totals(counts), shown=shown)
    return totals(counts) if counts.get("removed") or counts.get("older") else (
        CLEARED.format(counts=totals(counts)))
