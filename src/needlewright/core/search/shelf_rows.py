"""Rows of databases that a shelf which is elsewhere offers, read before anything else is brought,
and which of its files they name."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from contextlib import ExitStack

from needlewright.core.databases.logs import JOURNAL, LOG
from needlewright.core.databases.rows import Row
from needlewright.core.databases.talk import may_name_file
from needlewright.core.errors import SourceError
from needlewright.core.formats.recognising import DATABASE
from needlewright.core.search.shelf_names import Inside
from needlewright.core.sources.shelf import DistantShelf, Offered
from needlewright.core.sources.source import Source

MOST_DATABASE = 1 << 30  # bytes that are fetched only to be looked at


def holds_rows(one: Inside) -> bool:
    """Whether a file is a database by its name, and is to be had."""
    offered = one.offered
    return one.form == DATABASE and not offered.problem and not offered.refused and (
        offered.size or 0) <= MOST_DATABASE


def fetch_rows(shelf: DistantShelf, offered: Offered, held: ExitStack) -> tuple[
        Source, Source | None, Source | None]:
    """(a database, its log, its journal), here until `held` ends; SourceError, Interrupted."""
    every = {one.entry.path: one for one in shelf.offered() if not one.older}
    found: list[Source | None] = []
    for ending in ("", LOG, JOURNAL):
        one = every.get(offered.entry.path + ending) if ending else offered
        source = None
        if one is not None and (one.size or 0) <= MOST_DATABASE:
            try:
                source = held.enter_context(shelf.fetch(one.entry.key))
            except SourceError:
                if not ending:
                    raise
        found.append(source)
    assert found[0] is not None
    return found[0], found[1], found[2]


class NamedFiles:
    """Finds the files of a shelf that values of rows name: by as much of the path as agrees."""

    def __init__(self, every: Iterable[Offered]) -> None:
        self._by_leaf: dict[str, list[Offered]] = {}
        for one in every:
            self._by_leaf.setdefault(_parts(one.entry.path)[-1], []).append(one)

    def of(self, row: Row) -> Sequence[Offered]:
        """Those that a row names, in the order of its columns."""
        found: dict[str, Offered] = {}
        for value in row.values:
            if may_name_file(value):
                found.update((one.entry.key, one) for one in self._named(value))
        return list(found.values())

    def _named(self, value: str) -> list[Offered]:
        told = _parts(value)
        there = self._by_leaf.get(told[-1], [])
        if len(there) < 2:
            return there
        lengths = [_common(told, _parts(one.entry.path)) for one in there]
        return [one for one, length in zip(there, lengths) if length == max(lengths)]


def _parts(path: str) -> list[str]:
    return path.replace("\\", "/").rstrip("/").casefold().split("/")


def _common(one: Sequence[str], other: Sequence[str]) -> int:
    """How many parts agree, from the end on."""
    count = 0
    for a, b in zip(reversed(one), reversed(other)):
        if a != b:
            break
        count += 1
    return count
