"""How a card's files go on behind a gap, learnt from its whole files and from what was joined.

Drivers fill what is free forward, and programs that write two files in turns leave gaps of one
length: of candidates that are as good, the one that goes on as usual is taken.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence
from itertools import pairwise
from math import log

ONE_WAY = 2.0  # gaps each way that are taken for granted before any was seen
SAME_STRIDE, USUAL_STRIDE = 3.0, 1.5  # nats of a gap as long as one of this file; of many files
OFTEN, PART = 3, 0.25  # times that a gap was seen, and of all, to be usual


class Habits:
    """Gaps in clusters, from behind the end of one piece to the next one; negative going back."""

    def __init__(self) -> None:
        self._forward = self._back = 0
        self._gaps: Counter[int] = Counter()

    def learn(self, gaps: Iterable[int]) -> None:
        for gap in gaps:
            if gap:
                self._forward += gap > 0
                self._back += gap < 0
                self._gaps[gap] += 1

    def nats(self, gap: int, own: Sequence[int] = ()) -> float:
        """What speaks for a gap, in nats: `own` are those of the same file so far."""
        if not gap:
            return 0.0
        count = self._forward + self._back
        ways = self._forward if gap > 0 else self._back
        nats = log(2 * (ways + ONE_WAY) / (count + 2 * ONE_WAY))
        if gap in own:
            return nats + SAME_STRIDE
        seen = self._gaps[gap]
        return nats + (USUAL_STRIDE if seen >= OFTEN and seen >= PART * count else 0.0)


def gaps_of(pieces: Sequence[tuple[int, int]]) -> list[int]:
    """The gaps between pieces, (first cluster, how many) each in file order."""
    return [after - first - count for (first, count), (after, _) in pairwise(pieces)]
