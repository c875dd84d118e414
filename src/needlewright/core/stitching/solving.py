"""The rounds of a source: easy finds first, what becomes whole leaves the pool, then once more."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field

from needlewright.core.errors import FormatError, SourceError
from needlewright.core.finds import SeamWord
from needlewright.core.stitching.base import Bench, Broken, Extents, Joined, joiner_for
from needlewright.core.stitching.pool import Pool
from needlewright.core.stopping import StopSignal

EFFORTS = (0, 1, 2)  # how far a round looks; the last one again while anything comes of it
MAX_ROUNDS = 4


@dataclass(frozen=True, slots=True)
class Solved:
    """What came of one find; `joined` is None where nothing did."""

    broken: Broken
    joined: Joined | None


@dataclass(slots=True)
class Rounds:
    """Goes over `waiting` until a round brings nothing. Whoever takes a `Solved` says with `keep`
    that the file runs to its end."""

    pool: Pool
    waiting: list[Broken]
    stop: StopSignal
    decodes: Callable[[Extents, float, float], bool] | None = None
    solved: int = 0
    taken: int = 0  # of all rounds, finds that were tried
    _best: dict[int, Joined] = field(default_factory=dict)

    def keep(self, joined: Joined) -> None:
        """These pieces make up a file to its end; where every seam of it is proven they are nobody
        else's from now on."""
        if all(seam.word is SeamWord.PROVEN for seam in joined.seams):
            self.pool.take(joined.extents)
        self.solved += 1

    def run(self) -> Iterator[Solved]:
        """What comes of each find: at once what ends, at last how far the others came."""
        tried: dict[int, tuple[int, int]] = {}
        for number in range(MAX_ROUNDS):
            effort = EFFORTS[min(number, len(EFFORTS) - 1)]
            before = self.pool.revision
            for broken in list(self.waiting):
                if tried.get(broken.number) == (effort, self.pool.revision):
                    continue
                tried[broken.number] = effort, self.pool.revision
                joined = self._joined(broken, effort)
                self.taken += 1
                if joined is not None and joined.ended:
                    self.waiting.remove(broken)
                    yield Solved(broken, joined)
                elif joined is not None:
                    self._best[broken.number] = joined
                else:
                    yield Solved(broken, None)
            if not self.waiting or (effort == EFFORTS[-1] and self.pool.revision == before):
                break
        for broken in self.waiting:
            yield Solved(broken, self._best.get(broken.number))

    def _joined(self, broken: Broken, effort: int) -> Joined | None:
        joiner = joiner_for(broken.format)
        if joiner is None:
            return None
        try:
            return joiner.join(broken, Bench(self.pool, self.stop, effort, self.decodes))
        except SourceError as error:
            if error.code != "source-range":
                raise  # the medium is gone
            return None
        except FormatError:
            return None


def easy_first(finds: Sequence[Broken]) -> list[Broken]:
    """Cheap ways to join first, then the shorter files."""
    def effort(broken: Broken) -> tuple[int, int, int]:
        joiner = joiner_for(broken.format)
        return (0 if joiner is None else joiner.order, broken.stated or 0, broken.start)
    return sorted(finds, key=effort)
