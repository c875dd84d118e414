"""What came of putting a picture together: where it had to be, and what is missing."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from needlewright.core.mending.base import Choice
from needlewright.core.mending.jpeg.canvas import Canvas


@dataclass(frozen=True, slots=True)
class Break:
    """Where the picture had to be put together: from MCU `place` on, clean bit `bit`. `loose`:
    nothing stood just above, so that its levels are guessed."""

    place: int
    bit: int
    shift: int
    levels: tuple[int, ...]
    loose: bool = False
    errors: tuple[float, ...] = ()  # of the levels, grey levels


@dataclass(slots=True)
class Placed:
    """What came of placing. `breaks`: in order; `left_out`: MCUs that decode and have no place;
    `forced`: something was placed by the end of the data against weak evidence of its rows."""

    canvas: Canvas
    breaks: list[Break] = field(default_factory=list)
    left_out: int = 0
    forced: bool = False
    guessed: int = 0  # chains of which the row is only likely
    choices: list[Choice] = field(default_factory=list)  # of pieces placed by their rows
    by_hand: int = 0  # pieces


def neutral_runs(there: npt.NDArray[np.bool_]) -> list[tuple[int, int]]:
    """(start, stop) of runs of MCUs that are missing."""
    edges = np.flatnonzero(np.diff(np.concatenate(([True], there, [True])).astype(np.int8)))
    return [(int(a), int(b)) for a, b in zip(edges[::2], edges[1::2])]
