"""The step *kept copies*: what a device or a service still holds, brought into the job one by one.

What was brought stays there, whatever becomes of the device. What a device names and does not hand
out is a find as well, that is gone, with the answer that it gave.
"""

from __future__ import annotations

import contextlib
import tempfile
import time
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

from needlewright.core.checks.decoding import DecoderPool
from needlewright.core.checks.grading import Grade, lowered, share_of
from needlewright.core.contents import Brought, ShelfObject
from needlewright.core.errors import NeedlewrightError
from needlewright.core.finds import Find, Record
from needlewright.core.formats.recognising import kind_of_name
from needlewright.core.search.bringing import Came, Carrier
from needlewright.core.search.events import Ending, Event, Finished, Found, Note, Progress
from needlewright.core.search.examining import examine
from needlewright.core.search.keeping import Kept
from needlewright.core.search.pace import KNOWN
from needlewright.core.search.registry import Context, Step, register
from needlewright.core.search.shelf_names import Inside, ShelfNames
from needlewright.core.sources.shelf import ELSEWHERE, DistantShelf, Flaw, Offered
from needlewright.core.walks import Check, Facts, Outcome

STEP = "kept-copies"
FOLDER = "brought"
ASKING = 1 << 14  # bytes that pass in the time in which one file is asked for


def run(context: Context) -> Iterator[Event]:
    """Bring the files whose places are in the area of `context`, from `begin` on."""
    shelf, area = context.source, context.area
    assert isinstance(shelf, DistantShelf)
    names = ShelfNames(shelf.offered())
    wanted = [one.offered for one in names.wanted(context.plan)
              if context.begin <= one.offered.entry.at < area.stop]
    offered_in_all = len(wanted)
    if context.plan.missing_only:
        lacks = context.knowledge.lacks()
        wanted = [offered for offered in wanted if lacks(offered)]
        yield Note("kept-missing", {"wanted": len(wanted), "there": offered_in_all - len(wanted)})
    yield Note("kept-listed", shelf.missing())
    yield Progress(STEP, context.begin - area.start, area.size, context.begin)
    with contextlib.ExitStack() as held:
        folder = context.knowledge.folder()
        place = Path(held.enter_context(tempfile.TemporaryDirectory())) if folder is None else (
            folder / FOLDER)
        place.mkdir(parents=True, exist_ok=True)
        for offered in wanted:
            if offered.refused:
                yield Found(_not_there(names.of(offered), "object-refused", offered.refused))
            elif offered.problem:
                yield Found(_not_there(names.of(offered), offered.problem))
        wanted = [o for o in wanted if not o.refused and not o.problem]
        carrier = Carrier(shelf, wanted, place, context.stop, context.plan.patience)
        held.callback(carrier.end)
        pool = DecoderPool[int]()
        held.callback(pool.close)
        yield from _taken_in(context, carrier, pool, names, _Pace(context, wanted))


def _taken_in(context: Context, carrier: Carrier, pool: DecoderPool[int],
              names: ShelfNames, pace: _Pace) -> Iterator[Event]:
    area, stop, shelf = context.area, context.stop, context.source
    assert isinstance(shelf, DistantShelf)
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
                pace.settled(one.offered)
                yield Found(_without(one.error, names.of(one.offered)))
            else:
                ready.append((one.offered, one, one.path))
        examined = examine((path for _, _, path in ready), stop, pool)
        for (offered, one, path), done in zip(ready, examined, strict=False):
            reached = min(area.stop, offered.entry.at + max(1, offered.entry.size))
            pace.settled(offered)
            if done.find is not None and context.plan.takes(done.find.kind, done.find.format):
                content = Brought(offered.entry.key, path.stat().st_size,
                                  f"{FOLDER}/{path.name}", one.sha256)
                find = _named(replace(done.find, content=content), names.of(offered))
                yield Found(_flawed(_reduced(find, offered), shelf.flaw(offered)))
            elif done.find is None and not stop.is_set():  # it came, and cannot be examined here
                yield Found(_without(done.error, names.of(offered)))
        yield pace.progress(reached, state)
    if away is not None:
        raise away
    done_all = not stop.is_set()
    yield Finished(STEP, Ending.DONE if done_all else Ending.STOPPED,
                   area.stop if done_all else reached)


class _Pace:
    """How far a search is by the files that it wants, which may be few of many."""

    def __init__(self, context: Context, wanted: list[Offered]) -> None:
        self._context, self._begun = context, time.monotonic()
        self._total, self._count = sum(map(_weight, wanted)), len(wanted)
        self._done = self._files = 0

    def settled(self, offered: Offered) -> None:
        self._done += _weight(offered)
        self._files += 1

    def progress(self, reached: int, away: str) -> Progress:
        """`reached`: all places before it are settled; `away`: see `Progress`."""
        area, spent = self._context.area, time.monotonic() - self._begun
        part = self._done / self._total if self._total else 1.0
        rate = part * area.size / spent if spent > 1 and part > KNOWN else 0.0
        return Progress(STEP, int(part * area.size), area.size, reached, rate,
                        (1 - part) * area.size / rate if rate else None, away=away,
                        files=(self._files, self._count))


def _weight(offered: Offered) -> int:
    """What a file costs to bring, in bytes: small ones cost more than theirs."""
    return ASKING + (offered.size or 0)


def _named(find: Find, one: Inside) -> Find:
    """`find` as what the device holds under its path."""
    offered, kept = one.offered, one.kept or Kept("")
    record = Record(
        offered.entry.at, stated=offered.size, created=offered.created,
        modified=offered.modified, kept=kept.code, original=kept.original,
        removed_at=kept.removed_at, purge_at=kept.purge_at)
    return replace(find, path=one.path, name=one.name, removed=one.removed, found_by=(STEP,),
                   record=record, broken=None)


def _flawed(find: Find, flaw: Flaw | None) -> Find:
    """`find` with what its shelf says is wrong with it: nothing that differs from what was kept is
    whole."""
    if flaw is None:
        return find
    check = Check("kept copy", Outcome.FAIL, flaw.code, flaw.values)
    grade = lowered(Grade.WHOLE if find.grade is Grade.MENDED else find.grade, (check,))
    return replace(find, grade=grade, share=share_of(grade, find.share),
                   checks=(check, *find.checks))


def _reduced(find: Find, offered: Offered) -> Find:
    """A small copy is not what was lost, however sound it is."""
    if not offered.reduced:
        return find
    check = Check("original", Outcome.DOUBT, "shelf-reduced")
    grade = lowered(find.grade, (check,))
    return replace(find, grade=grade, checks=(check, *find.checks))


def _without(error: NeedlewrightError | None, one: Inside) -> Find:
    """A file of which nothing came."""
    if isinstance(error, Flaw):
        return _not_there(one, error.code, **error.values)
    reason = "" if error is None else str(error.values.get("reason", error.code))
    return _not_there(one, "object-not-brought", reason)


def _not_there(one: Inside, code: str, answer: str = "", **values: Any) -> Find:
    """A file of which nothing but its name was handed out."""
    _, form, extension = kind_of_name(one.path)
    told = {"answer": answer, **values} if answer else values
    check = Check("content", Outcome.FAIL, code, told, content=True)
    return _named(Find(form, one.kind, extension, ShelfObject(one.offered.entry.key, 0),
                       Grade.GONE, 0.0, (STEP,), (check,), Facts()), one)


register(Step(STEP, 5, run, suits=ELSEWHERE))
