"""Puts one file together cluster by cluster: on, search, look ahead, go back.

Knows no format: a `Line` says how well a cluster continues what is there. What stands behind one
another is taken as long as nothing speaks against it; else the free clusters are ranked, nearest
first, and the best few are followed a little before one is taken. Where nothing continues, an
earlier decision was wrong: first those just made, then those where another came near.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from needlewright.core.codes import Reason, Seam, SeamWord
from needlewright.core.kernels.texture import Texture
from needlewright.core.sources.pieces import PiecedSource
from needlewright.core.stitching.base import (
    REFUSED,
    Bench,
    Extents,
    Joined,
    Line,
    Step,
    proven_by_sum,
)
from needlewright.core.stitching.decisions import (
    CLEAR,
    FINE,
    Node,
    Option,
    better,
    chain_of,
    lead_of,
    made_up,
    patchwork,
    ratio_of,
    word_of,
)
from needlewright.core.stitching.habits import gaps_of

EVERYWHERE = 2  # of the efforts
NEAR, FARTHER = 2048, 32_768  # clusters that are tried around the place
EVERYWHERE_BYTES = 1 << 30  # of candidates for one seam
WORK = 1 << 30, 2 << 30, 4 << 30  # for one find, by effort; then it is told as far as it came
ROWS_BYTES = 16 << 20  # of candidates, read and tried at a time
FOLLOWED_BLIND = 48  # candidates that are followed a little where nothing can be compared yet
AHEAD_BYTES, AHEAD_LEAST = 48 << 10, 3  # how far they are followed, and clusters at least
GOOD = 8.0  # nats that a continuation must have
SURE = 0.96  # of the usual likeness: no need to look farther
BAD = 0.2  # ... and below this it is looked for everywhere
FAIR = 0.6  # of the usual likeness: good enough to stay in line
GLANCE = 256  # clusters that are tried where there is but a doubt
IN_LINE = 12.0  # nats that standing in line is worth
NEXT_FREE = 3.0  # nats that being the first free cluster behind the gap is worth
CUT_SHORT = 4.0  # nats that a candidate loses whose own continuation is refused
BACK_BYTES, BACK_LEAST = 96 << 10, 6  # how far decisions are gone back on, and clusters at least
MAX_STACK = 24
MAX_TURNS = 40  # decisions that are gone back on
MAX_SEARCHES = 400
MAX_DECODES, MAX_DECODED, ALL_OF_IT = 12, 64 << 20, 1e9  # of one file; bytes; seconds


@dataclass(slots=True)
class Solver:
    """Puts one file together on `bench`; `like`: the classes of Texture that its pieces may have.
    """

    line: Line
    bench: Bench
    like: np.ndarray
    turns: int = 0
    searches: int = 0
    tried: int = 0  # candidates of all searches
    possible: int = 0  # ... those of them that no hard rule refused
    decoded: int = 0  # files that a decoder was asked about
    _stack: list[tuple[float, Node]] = field(default_factory=list)
    _given_up: set[tuple[int, int]] = field(default_factory=set)
    _until: int = 0  # by the bench's meter
    _doubts: list[tuple[float, Node, int]] = field(default_factory=list)  # see `_remember`

    def solve(self, head: list[int], state: Any, end: int | None = None) -> Joined | None:
        """Go on from `head`, the clusters of the header, at whose end the line stands at `state`.
        """
        self._until = self.bench.until(WORK[self.bench.effort])
        node: Node | None = None
        for depth, number in enumerate(head):
            node = Node(number, None, node, depth, 0.0)
        assert node is not None
        node.state, node.end = state, end
        best, farthest = node, self.line.progress(state)
        ended: Node | None = None
        while True:
            self.bench.rest()
            if node.end is not None:
                agrees = self._agrees(node)
                if agrees is not False:
                    return self._told(node, ended=True, summed=bool(agrees))
                ended = ended or node
                other = None if self._late() else self._second_choice(2 * CLEAR)
                if other is None:
                    return self._told(ended, ended=True)
                node = other
                continue
            following = None if self._late() else self._onward(node)
            if following is None:
                if self.line.progress(node.state) >= farthest:
                    best, farthest = node, self.line.progress(node.state)
                if self.bench.effort == EVERYWHERE and self.line.may_end(node.state):
                    node.end = self.bench.pool.unit
                    continue
                following = self._turn(node)
                if following is None:
                    return self._told(ended or best, ended=ended is not None)
            node = following
            self._forget(node)

    def _agrees(self, node: Node) -> bool | None:
        """Whether a sum over the file that ends with `node`, or a decoder where others came near,
        agrees; None where neither proves anything."""
        chain = chain_of(node)
        extents = self._extents(chain)
        agrees = self.line.sum_agrees(PiecedSource(self.bench.pool.source, extents))
        close = any(n.seam is not None and n.seam.rivals for n in chain)
        if agrees is None and close and self.line.decoded and self.bench.decodes is not None and (
                self.decoded < MAX_DECODES and sum(n for _, n in extents) <= MAX_DECODED):
            self.decoded += 1
            return None if self.bench.ask(extents, 0.0, ALL_OF_IT) else False
        return agrees

    # one decision

    def _onward(self, node: Node) -> Node | None:
        """The cluster in line where nothing speaks against it, else the best of all."""
        straight, ratio = self.in_line(node)
        if straight is not None and straight.end is not None and self.line.end_proves:
            return straight  # another's last piece does not end there
        if straight is not None and ratio < SURE and self.line.judged(node.state):
            self._remember(ratio, node, straight.number)
        if straight is not None and (ratio >= self.line.doubt or not self.line.judged(node.state)):
            return straight
        if straight is not None:
            # Left only for what is good by itself: an edge may run all across a picture.
            options = self.options(node, straight, self.bench.effort if ratio < BAD else -1)
            mine = next((o for o in options if o.node.number == straight.number), None)
            best = options[0]
            if mine is not None and (mine is best or mine.ratio >= FAIR or best.worth < GOOD
                                     or not better(best, mine)):
                return straight
        options = self.options(node, straight)
        if options and self.line.may_end(node.state) and lead_of(options) < CLEAR:
            return None  # that it ends here is as likely
        return self._chosen(node, options)

    def _remember(self, ratio: float, node: Node, taken: int) -> None:
        """What was taken behind `node` continues it less well than usual: to be thought of again,
        the worst first, where the thread leads nowhere."""
        self._doubts.append((ratio, node, taken))
        if len(self._doubts) > 2 * self.line.kept:
            self._doubts.sort(key=lambda d: d[0])
            del self._doubts[self.line.kept :]

    def in_line(self, node: Node) -> tuple[Node | None, float]:
        """The next cluster in line, if it can be, and its likeness in terms of the usual."""
        number = node.number + 1
        if not self.bench.pool.is_free(number) or node.has(number) or (
                node.depth, number) in self._given_up:
            return None, 0.0
        raw = self.bench.pool.read(np.array([number]))[0]
        step = self._taken(node.state, raw, node.state)
        if step.refused:
            return None, 0.0
        following = Node(number, step.state, node, node.depth + 1, node.score + step.score,
                          end=step.end)
        following.took(step, node.usual)
        return following, ratio_of(node, step.score, step.scored)

    def _chosen(self, node: Node, options: list[Option]) -> Node | None:
        options = [o for o in options
                   if (node.depth, o.node.number) not in self._given_up]
        if not options or patchwork(node):
            return None
        best = options[0]
        if best.worth < GOOD and not (best.ends and self.line.end_proves):
            return None
        others = [o for o in options[1:] if o.raw != best.raw]
        lead = lead_of(options)
        near = [o for o in others if best.standing - o.standing < 2 * CLEAR]
        for other in reversed(near[: self.line.rivals]):
            if other.worth >= GOOD:
                self._stack.append((best.standing - other.standing, other.node))
        self._stack = sorted(self._stack, key=lambda s: s[0])[:MAX_STACK]
        if best.node.number == node.number + 1:
            return best.node
        best.node.seam = Seam(
            (node.depth + 1) * self.bench.pool.unit, word_of(self.line, best, lead),
            (Reason("rows-continue", {"nats": round(best.worth, 1)}),
             Reason("lead", {"nats": round(lead, 1)})),
            tuple((self.bench.pool.start(o.node.number), round(best.standing - o.standing, 1))
                  for o in near[:3]))
        return best.node

    def options(self, node: Node, straight: Node | None, effort: int | None = None,
                 but: int = -1) -> list[Option]:
        """Candidates for what follows `node`, the best first."""
        self.searches += 1
        pool, found = self.bench.pool, list[Option]()
        effort = self.bench.effort if effort is None else effort
        everywhere = max(FARTHER, EVERYWHERE_BYTES // pool.unit)
        reach = (NEAR, FARTHER, everywhere)[: effort + 1] if effort >= 0 else (GLANCE,)
        reach = tuple(most // self.line.slow for most in reach)
        tried = np.array([but], np.int64)
        if straight is not None:
            raw = pool.read(np.array([straight.number]))[0]
            option = self._followed(node, straight.number, raw)
            if option is not None:
                found.append(replace(option, worth=option.worth + IN_LINE,
                                     standing=option.standing + IN_LINE))
            tried = np.append(tried, straight.number)
        first = pool.nearest(node.number, 1, self.like)
        behind = int(first[0]) if first.size and first[0] > node.number else -1
        for most in reach:
            numbers = pool.nearest(node.number, most, self.like)
            numbers = node.without(numbers[~np.isin(numbers, tried)])
            found += self._ranked(node, numbers, behind)
            tried = np.concatenate((tried, numbers))
            found.sort(key=lambda o: -o.standing)
            if found and found[0].worth >= GOOD + CLEAR and found[0].ratio >= SURE and (
                    len(found) < 2 or found[0].standing - found[1].standing >= CLEAR):
                break
        if not found and effort > 0:
            # An edge may run all across a picture: then the hard rules alone decide.
            numbers = node.without(pool.nearest(node.number, NEAR // self.line.slow, self.like))
            found = self._ranked(node, numbers[numbers != but], behind, anyhow=True)
            found.sort(key=lambda o: (not o.ends, -o.standing))
        return found

    def _ranked(self, node: Node, numbers: np.ndarray, behind: int,
                anyhow: bool = False) -> list[Option]:
        pool = self.bench.pool
        step = max(1, ROWS_BYTES // pool.unit)
        blind = not self.line.judged(node.state)
        most = FOLLOWED_BLIND if blind else self.line.followed
        best: list[tuple[float, int, bytes]] = []
        for at in range(0, numbers.size, step):
            self.bench.rest()
            part = numbers[at : at + step]
            rows = pool.read(part, room=1)
            self.bench.spend(part.size * pool.unit * self.line.work[0])
            scores, scored = self.line.rank(node.state, rows, anyhow)
            self.tried += part.size
            self.possible += int(np.count_nonzero(scores != REFUSED))
            scores = scores - self.line.expected * max(0.0, node.usual or 0.0) * scored
            if blind:  # all that could be are as good: the nearest ones
                scores = np.where(scores == REFUSED, REFUSED, -np.abs(part - node.number))
            order = np.lexsort((np.abs(part - node.number), -scores))[:most]
            best += [(float(scores[i]), int(part[i]), rows[i, 1:].tobytes()) for i in order
                     if scores[i] != REFUSED]
            best = sorted(best, key=lambda b: -b[0])[:most]
        found, gaps = [], gaps_of(node.pieces)
        for _, number, raw in best:
            self.bench.rest()
            option = self._followed(node, number, np.frombuffer(raw, np.uint8))
            if option is not None:
                bonus = NEXT_FREE if number == behind else 0.0
                bonus += pool.habits.nats(number - node.number - 1, gaps)
                found.append(replace(option, worth=option.worth + bonus,
                                     standing=option.standing + bonus))
        return found

    def _followed(self, node: Node, number: int, raw: np.ndarray) -> Option | None:
        """`number` and what stands in line behind it, a little way."""
        pool = self.bench.pool
        step = self._taken(node.state, raw, node.state)
        if step.refused:
            return None
        first = Node(number, step.state, node, node.depth + 1, node.score + step.score,
                      end=step.end)
        first.took(step, node.usual)
        worth, state, cut_short = step.score, step.state, False
        scored = step.scored
        for ahead in range(1, max(AHEAD_LEAST, self.line.ahead * AHEAD_BYTES // pool.unit)):
            if step.end is not None or not pool.is_free(number + ahead) or node.has(
                    number + ahead):
                break
            raw_ahead = pool.read(np.array([number + ahead]))[0]
            step = self._taken(state, raw_ahead, node.state)
            if step.refused:
                cut_short = True
                break
            worth, state, scored = worth + step.score, step.state, scored + step.scored
        ratio = ratio_of(node, worth, scored)
        if cut_short:
            worth -= CUT_SHORT
        standing = worth - self.line.expected * max(0.0, node.usual or 0.0) * scored
        return Option(first, worth, standing, np.asarray(raw).tobytes(), cut_short, ratio,
                      step.end is not None)

    def _taken(self, state: Any, raw: np.ndarray, since: Any) -> Step:
        self.bench.spend(self.bench.pool.unit * self.line.work[1])
        return self.line.take(state, raw, since)

    # going back

    def _turn(self, node: Node) -> Node | None:
        """Another way where `node` leads nowhere: a decision just made, or one that was close."""
        if self.turns >= MAX_TURNS or self._late():
            return None
        self.turns += 1
        return self._rethought(self._just_now(node)) or self._second_choice(CLEAR) or (
            self._rethought(self._doubtful())) or self._second_choice(2 * CLEAR)

    def _late(self) -> bool:
        """Whether enough was tried for this file."""
        return self.searches > MAX_SEARCHES or self.bench.beyond(self._until)

    def _rethought(self, decisions: list[tuple[Node, int]]) -> Node | None:
        """The best other way at any of these, where it is good by itself."""
        best: tuple[float, Node, list[Option]] | None = None
        for back, taken in decisions:
            if back.state is None or self._late() or (
                    back.depth, taken) in self._given_up:
                continue
            self._given_up.add((back.depth, taken))
            options = self.options(back, None, min(1, self.bench.effort), but=taken)
            options = [o for o in options if (back.depth, o.node.number) not in self._given_up
                       and (not o.cut_short or o.worth > GOOD + CLEAR)]
            if options and options[0].worth >= GOOD and options[0].ratio >= FINE and (
                    best is None or options[0].standing > best[0]):
                best = options[0].standing, back, options
        return None if best is None else self._chosen(best[1], best[2])

    def _second_choice(self, behind: float) -> Node | None:
        """What came nearest to being chosen, and no farther `behind` than so many nats."""
        while self._stack:
            self._stack.sort(key=lambda s: -s[0])
            if self._stack[-1][0] > behind:
                return None
            _, other = self._stack.pop()
            before = other.before
            if before is None or (before.depth, other.number) in self._given_up:
                continue
            self._given_up.add((before.depth, other.number))
            other.seam = Seam(other.depth * self.bench.pool.unit, SeamWord.LIKELY,
                              (Reason("second-choice"),))
            return other
        return None

    def _just_now(self, node: Node) -> list[tuple[Node, int]]:
        """(node, cluster that was taken behind it) of the last decisions."""
        found: list[tuple[Node, int]] = []
        after, back = node, node.before
        for _ in range(max(BACK_LEAST, BACK_BYTES // self.bench.pool.unit)):
            if back is None:
                break
            found.append((back, after.number))
            after, back = back, back.before
        return found

    def _doubtful(self) -> list[tuple[Node, int]]:
        """The same, of all that were taken with a doubt."""
        self._doubts.sort(key=lambda d: d[0])
        return [(node, taken) for _, node, taken in self._doubts[: self.line.kept]]

    def _forget(self, node: Node) -> None:
        """States of long ago are not gone back to."""
        old = node
        for _ in range(self.line.kept):
            if old.before is None:
                return
            old = old.before
        keep = any(other.before is old for _, other in self._stack) or any(
            doubted is old for _, doubted, _ in self._doubts)
        if not keep:
            old.state = None

    def _told(self, node: Node, ended: bool, summed: bool = False) -> Joined | None:
        chain = chain_of(node)
        if ended and self.line.proves and not summed and made_up(chain):
            ended = False
        if not ended:  # what is not proven, and led nowhere, is no part of it
            doubtful = (i for i, n in enumerate(chain)
                        if n.seam is not None and n.seam.word is not SeamWord.PROVEN)
            chain = chain[: next(doubtful, len(chain))]
        seams = tuple(n.seam for n in chain if n.seam is not None)
        extents = self._extents(chain)
        if summed:
            seams = proven_by_sum(seams)
        return Joined(extents, seams, ended) if seams or ended else None

    def _extents(self, chain: list[Node]) -> Extents:
        pool, end = self.bench.pool, chain[-1].end
        extents = pool.span([n.number for n in chain])
        if end is not None:
            last, length = extents[-1]
            extents[-1] = last, length - pool.unit + end
        return tuple(extents)


def textures(*classes: Texture) -> np.ndarray:
    """bool[classes of Texture]: these, and what was not looked at."""
    like = np.zeros(len(Texture), np.bool_)
    like[[Texture.UNSEEN, *classes]] = True
    return like
