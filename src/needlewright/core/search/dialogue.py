"""The dialogue with the isolated decoders: what is asked of a case, and what the answers lead to.

The first question of a clip is a look; its frames are all decoded when nothing else waits. A photo
that carries a clip is asked for its picture, then for the clip. Whoever holds the dialogue hears in
turns what is known of each case so far.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any, Generic, TypeVar, cast

from needlewright.core.checks.decoding import DecodeReport, DecodeRequest, DecoderPool
from needlewright.core.decoders import Task
from needlewright.core.search.deciding import Case, all_frames, first_question
from needlewright.core.sources.source import Source
from needlewright.core.stopping import Interrupted, StopSignal

PENDING_DECODES = 12  # urgent questions that may be open; the next one waits
WAIT_S = 0.1

Mine = TypeVar("Mine", bound=Case)


@dataclass(frozen=True, slots=True)
class Turn(Generic[Mine]):
    """What is known of a case now. `report`: what to judge it by, None where nothing was asked, or
    where all its frames are still to be decoded; `first`: nothing was told of it before; `last`: no
    more answers will come."""

    case: Mine
    report: DecodeReport | None
    first: bool
    last: bool


@dataclass(frozen=True, slots=True)
class _Asked:
    """A question that is open, about the case `number` of `dialogue`, whose bytes `source` has."""

    dialogue: Dialogue[Any]
    number: int
    case: Case
    source: Source


class Dialogue(Generic[Mine]):
    """Asks the decoders about cases of one kind. `every_frame`: clips and sound are decoded in
    full, too."""

    def __init__(self, decoders: DecoderPool[Any], every_frame: bool, stop: StopSignal) -> None:
        self._decoders, self._every_frame, self._stop = decoders, every_frame, stop
        self._open: dict[int, Mine] = {}
        self._count = 0

    @property
    def open(self) -> list[Mine]:
        """The cases of which answers are still to come."""
        return list(self._open.values())

    def begin(self, case: Mine, source: Source) -> Iterator[Turn[Mine]]:
        """Ask the first question about `case`, which may make it wait for answers about others: all
        that is heard meanwhile is yielded, and `case` itself where it can be told at once. Raises
        Interrupted when told to stop; then nothing was asked."""
        asked = first_question(case, source, self._every_frame)
        if asked is None:
            yield Turn(case, None, True, True)
            return
        if asked[2]:
            yield Turn(case, None, True, False)
        while not asked[2] and self._decoders.urgent >= PENDING_DECODES:
            yield from self.settled(2 * WAIT_S)
            if self._stop.is_set():
                raise Interrupted
        self._count += 1
        self._ask(self._count, source, asked)

    def settled(self, wait_s: float = 0.0) -> Iterator[Turn[Mine]]:
        """What the answers that have come tell; waits so long for one."""
        for about, report in self._decoders.results(wait_s):
            if isinstance(about, _Asked) and about.dialogue is self:  # else nobody waits for it
                yield from self._heard(about, report)

    def finish(self) -> Iterator[Turn[Mine]]:
        """All that is still to come, or until told to stop."""
        while self._open and not self._stop.is_set():
            yield from self.settled(WAIT_S)

    def to_the_end(self, case: Mine, source: Source) -> Turn[Mine]:
        """The last turn about `case`, waited for; nothing else is asked meanwhile. Raises
        Interrupted when told to stop."""
        for turn in (*self.begin(case, source), *self.finish()):
            if turn.last:
                return turn
        raise Interrupted

    def _ask(self, number: int, source: Source, asked: tuple[Case, DecodeRequest, bool]) -> None:
        case, request, later = asked
        self._open[number] = cast(Mine, case)
        self._decoders.submit(_Asked(self, number, case, source), request, later)

    def _heard(self, about: _Asked, report: DecodeReport) -> Iterator[Turn[Mine]]:
        case, number = cast(Mine, about.case), about.number
        del self._open[number]
        if case.task == Task.FRAMES:
            yield Turn(case, report, False, True)
            return
        more, told = self._every_frame, None
        if case.task == Task.LOOK:
            case = replace(case, looked=report)
        else:
            more = more and case.walk.clip is not None and (report.ok or not case.walk.tentative)
            told = report
        if more:
            asking = case if told is None else replace(case, pictured=report)
            self._ask(number, about.source, all_frames(asking, about.source))
        yield Turn(case, told, True, not more)
