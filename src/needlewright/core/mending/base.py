"""The interface of mending: what a mender is given, and what it proposes."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import BinaryIO

from needlewright.core.codes import Reason
from needlewright.core.errors import NeedlewrightError
from needlewright.core.sources.source import Source
from needlewright.core.stopping import Interrupted, StopSignal
from needlewright.core.walks import Walk


class Unmendable(NeedlewrightError):
    """Nothing can be done for a file; the code says why. Never the end of anything else."""


Change = Reason  # one thing that mending did: a code and its values


@dataclass(frozen=True, slots=True)
class Reference:
    """A sound file of the same camera. `name`: what to call it; `path`: where it is."""

    name: str
    path: str
    source: Source


@dataclass(frozen=True, slots=True)
class Wishes:
    """What a person decided. `leave`: codes of changes that are not to be made; `places`: shift
    (place less number, MCUs) of the pieces that were placed by hand, by their numbers; `tones`:
    grey levels that are added to each component of what stands behind a break, by its number."""

    leave: frozenset[str] = frozenset()
    places: Mapping[int, int] = field(default_factory=dict)
    tones: Mapping[int, Sequence[float]] = field(default_factory=dict)

    @property
    def any(self) -> bool:
        return bool(self.leave or self.places or self.tones)


@dataclass(frozen=True, slots=True)
class Choice:
    """Where a piece may belong that is placed by its rows, or of what colour it may be. `number`:
    which piece; `shifts`: the places, the likeliest first; `lead`: how far the first is ahead,
    nats; `used`: whether it was placed; `rows`: the picture row of each, pixels; `unit`: pixels
    across and down of one MCU, and how many stand in a row. `tones`: the colours, as in `Wishes`,
    with what each goes by (`ways`); `lead` is then how unsure the present one is, grey levels."""

    number: int
    shifts: tuple[int, ...]
    lead: float
    used: bool
    rows: tuple[int, ...] = ()
    unit: tuple[int, int, int] = (0, 0, 0)
    tones: tuple[tuple[float, ...], ...] = ()
    ways: tuple[str, ...] = ()


#: Changes that a person may leave out; the others are what the file is made of.
OPTIONAL = frozenset(("double-removed", "levels-by-thumbnail", "in-line", "line-ends"))


@dataclass(frozen=True, slots=True)
class Patient:
    """What a mender works on. `source`: the file from byte 0; `form`: its true format as far as
    known; `walk`: the path that its structure took, None where it has no beginning. `told`: takes
    the share of the work that is done."""

    source: Source
    name: str
    form: str
    walk: Walk | None
    references: Sequence[Reference]
    stop: StopSignal
    told: Callable[[float], None] = lambda share: None
    wishes: Wishes = field(default_factory=Wishes)

    def breathe(self, share: float) -> None:
        """Tell how far the work is; Interrupted when it is to stop."""
        if self.stop.is_set():
            raise Interrupted
        self.told(share)


@dataclass(frozen=True, slots=True)
class Mended:
    """A proposal. `write(out)`: the new file, in one pass. `share`: part of the picture or the play
    time, else of the bytes, that the file has after it. `choices`: where pieces may belong as well.
    `doubts`: codes of why it cannot be called mended although it passes its checks. `reference`:
    the file that lent something to it. `share_before`: what the damaged file has, where the mender
    knows it better than the checks, which may only see that it does not decode. `area`: the part
    that has something of the file's own in it, where that is more than is likely as it was."""

    write: Callable[[BinaryIO], None]
    extension: str
    changes: tuple[Change, ...]
    share: float = 1.0
    doubts: tuple[str, ...] = ()
    reference: Reference | None = None
    choices: tuple[Choice, ...] = ()
    share_before: float | None = None
    area: float | None = None


@dataclass(frozen=True, slots=True)
class Mender:
    """A way to mend. `formats`: names of those it is for. `mend(patient)`: proposals, the
    likeliest first; Unmendable, FormatError or SourceError where there is none. `resort`: it is
    tried where others do not help."""

    name: str
    formats: frozenset[str]
    mend: Callable[[Patient], Iterable[Mended]]
    resort: bool = False


def bytes_written(data: bytes) -> Callable[[BinaryIO], None]:
    """How `data` is written."""
    def write(out: BinaryIO) -> None:
        out.write(data)
    return write
