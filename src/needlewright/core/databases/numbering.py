"""Numbers of removed rows that have lost theirs, by where they stand on their page."""

from __future__ import annotations

from needlewright.core.databases.fitting import Found

FRAGMENT = 3  # bytes that may be left over behind a cell


def by_place(cells: list[tuple[int, int, int]], found: list[Found], first: tuple[int, int],
             last: tuple[int, int | None]) -> dict[int, int]:
    """Numbers of rows of `found` that have lost theirs, by where they stand: rows that were written
    one behind another stand so on a page, from its end on. `cells`: (byte, byte behind, number) of
    the live ones; `first`: (the end of the page, the number on the page before), `last`: (where
    cells begin, the number on the page behind). Only where just as many rows as numbers are
    missing, and the rows fill all bytes between those whose numbers are known."""
    known = {at: number for at, _, number in cells} | {
        f.at: f.rowid for f in found if f.rowid is not None}
    ends = {at: stop for at, stop, _ in cells} | {f.at: f.stop for f in found}
    order = sorted(ends, reverse=True)
    above, before = first
    numbers = [known[at] for at in order if at in known]
    if numbers != sorted(set(numbers)) or any(not before < n for n in numbers):
        return {}
    told: dict[int, int] = {}
    row: list[int] = []
    filled = True
    for at in (*order, None):
        stop, number = (last[0], last[1]) if at is None else (ends[at], known.get(at))
        filled = filled and 0 <= above - stop <= FRAGMENT
        above = stop if at is None else at
        if at is not None and number is None:
            row.append(at)
            continue
        if row and filled and number is not None and number - before - 1 == len(row):
            told.update(zip(row, range(before + 1, number)))
        row, filled, before = [], True, number if number is not None else before
    return told


def in_order(found: list[Found], low: int, before: int) -> dict[int, int]:
    """Likely numbers of the newest rows of a table, which stand one behind another from byte `low`
    on, down to a row whose number is known, or to those of the page: the newest stands first.
    `before`: the highest number that is known on the page."""
    line = sorted((f for f in found if f.at >= low), key=lambda f: f.at)
    run: list[Found] = []
    for row in line:
        if run and not 0 <= row.at - run[-1].stop <= FRAGMENT:
            break
        if row.rowid is not None:
            before = row.rowid if row.rowid > before else before
            break
        run.append(row)
    return {row.at: before + place for place, row in enumerate(reversed(run), 1)}
