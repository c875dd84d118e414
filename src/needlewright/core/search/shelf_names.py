"""What a shelf that is elsewhere offers, by names alone: kinds, and what is removed and kept."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from needlewright.core.codes import HIDDEN, SERVICE_TRASH, VERSION
from needlewright.core.formats.recognising import kind_of_name
from needlewright.core.search.keeping import MARKER, Kept, by_path
from needlewright.core.search.plan import Plan
from needlewright.core.sources.shelf import Offered
from needlewright.core.walks import Kind


@dataclass(frozen=True, slots=True)
class Inside:
    """A file that was not fetched. `kind`, `form`: by its name; `kept`: why it is still there
    although it was removed, or that it is hidden; None of an ordinary one."""

    offered: Offered
    kind: Kind
    form: str
    kept: Kept | None

    @property
    def path(self) -> str:
        return self.offered.entry.path

    @property
    def name(self) -> str:
        """Its name before it was removed."""
        before = self.kept.original if self.kept and self.kept.code != VERSION else None
        return (before or self.path).rpartition("/")[2]

    @property
    def folder(self) -> str:
        return self.path.rpartition("/")[0]

    @property
    def removed(self) -> bool:
        return self.kept is not None and self.kept.code not in (HIDDEN, VERSION)


class ShelfNames:
    """What the paths of all files tell of each."""

    def __init__(self, every: Sequence[Offered]) -> None:
        self._every = every
        self._hidden = frozenset(
            o.entry.path[: -len(MARKER)] for o in every if o.entry.path.endswith(f"/{MARKER}"))

    def of(self, offered: Offered) -> Inside:
        kind, form, _ = kind_of_name(offered.entry.path)
        kept = by_path(offered.entry.path, self._hidden)
        if offered.removed:
            kept = Kept(SERVICE_TRASH, None, offered.removed_at, offered.purge_at)
        elif offered.older:
            kept = Kept(VERSION, offered.older)
        if kept is None and offered.hidden:
            kept = Kept(HIDDEN)
        return Inside(offered, kind, form, kept)

    def wanted(self, plan: Plan) -> Iterator[Inside]:
        """What of it a search with `plan` brings, in the order of places."""
        for offered in self._every:
            one = self.of(offered)
            if self._is_wanted(plan, one):
                yield one

    @staticmethod
    def _is_wanted(plan: Plan, one: Inside) -> bool:
        offered = one.offered
        if (plan.removed_only and not one.removed) or (
                plan.folder and not one.path.startswith(f"{plan.folder}/")) or (
                plan.days and not plan.days.holds((offered.created, offered.modified))) or (
                plan.keys and offered.entry.key not in plan.keys):
            return False
        return not plan.kinds or one.kind in plan.kinds


def named_keys(every: Sequence[Offered], paths: Sequence[str]) -> tuple[frozenset[str], list[str]]:
    """(the keys of the files at `paths`, the paths at which there is none)."""
    keys: dict[str, list[str]] = {}
    for offered in every:
        keys.setdefault(offered.entry.path, []).append(offered.entry.key)
    return (frozenset(key for path in paths for key in keys.get(path, ())),
            [path for path in paths if path not in keys])
