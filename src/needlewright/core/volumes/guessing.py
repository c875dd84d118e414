"""Where a file may lie of which only the beginning and the size are known."""

from __future__ import annotations

from collections.abc import Iterator

from needlewright.core.volumes.allocation import Allocation

Runs = list[tuple[int, int]]  # (unit, count)


def guesses(first: int, wanted: int, now: Allocation, taken: Allocation) -> Iterator[Runs]:
    """Runs of `wanted` units from unit `first` on: in one piece, then over free units only.

    Most writers take the next free units, so a file that met others steps over them. `taken` are
    the units in use now, and those that are proven to belong to other removed files.
    """
    if not 0 <= first < now.count or wanted <= 0:
        return
    if first + wanted <= now.count:
        yield [(first, wanted)]
    for units in (now, taken):
        if units.used(first):
            continue
        free = units.free_run(first, wanted)
        if free is not None:
            yield free
