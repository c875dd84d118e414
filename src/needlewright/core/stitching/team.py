"""Who joins: this process alone, or a crew of others (see `crew`); the rounds do not care which."""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass, field
from typing import Any, ClassVar, Protocol

from needlewright.core.codes import Reason, Seam, SeamWord
from needlewright.core.errors import FormatError, SourceError
from needlewright.core.stitching.base import Bench, Broken, Decodes, Extents, Joined, joiner_for
from needlewright.core.stitching.pool import Pool
from needlewright.core.stopping import StopSignal

Result = tuple[Broken, Joined | None]


class Team(Protocol):
    """Takes finds and gives back what came of them, in any order."""

    @property
    def window(self) -> int:
        """How many finds may be given that are not settled, whatever the machine is."""
        ...

    @property
    def room(self) -> bool:
        """Whether another find can be given now."""
        ...

    def give(self, broken: Broken, effort: int, patience: float) -> None:
        """Have `broken` joined. `patience`: part of the usual work that is spent on it."""
        ...

    def results(self, wait_s: float) -> list[Result]:
        """What is done; waits for the first of it, if anything is under way."""
        ...

    def take(self, extents: Extents) -> None:
        """These bytes are somebody's from now on."""
        ...

    def look_after(self) -> None:
        """Let those who join go on for a moment: without it they hold still."""
        ...

    def close(self) -> None: ...


def join_one(broken: Broken, bench: Bench) -> Joined | None:
    """What comes of one find. Raises SourceError where the medium is gone."""
    joiner = joiner_for(broken.format)
    if joiner is None:
        return None
    try:
        return joiner.join(broken, bench)
    except SourceError as error:
        if error.code != "source-range":
            raise
        return None
    except FormatError:
        return None


@dataclass(slots=True)
class Alone:
    """Joins in this process, when it is asked for results."""

    pool: Pool
    stop: StopSignal
    decodes: Decodes | None = None
    _given: deque[tuple[Broken, int, float]] = field(default_factory=deque)
    window: ClassVar[int] = 1

    @property
    def room(self) -> bool:
        return not self._given

    def give(self, broken: Broken, effort: int, patience: float) -> None:
        self._given.append((broken, effort, patience))

    def results(self, wait_s: float) -> list[Result]:
        if not self._given:
            return []
        broken, effort, patience = self._given.popleft()
        bench = Bench(self.pool, self.stop, effort, self.decodes, patience)
        return [(broken, join_one(broken, bench))]

    def take(self, extents: Extents) -> None:
        """The pool is the one that the rounds have."""

    def look_after(self) -> None:
        """Nobody waits for it."""

    def close(self) -> None:
        self._given.clear()


def broken_as_json(broken: Broken) -> list[Any]:
    return [broken.number, broken.key, broken.format, broken.extents, broken.breaks_at, broken.why,
            broken.stated]


def broken_from(told: list[Any]) -> Broken:
    number, key, form, extents, place, why, stated = told
    return Broken(number, key, form, tuple((o, n) for o, n in extents), place, why, stated)


def joined_as_json(joined: Joined | None) -> Any:
    if joined is None:
        return None
    return {"extents": joined.extents, "ended": joined.ended, "seams": [
        [s.at, s.word, [[r.code, dict(r.values)] for r in s.reasons], s.rivals]
        for s in joined.seams]}


def joined_from(told: Any) -> Joined | None:
    if told is None:
        return None
    seams = tuple(Seam(at, SeamWord(word), tuple(Reason(c, v) for c, v in reasons),
                       tuple((byte, behind) for byte, behind in rivals))
                  for at, word, reasons, rivals in told["seams"])
    return Joined(tuple((o, n) for o, n in told["extents"]), seams, told["ended"])
