"""What a way to join is: the interface of its module, and what comes out of it."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, ClassVar, Protocol

import numpy as np
import numpy.typing as npt

from needlewright.core.codes import Reason, Seam, SeamWord
from needlewright.core.decoders import Decoder
from needlewright.core.formats.registry import form_of, formats
from needlewright.core.registry import Registry
from needlewright.core.sources.source import Source
from needlewright.core.stitching.hand import Hand
from needlewright.core.stitching.pool import Pool
from needlewright.core.stopping import Interrupted, StopSignal

Extents = tuple[tuple[int | None, int], ...]
REFUSED = float("-inf")
DECODE_WORK = 1 << 25  # of asking a decoder once

__all__ = ["REFUSED", "Bench", "Broken", "Decodes", "Extents", "Joined", "Joiner", "Line",
           "Reason", "Seam", "SeamWord", "Step", "formats_by_hand", "joiner_for", "proven_by_sum",
           "register"]


@dataclass(frozen=True, slots=True)
class Broken:
    """A find that is not whole, as a joiner gets it. `extents`: bytes of the source, file order;
    `breaks_at`: the byte of the source from which it is not its own, where that is known; `stated`:
    the size that a record gives it."""

    number: int
    key: str
    format: str
    extents: Extents
    breaks_at: int | None = None
    why: str = ""
    stated: int | None = None

    @property
    def start(self) -> int:
        """Its first byte on the source."""
        return next((o for o, _ in self.extents if o is not None), 0)


class Decodes(Protocol):
    """Whether a decoder takes a file, given by its extents: of a clip or a sound what lies from one
    second to another, of HEIF pictures the coded items by their number, of others all."""

    def __call__(self, extents: Extents, start: float, stop: float,
                 decoder: str = Decoder.CLIP) -> bool: ...


@dataclass(slots=True)
class Meter:
    """What was spent on a find so far. It is work that is counted, never time: a busy machine must
    find the same as an idle one."""

    spent: int = 0


@dataclass(frozen=True, slots=True)
class Bench:
    """What a joiner works with. `effort`: 0 looks near, 1 farther, 2 everywhere. `patience`: part
    of the usual work that is to be spent."""

    pool: Pool
    stop: StopSignal
    effort: int = 0
    decodes: Decodes | None = None
    patience: float = 1.0
    meter: Meter = field(default_factory=Meter)

    def spend(self, work: int) -> None:
        """Count `work`: 1 is what a trial of one byte of a JPEG scan takes, some four nanoseconds.
        """
        self.meter.spent += work

    def ask(self, extents: Extents, start: float, stop: float, decoder: str = Decoder.CLIP) -> bool:
        """Whether a decoder takes it, see `Decodes`; True where there is none."""
        self.spend(DECODE_WORK)
        return self.decodes is None or self.decodes(extents, start, stop, decoder)

    def until(self, budget: int) -> int:
        """The mark of the meter at which this work, or the part of it that patience leaves, will
        have been spent from now on."""
        return self.meter.spent + int(budget * self.patience)

    def beyond(self, mark: int) -> bool:
        """Whether more was spent than up to this mark."""
        return self.meter.spent > mark

    def rest(self) -> None:
        """Raise Interrupted when told to stop."""
        if self.stop.is_set():
            raise Interrupted


@dataclass(frozen=True, slots=True)
class Joined:
    """What came of joining. `extents`: of the file, as far as it was put together; `ended`: to its
    own last byte."""

    extents: Extents
    seams: tuple[Seam, ...]
    ended: bool


def proven_by_sum(seams: Sequence[Seam]) -> tuple[Seam, ...]:
    """The same, all of them proven by a checksum over the whole file."""
    return tuple(s if s.word is SeamWord.PROVEN else replace(
        s, word=SeamWord.PROVEN, reasons=(Reason("checksum"), *s.reasons)) for s in seams)


@dataclass(frozen=True, slots=True)
class Step:
    """What taking one more cluster led to. `score` in nats over `scored` comparisons, REFUSED where
    it cannot be; `end`: bytes of the cluster that belong to the file, where it ends there."""

    score: float
    scored: int
    state: Any
    end: int | None = None

    @property
    def refused(self) -> bool:
        return self.score == REFUSED


class Line(ABC):
    """One file that is put together cluster by cluster, in file order.

    A state stands for what is proven so far; it is never changed, so that several continuations can
    be tried from it.
    """

    @abstractmethod
    def rank(self, state: Any, rows: npt.NDArray[np.uint8], anyhow: bool = False) -> tuple[
            npt.NDArray[np.float64], npt.NDArray[np.int64]]:
        """(score in nats, REFUSED for those that cannot be; comparisons behind it) for each
        candidate, uint8[n, 1 + unit] with a byte of room before each. `anyhow`: refuse by hard
        rules only."""

    @abstractmethod
    def take(self, state: Any, raw: npt.NDArray[np.uint8], since: Any = None) -> Step:
        """Take the cluster `raw`. `since`: the state at the seam, where rows behind it are not
        proven yet and are not compared with."""

    @abstractmethod
    def progress(self, state: Any) -> float:
        """How much of the file is there, 0.0 to 1.0."""

    @abstractmethod
    def judged(self, state: Any) -> bool:
        """Whether what comes next can be compared with anything."""

    def may_end(self, state: Any) -> bool:
        """Whether the file may end here, exactly behind a cluster, with nothing that says so."""
        return False

    def sum_agrees(self, file: Source) -> bool | None:
        """Whether a checksum over the whole file agrees; None where there is none."""
        return None

    kept: ClassVar[int] = 64  # states, doubts that are gone back to: large states are few
    rivals: ClassVar[int] = 3  # candidates that came near and are gone back to
    decoded: ClassVar[bool] = False  # whether a decoder is asked where candidates came near
    proves: ClassVar[bool] = True  # whether a clear lead leaves no doubt
    end_proves: ClassVar[bool] = True  # whether an end of its own speaks for what leads to it
    followed: ClassVar[int] = 12  # candidates that are followed a little
    ahead: ClassVar[int] = 1  # how many times farther than usual they are followed
    slow: ClassVar[int] = 1  # how many times fewer candidates are tried at a time
    work: ClassVar[tuple[int, int]] = 1, 15  # of a byte that is ranked, and of one that is taken
    expected: ClassVar[float] = 0.75  # of the usual likeness counts against each comparison: long
    # stretches of plain foreign rows must not outweigh a short own one
    fair: ClassVar[float] = 0.6  # of the usual likeness: good enough to be proven
    doubt: ClassVar[float] = 0.5  # of the usual likeness: above it what stands in line is taken


@dataclass(frozen=True, slots=True)
class Joiner:
    """A way to join, for the finds of some formats."""

    name: str
    formats: frozenset[str]  # beside those that name it
    join: Callable[[Broken, Bench], Joined | None]
    order: int = 0  # cheap ones first
    endless: bool = False  # what seems complete may go on elsewhere: nothing in it says how long
    by_hand: Callable[[Broken, Bench], Hand | None] | None = None


_joiners: Registry[Joiner] = Registry("needlewright.core.stitching", prefix="join_")


def register(joiner: Joiner) -> Joiner:
    """Add a way to join; ValueError if its name is taken."""
    return _joiners.add(joiner.name, joiner)


def formats_by_hand() -> list[str]:
    """The formats whose finds can be joined by hand."""
    names = (v.name for f in formats().values() for v in (f.plain, *f.variants))
    return sorted({name for name in names
                   if (way := joiner_for(name)) is not None and way.by_hand is not None})


def joiner_for(name: str) -> Joiner | None:
    """The way to join finds of this format, if there is one: a module's that names it, else the one
    that the format says."""
    ways = _joiners.all()
    fitting = [j for j in ways.values() if name in j.formats]
    if fitting:
        return min(fitting, key=lambda j: (j.order, j.name))
    form = form_of(name)
    return None if form is None else ways.get(form.joined)
