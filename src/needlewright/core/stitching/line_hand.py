"""Joining by hand what is put together cluster by cluster: the solver's own view of each place."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from needlewright.core.codes import Reason, SeamWord
from needlewright.core.stitching.base import Bench, Line
from needlewright.core.stitching.decisions import Node, Option, lead_of, word_of
from needlewright.core.stitching.hand import OFFERED, Gone, Hand, Offer, Offers, Reach, cluster_list
from needlewright.core.stitching.solver import FAIR, Solver
from needlewright.core.stopping import StopSignal

MARKS = 64  # clusters between states that are kept
AT_ONCE = 256  # clusters that are read at a time
DOUBTFUL = 2  # clusters in a row that hardly go on
MAX_PIECE = 1 << 16  # clusters that a piece is followed over


@dataclass(slots=True)
class LineHand(Hand):
    """`state`: of `line` at the end of the clusters `head`, where the file ends after `end` bytes
    of the last one, or goes on."""

    line: Line
    bench: Bench
    like: np.ndarray
    head: tuple[int, ...]
    state: Any
    end: int | None
    by_rows: bool = True
    _walked: tuple[int, ...] = ()
    _shares: list[float] = field(default_factory=list)
    _marks: dict[int, Node] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.pool = self.bench.pool

    def listen(self, stop: StopSignal) -> None:
        self.bench = replace(self.bench, stop=stop)

    def reach(self, clusters: Sequence[int]) -> Reach:
        node, shares = self._at(clusters)
        return Reach(shares, node.end)

    def _at(self, clusters: Sequence[int]) -> tuple[Node, tuple[float, ...]]:
        """(where the thread of these stands, the share after each), as far as they can be."""
        clusters = tuple(clusters)
        same = next((i for i, (a, b) in enumerate(zip(clusters, self._walked)) if a != b),
                    min(len(clusters), len(self._walked)))
        self._marks = {n: m for n, m in self._marks.items() if n <= same}
        if self._marks:
            node = self._marks[max(self._marks)]
        else:
            node = self._beginning()
            self._shares = [self.line.progress(self.state)] * len(self.head)
        shares = self._shares[: node.depth + 1]
        self._walked, self._shares = clusters, shares
        while len(shares) < len(clusters) and node.end is None:
            self.bench.rest()
            part = clusters[len(shares) : len(shares) + AT_ONCE]
            for number, raw in zip(part, self.pool.read(np.array(part))):
                step = self.line.take(node.state, raw, node.state)
                if step.refused:
                    return node, tuple(shares)
                following = Node(number, step.state, node, len(shares), 0.0, end=step.end)
                following.took(step, node.usual)
                following.before = None  # what was walked over is not kept
                node = following
                shares.append(self.line.progress(node.state))
                if len(shares) % MARKS == 0:
                    self._marks[len(shares)] = node
                if node.end is not None:
                    break
        return node, tuple(shares)

    def _beginning(self) -> Node:
        node: Node | None = None
        for depth, number in enumerate(self.head):
            node = Node(number, None, node, depth, 0.0)
        assert node is not None
        node.state, node.end = self.state, self.end
        return node

    def offers(self, clusters: Sequence[int]) -> Offers:
        node, shares = self._at(clusters)
        if len(shares) < len(clusters) or node.end is not None:
            return Offers((), 0, 0)
        solver = Solver(self.line, self.bench, self.like)
        straight, ratio = solver.in_line(node)
        options = solver.options(node, straight)
        best = [self._offer(solver, node, option, options) for option in options[:OFFERED]]
        if straight is not None and all(o.first != straight.number for o in best):
            reasons = (Reason("rows-hardly" if ratio < FAIR else "rows-like"), Reason("in-line"))
            last = self._followed(solver, straight)
            best = [*best[: OFFERED - 1], Offer(
                straight.number, last.depth - node.depth, len(clusters),
                self.line.progress(last.state), SeamWord.LIKELY, reasons, last.end)]
        return Offers(tuple(best), solver.tried, solver.possible)

    def _offer(self, solver: Solver, node: Node, option: Option, options: list[Option]) -> Offer:
        last = self._followed(solver, option.node)
        share = self.line.progress(last.state)
        word = SeamWord.LIKELY
        reasons = [Reason("rows-continue" if option.ratio >= FAIR else "rows-hardly",
                          {"nats": round(option.worth, 1)})]
        if option is options[0]:
            lead = lead_of(options)
            word = word_of(self.line, option, lead)
            reasons.append(Reason("lead", {"nats": round(lead, 1)}))
        else:
            behind = round(options[0].standing - option.standing, 1)
            reasons.append(Reason("behind", {"nats": behind}))
        if option.node.number == node.number + 1:
            reasons.append(Reason("in-line"))
        if last.end is not None:
            reasons.append(Reason("own-end"))
        elif option.cut_short:
            reasons.append(Reason("breaks-soon"))
        return Offer(option.node.number, last.depth - node.depth, node.depth + 1, share, word,
                     tuple(reasons), last.end)

    def _followed(self, solver: Solver, node: Node) -> Node:
        """`node` and what stands in line behind it, as long as little speaks against that."""
        sure, doubtful = node, 0
        for _ in range(MAX_PIECE):
            if node.end is not None or doubtful > DOUBTFUL:
                break
            self.bench.rest()
            following, ratio = solver.in_line(node)
            if following is None:
                break
            following.before = None
            node = following
            # An edge may run all across the picture: only several doubts in a row end a piece.
            doubtful = doubtful + 1 if ratio < self.line.doubt else 0
            if not doubtful or node.end is not None:
                sure = node
        return sure

    def gone_on(self, clusters: Sequence[int]) -> Gone | None:
        node, shares = self._at(clusters)
        if len(shares) < len(clusters):
            return None
        solver = Solver(self.line, self.bench, self.like)
        joined = solver.solve(list(clusters), node.state, node.end)
        if joined is None:
            return None
        numbers = cluster_list(self.pool, joined.extents)
        rest = sum(length for _, length in joined.extents) % self.pool.unit
        end = (rest or self.pool.unit) if joined.ended else None
        return Gone(tuple(numbers), joined.seams, end)

