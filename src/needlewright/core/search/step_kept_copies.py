"""The step *kept copies*: what a device or a service still holds, brought into the job one by one.

What was brought stays there, whatever becomes of the device. What a device names and does not hand
out is a find as well, that is gone, with the answer that it gave.
"""

from __future__ import annotations

import contextlib
import tempfile
import time
from collections.abc import Iterator, Sequence
from dataclasses import replace
from pathlib import Path

from needlewright.core.checks.decoding import DecoderPool
from needlewright.core.checks.grading import Grade
from needlewright.core.contents import Brought, ShelfObject
from needlewright.core.errors import NeedlewrightError
from needlewright.core.finds import Find, Record
from needlewright.core.formats.recognising import kind_of_name
from needlewright.core.search.bringing import Came, Carrier
from needlewright.core.search.events import Ending, Event, Finished, Found, Note, Progress
from needlewright.core.search.examining import examine
from needlewright.core.search.keeping import HIDDEN, MARKER, Kept, by_path
from needlewright.core.search.pace import progress_of
from needlewright.core.search.plan import Plan
from needlewright.core.search.registry import Context, Step, register
from needlewright.core.sources.shelf import DistantShelf, Offered
from needlewright.core.walks import Check, Facts, Outcome

STEP = "kept-copies"
FOLDER = "brought"


def run(context: Context) -> Iterator[Event]:
    """Bring the files whose places are in the area of `context`, from `begin` on."""
    shelf, area = context.source, context.area
    assert isinstance(shelf, DistantShelf)
    names = _Names(shelf.offered())
    wanted = [o for o in shelf.offered() if context.begin <= o.entry.at < area.stop
              and names.wanted(context.plan, o)]
    yield Note("kept-listed", shelf.missing())
    yield Progress(STEP, context.begin - area.start, area.size, context.begin)
    with contextlib.ExitStack() as held:
        folder = context.knowledge.folder()
        place = Path(held.enter_context(tempfile.TemporaryDirectory())) if folder is None else (
            folder / FOLDER)
        place.mkdir(parents=True, exist_ok=True)
        for offered in wanted:
            if offered.refused:
                yield Found(names.not_there(offered, "object-refused", offered.refused))
        carrier = Carrier(shelf, [o for o in wanted if not o.refused], place, context.stop,
                          context.plan.patience)
        held.callback(carrier.end)
        pool = DecoderPool[int]()
        held.callback(pool.close)
        yield from _taken_in(context, carrier, pool, names)


def _taken_in(context: Context, carrier: Carrier, pool: DecoderPool[int],
              names: _Names) -> Iterator[Event]:
    area, stop, begun = context.area, context.stop, time.monotonic()
    reached, state = context.begin, ""
    away: NeedlewrightError | None = None
    while not stop.is_set() and away is None:
        came = carrier.next_ones()
        if came is None:
            break
        ready: list[tuple[Offered, Came, Path]] = []
        for one in came:
            if one.fault is not None:
                raise one.fault
            if one.offered is None:
                away = away or one.error
                if one.error is None and one.state != state:
                    state = one.state
                    yield Note("phone-waiting" if state else "phone-back", {"state": state})
            elif one.path is None:
                yield Found(names.not_there(one.offered, "object-not-brought", _reason(one.error)))
            else:
                ready.append((one.offered, one, one.path))
        examined = examine((path for _, _, path in ready), stop, pool)
        for (offered, one, path), done in zip(ready, examined, strict=False):
            reached = min(area.stop, offered.entry.at + max(1, offered.entry.size))
            if done.find is not None and context.plan.takes(done.find.kind, done.find.format):
                content = Brought(offered.entry.key, path.stat().st_size,
                                  f"{FOLDER}/{path.name}", one.sha256)
                yield Found(names.named(replace(done.find, content=content), offered))
        yield progress_of(STEP, context, reached, begun, state)
    if away is not None:
        raise away
    done_all = not stop.is_set()
    yield Finished(STEP, Ending.DONE if done_all else Ending.STOPPED,
                   area.stop if done_all else reached)


class _Names:
    """What the paths of all files tell of each."""

    def __init__(self, every: Sequence[Offered]) -> None:
        self._hidden = frozenset(
            o.entry.path[: -len(MARKER)] for o in every if o.entry.path.endswith(f"/{MARKER}"))

    def _kept(self, offered: Offered) -> Kept | None:
        found = by_path(offered.entry.path, self._hidden)
        return Kept(HIDDEN) if found is None and offered.hidden else found

    def _removed(self, offered: Offered) -> bool:
        kept = self._kept(offered)
        return kept is not None and kept.code != HIDDEN

    def wanted(self, plan: Plan, offered: Offered) -> bool:
        path = offered.entry.path
        if (plan.removed_only and not self._removed(offered)) or (
                plan.folder and not path.startswith(f"{plan.folder}/")) or (
                plan.days and not plan.days.holds((offered.created, offered.modified))):
            return False
        return not plan.kinds or kind_of_name(path)[0] in plan.kinds

    def named(self, find: Find, offered: Offered) -> Find:
        """`find` as what the device holds under its path."""
        path, kept = offered.entry.path, self._kept(offered) or Kept("")
        record = Record(
            offered.entry.at, stated=offered.size, created=offered.created,
            modified=offered.modified, kept=kept.code, original=kept.original,
            removed_at=kept.removed_at, purge_at=kept.purge_at)
        return replace(find, path=path, name=(kept.original or path).rpartition("/")[2],
                       removed=self._removed(offered), found_by=(STEP,), record=record,
                       broken=None)

    def not_there(self, offered: Offered, code: str, answer: str) -> Find:
        """A file of which nothing but its name was handed out."""
        kind, form, extension = kind_of_name(offered.entry.path)
        check = Check("content", Outcome.FAIL, code, {"answer": answer}, content=True)
        return self.named(Find(form, kind, extension, ShelfObject(offered.entry.key, 0),
                               Grade.GONE, 0.0, (STEP,), (check,), Facts()), offered)


def _reason(error: NeedlewrightError | None) -> str:
    return "" if error is None else str(error.values.get("reason", error.code))


register(Step(STEP, 5, run, suits="phone"))
