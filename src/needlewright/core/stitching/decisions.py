"""What a solver has decided and may decide: the nodes of a thread, and what speaks for each."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from needlewright.core.codes import Seam, SeamWord
from needlewright.core.stitching.base import Line, Step

CLEAR = 25.0  # nats of lead that leave no doubt
FINE = 0.8  # of the usual likeness: good enough to leave the line for, or to turn back for
HALF, FAR = 0.5, 100.0  # ... or this of it, so many nats ahead of what speaks against itself
SCRAPS, SCRAP_CLUSTERS, SCRAPS_LIKELY = 5, 4, 2  # pieces in a row, as short as that, are no file
# where so many of them are no more than likely
MADE_UP, MADE_UP_PART = 4, 0.6  # seams, and of all, that make a file made up
LEAST_USUAL = 0.4  # nats a comparison
SLOWLY = 0.2  # how fast the usual likeness follows


@dataclass(slots=True)
class Node:
    """One cluster of a thread, behind `before`. `score`: of all so far; `seam`: how it was chosen,
    where it does not stand in line."""

    number: int
    state: Any
    before: Node | None
    depth: int
    score: float
    seam: Seam | None = None
    end: int | None = None
    usual: float | None = None  # nats a comparison, of late
    pieces: tuple[tuple[int, int], ...] = ()  # first cluster and how many, in file order

    def __post_init__(self) -> None:
        so_far = self.before.pieces if self.before is not None else ()
        if so_far and so_far[-1][0] + so_far[-1][1] == self.number:
            self.pieces = (*so_far[:-1], (so_far[-1][0], so_far[-1][1] + 1))
        else:
            self.pieces = (*so_far, (self.number, 1))

    def took(self, step: Step, before: float | None) -> None:
        """Learn from the step that led here what is usual; `before`: what was until then."""
        self.usual = before
        if step.scored >= 8:
            now = step.score / step.scored
            self.usual = now if before is None else before + SLOWLY * (now - before)

    def has(self, number: int) -> bool:
        """Whether the thread up to here uses this cluster."""
        return any(first <= number < first + count for first, count in self.pieces)

    def without(self, numbers: np.ndarray) -> np.ndarray:
        """Those of `numbers` that the thread does not use."""
        keep = np.ones(numbers.size, np.bool_)
        for first, count in self.pieces:
            keep &= (numbers < first) | (numbers >= first + count)
        return numbers[keep]


@dataclass(frozen=True, slots=True)
class Option:
    """A candidate that was followed: the node of its first cluster, what it is worth, and that in
    comparison to what is usual."""

    node: Node
    worth: float
    standing: float
    raw: bytes
    cut_short: bool
    ratio: float  # of its likeness to what is usual
    ends: bool = False  # it was followed to the end of the file


def chain_of(node: Node) -> list[Node]:
    """All nodes down to `node`, in file order."""
    chain: list[Node] = []
    at: Node | None = node
    while at is not None:
        chain.append(at)
        at = at.before
    return chain[::-1]


def better(best: Option, mine: Option) -> bool:
    """Whether `best` is good enough by itself, and far enough ahead, to leave the line for."""
    lead = best.standing - mine.standing
    return lead >= CLEAR if best.ratio >= FINE else (
        best.ratio >= HALF and mine.ratio < 0 and lead >= FAR)


def lead_of(options: list[Option]) -> float:
    """How far the first is ahead of the next that is not the same bytes, in nats."""
    best = options[0]
    rival = next((o.standing for o in options[1:] if o.raw != best.raw), None)
    return best.standing - (min(0.0, best.standing - best.worth) if rival is None else rival)


def word_of(line: Line, best: Option, lead: float) -> SeamWord:
    """How sure a seam is that is chosen with this lead."""
    sure = line.proves and lead >= CLEAR and best.ratio >= line.fair
    return SeamWord.PROVEN if sure else SeamWord.LIKELY


def patchwork(node: Node) -> bool:
    """Whether what was put together of late is no file, but what fits a little, one by one."""
    last = node.pieces[-SCRAPS:]
    if len(last) < SCRAPS or any(count > SCRAP_CLUSTERS for _, count in last):
        return False
    doubtful, left = 0, sum(count for _, count in last)
    back: Node | None = node
    while back is not None and left > 0:
        doubtful += back.seam is not None and back.seam.word is SeamWord.LIKELY
        back, left = back.before, left - 1
    return doubtful >= SCRAPS_LIKELY


def made_up(chain: list[Node]) -> bool:
    """Whether a file that runs to an end is hardly its own: most of its seams, and not few, are no
    more than likely."""
    words = [n.seam.word for n in chain if n.seam is not None]
    likely = sum(word is SeamWord.LIKELY for word in words)
    return likely >= MADE_UP and likely > MADE_UP_PART * len(words)


def ratio_of(node: Node, score: float, scored: int) -> float:
    """How well what follows `node` compares, in terms of what is usual."""
    if scored == 0 or node.usual is None:
        return 1.0 if score >= 0 else 0.0
    return score / scored / max(LEAST_USUAL, node.usual)
