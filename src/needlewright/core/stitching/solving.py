"""The rounds of a source: easy finds first, what becomes whole leaves the pool, then once more.

Several finds may be under way at once, and which is done first is chance. So that a busy machine
finds the same as an idle one, what comes of them is settled in the order in which they were given,
and whoever is given one knows of exactly those pieces as taken that were settled `Team.window`
finds before it.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

import numpy as np

from needlewright.core.codes import SeamWord
from needlewright.core.stitching.base import Broken, Joined, joiner_for
from needlewright.core.stitching.pool import Pool
from needlewright.core.stitching.team import Team
from needlewright.core.stopping import Interrupted, StopSignal

EFFORTS = (0, 1, 2)  # how far a round looks; the last one again while anything comes of it
SMALL = 2048  # free clusters that are all near: looking farther is looking everywhere
MAX_ROUNDS = 4
WAIT_S = 0.05
IN_VAIN = 24  # finds in a row of which nothing came: the next ones are tried with less work
HASTE = 0.12  # of the usual work


@dataclass(frozen=True, slots=True)
class Solved:
    """What came of one find; `joined` is None where nothing did. `broken` is None where nothing is
    told but that work goes on."""

    broken: Broken | None
    joined: Joined | None


@dataclass(slots=True)
class Rounds:
    """Goes over `waiting` until a round brings nothing. Whoever takes a `Solved` says with `keep`
    that the file runs to its end."""

    pool: Pool
    waiting: list[Broken]
    stop: StopSignal
    team: Team
    solved: int = 0
    taken: int = 0  # of all rounds, finds that were tried
    in_vain: int = 0  # of late, in a row
    _best: dict[int, Joined] = field(default_factory=dict)
    _untold: list[Joined] = field(default_factory=list)  # kept, and the team does not know of it
    _known: int = 0  # files that the team knows of

    def keep(self, joined: Joined) -> None:
        """These pieces make up a file to its end; where every seam of it is proven they are nobody
        else's from now on."""
        if all(seam.word is SeamWord.PROVEN for seam in joined.seams):
            self.pool.take(joined.extents)
            self._untold.append(joined)
        self.solved += 1
        self.in_vain = 0

    def run(self) -> Iterator[Solved]:
        """What comes of each find: at once what ends, at last how far the others came."""
        tried: dict[int, tuple[int, int]] = {}
        small = int(np.count_nonzero(self.pool.free)) <= SMALL
        efforts = EFFORTS[::2] if small else EFFORTS
        for number in range(MAX_ROUNDS):
            effort = efforts[min(number, len(efforts) - 1)]
            before = self.pool.revision
            yield from self._round(effort, tried)
            if not self.waiting or (effort == EFFORTS[-1] and self.pool.revision == before):
                break
        for broken in self.waiting:
            yield Solved(broken, self._best.get(broken.number))

    def _round(self, effort: int, tried: dict[int, tuple[int, int]]) -> Iterator[Solved]:
        self._tell(len(self._untold))
        todo = [b for b in self.waiting if tried.get(b.number) != (effort, self._known)]
        self.in_vain = 0
        settled: list[tuple[int, int]] = []  # (in vain, kept and not told) after each of `todo`
        given, told, done = 0, 0, dict[int, Joined | None]()
        while len(settled) < len(todo):
            if self.stop.is_set():
                raise Interrupted
            while given < len(todo) and self.team.room and given - len(settled) < self.team.window:
                in_vain = 0
                if given >= self.team.window:
                    in_vain, kept = settled[given - self.team.window]
                    self._tell(kept - told)
                    told = kept
                broken = todo[given]
                tried[broken.number] = effort, self._known
                self.team.give(broken, effort, HASTE if in_vain >= IN_VAIN else 1.0)
                given += 1
            done |= {broken.number: joined for broken, joined in self.team.results(WAIT_S)}
            if todo[len(settled)].number not in done:
                yield Solved(None, None)
            while len(settled) < len(todo) and (broken := todo[len(settled)]).number in done:
                yield self._settled(broken, done.pop(broken.number), effort)
                settled.append((self.in_vain, told + len(self._untold)))

    def _tell(self, count: int) -> None:
        """Tell the team of so many files that were kept, the first ones first."""
        for joined in self._untold[:count]:
            self.team.take(joined.extents)
        del self._untold[:count]
        self._known += count

    def _settled(self, broken: Broken, joined: Joined | None, effort: int) -> Solved:
        self.taken += 1
        self.in_vain += 1
        if joined is None:
            return Solved(broken, None)
        proven = joined.ended and not _doubts(joined)
        if proven and self._still_free(broken, joined):
            self.waiting.remove(broken)
            return Solved(broken, joined)
        # What is no more than likely may be proven by pieces farther away.
        before = self._best.get(broken.number)
        if before is None or (joined.ended, -_doubts(joined)) > (before.ended, -_doubts(before)):
            self._best[broken.number] = joined
        return Solved(None, None)

    def _still_free(self, broken: Broken, joined: Joined) -> bool:
        """Whether nobody has taken a piece of it meanwhile: two may be joined at once."""
        return all(self.pool.in_line(self.pool.number(offset)) for offset, _ in joined.extents
                   if offset is not None and offset != broken.start)


def _doubts(joined: Joined) -> int:
    return sum(seam.word is not SeamWord.PROVEN for seam in joined.seams)


def easy_first(finds: Sequence[Broken]) -> list[Broken]:
    """Cheap ways to join first, then the shorter files."""
    def effort(broken: Broken) -> tuple[int, int, int]:
        joiner = joiner_for(broken.format)
        return (0 if joiner is None else joiner.order, broken.stated or 0, broken.start)
    return sorted(finds, key=effort)
