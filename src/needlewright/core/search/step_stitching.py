"""The step *stitching*: finds that break off, put together with pieces that lie elsewhere.

Pieces are the clusters that no whole find and no file that is there owns. What comes of it is a
find of its own, linked to the one that broke off; it is whole only where every seam is proven and
every check passes.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from contextlib import closing
from dataclasses import replace

from needlewright.core.errors import FormatError, SourceError
from needlewright.core.formats.registry import form_of
from needlewright.core.search.carving import chosen_formats, follow
from needlewright.core.search.dialogue import Dialogue, Turn
from needlewright.core.search.events import Ending, Event, Finished, Found, Progress, Rechecked
from needlewright.core.search.knowledge import BrokenFind
from needlewright.core.search.pieces_pool import pools_of
from needlewright.core.search.registry import Context, Step, register
from needlewright.core.search.stitched import STEP, StitchedCase, stitched, summed, with_rest
from needlewright.core.sources.pieces import PiecedSource
from needlewright.core.stitching.base import Broken, Joined, joiner_for
from needlewright.core.stitching.crew import Crew
from needlewright.core.stitching.pool import Pool
from needlewright.core.stitching.solving import Rounds, easy_first
from needlewright.core.stitching.team import Alone, Team
from needlewright.core.stitching.trial_decodes import TrialDecodes
from needlewright.core.stopping import Interrupted
from needlewright.core.volumes.base import cut

LOOK_SHARE = 0.2  # of the work, as progress tells it
WORTH_TELLING = 0.01  # of a file, that a thread must bring where it does not come to the end


def run(context: Context) -> Iterator[Event]:
    """Put together the finds of the area that are in pieces."""
    area = context.area
    yield Progress(STEP, 0, area.size, area.start)
    stopped = False
    try:
        with closing(_Stitching(context)) as work:
            yield from work.run()
    except Interrupted:
        stopped = True
    stopped = stopped or context.stop.is_set()
    yield Finished(STEP, Ending.STOPPED if stopped else Ending.DONE,
                   area.start if stopped else area.stop)


class _Stitching:
    def __init__(self, context: Context) -> None:
        self.context = context
        self._team: Team | None = None
        self._decodes = TrialDecodes(context.source, context.stop)
        self._dialogue: Dialogue[StitchedCase] = Dialogue(
            context.decoders, context.plan.every_frame, context.stop)

    def close(self) -> None:
        self._decodes.close()
        if self._team is not None:
            self._team.close()
            self._team = None

    def run(self) -> Iterator[Event]:
        origins = {b.number: b for b in _wanted(self.context)}
        finds = [Broken(b.number, b.key, b.format, b.content.spans(), b.breaks_at, b.why, b.stated)
                 for b in origins.values()]
        pools = pools_of(self.context, finds) if finds else []
        for index, (pool, mine) in enumerate(pools):
            yield from self._look(pool, index, len(pools))
            yield from self._rounds(pool, mine, origins, index, len(pools))
        yield from self._find(self._dialogue.finish())

    def _progress(self, part: float) -> Progress:
        area = self.context.area
        return Progress(STEP, int(area.size * min(1.0, part)), area.size, area.start)

    def _look(self, pool: Pool, index: int, count: int) -> Iterator[Event]:
        for reached in pool.look(self.context.knowledge.texture):
            if self.context.stop.is_set():
                raise Interrupted
            part = (reached - pool.base) / max(1, self.context.source.size)
            yield self._progress((index + LOOK_SHARE * part) / count)

    def _rounds(self, pool: Pool, mine: list[Broken], origins: dict[int, BrokenFind], index: int,
                count: int) -> Iterator[Event]:
        self._team = self._gathered(pool, len(mine))
        rounds = Rounds(pool, easy_first(mine), self.context.stop, self._team)
        total = len(mine)
        for solved in rounds.run():
            if solved.broken is not None and solved.joined is not None:
                yield from self._told(origins[solved.broken.number], solved.joined, pool, rounds)
            self._team.look_after()
            yield from self._find(self._dialogue.settled())
            done = 1 - len(rounds.waiting) / max(1, total)
            tried = min(1.0, rounds.taken / max(1, 3 * total))
            part = LOOK_SHARE + (1 - LOOK_SHARE) * max(done, tried)
            yield replace(self._progress((index + part) / count),
                          waiting=len(rounds.waiting), solved=rounds.solved)
        self.close()

    def _gathered(self, pool: Pool, finds: int) -> Team:
        """Processes of their own where the medium can be opened by them."""
        try:
            return Crew(pool, finds)
        except SourceError:
            return Alone(pool, self.context.stop, self._decodes)

    def _told(self, origin: BrokenFind, joined: Joined, pool: Pool,
              rounds: Rounds) -> Iterator[Event]:
        """Walk what was put together; its find, once the decoders have seen it."""
        context = self.context
        form = form_of(origin.format)
        if form is None:
            return
        thread = PiecedSource(context.source, with_rest(joined, pool))
        try:
            walk = follow(thread, 0, form, context.stop)
        except FormatError:
            return
        joined = summed(joined, walk)
        if joined.ended and walk.broken is None:
            rounds.keep(joined)
        elif not joined.seams or walk.share < origin.share + WORTH_TELLING:
            return
        thread = PiecedSource(context.source, cut(thread.extents, walk.stop))
        case = StitchedCase(walk, form.name, thread=thread, joined=joined, origin=origin.key)
        yield from self._find(self._dialogue.begin(case, thread))

    def _find(self, turns: Iterable[Turn[StitchedCase]]) -> Iterator[Event]:
        for turn in turns:
            if self._team is not None:
                self._team.look_after()
            find = stitched(turn.case, turn.report, self.context.source.sector_size)
            yield Found(find) if turn.first else Rechecked(find)


def _wanted(context: Context) -> list[BrokenFind]:
    """The finds of the area that may be in pieces, one for each place where a file begins."""
    wanted = {v.name for f in chosen_formats(context.plan) for v in (f.plain, *f.variants)}
    best: dict[tuple[str, int], BrokenFind] = {}
    for broken in context.knowledge.broken():
        start = broken.start
        if start is None or broken.format not in wanted or joiner_for(broken.format) is None:
            continue
        if broken.removed is False or not context.area.start <= start < context.area.stop:
            continue  # of a file that is there the pieces are known
        joiner = joiner_for(broken.format)
        endless = joiner is not None and joiner.endless
        if broken.share >= 1.0 and broken.breaks_at is None and not endless:
            continue
        key = broken.format, start
        if key not in best or (broken.stated is not None and best[key].stated is None):
            best[key] = broken
    return list(best.values())


register(Step(STEP, order=50, run=run))
