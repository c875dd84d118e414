"""How bright what stands behind each break must be, and how sure that is.

Where rows join, the level of the rest is a median over the row, with the error that any median has;
errors add up from break to break. The embedded thumbnail measures the same step another way: how
the picture differs from it just above and just below. How well it does is learnt from steps that
are none, within the parts. Both are weighed by their errors.
"""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from needlewright.core.mending.jpeg.canvas import Canvas, Floats
from needlewright.core.mending.jpeg.evidence import FINER
from needlewright.core.mending.jpeg.guide import LEAST, SPREAD, Guide, apart, scatter
from needlewright.core.mending.jpeg.placed import Break

ROWS = 6  # of MCUs at either side of a step that are compared with the thumbnail
SIDES = (6, 4, 3)  # the same within the parts, as long as these are
MOST_ERROR = 0.5  # grey levels; of levels that are less sure one in ten is off visibly
LEAST_STEPS = 8  # within the parts, from which the thumbnail's own error is learnt
UNLEARNT = 4.0  # grey levels where it is not
FLOOR = 0.2  # grey levels: no thumbnail is better
USUAL = 0.8  # of the steps within the parts are no larger than the error that is learnt
LOOSE = 10.0  # grey levels that a level may be off by which nothing stands just above of
AT_ODDS = 4.0  # times their common error by which rows and thumbnail may disagree
HIDDEN, BEYOND = 3.0, 6.0  # grey levels, and times its error, of a step that no break explains
SHOWN = 0.7  # of the MCUs of a row that show a step
STRANGE = 2.0  # times the usual scatter, of what is not the picture at that place
SEEN, UNDER = 3.0, 2.0  # grey levels; times its estimate, of what an error turned out to be
WORTH = 0.25  # grey levels: smaller corrections are none

Doubles = npt.NDArray[np.float64]


@dataclass(slots=True)
class Levelled:
    """What came of it. `guided`: parts whose levels the thumbnail changed; `unsure`: whether a
    level may be off by more than is seen."""

    guided: int = 0
    unsure: bool = False
    errors: list[tuple[float, ...]] = field(default_factory=list)  # of each break, grey levels


def level(canvas: Canvas, breaks: list[Break], guide: Guide | None) -> Levelled:
    """Correct the levels behind `breaks` by the thumbnail, and say how sure they are. Steps that
    only the thumbnail shows are added to `breaks`."""
    done = Levelled()
    off = None if guide is None else apart(canvas, guide)
    witness = None if off is None else _Witness(canvas, off, breaks)
    if witness is not None and witness.noise is None:
        witness = None
    if witness is not None:
        hidden = witness.hidden()
        done.unsure = any(b.loose for b in hidden)  # nothing but the thumbnail shows them
        breaks += hidden
        breaks.sort(key=lambda b: b.place)
        if witness.noise is None:
            witness = None
    inner = sorted((b for b in breaks if 0 < b.place < canvas.there.size), key=lambda b: b.place)
    total = np.zeros(canvas.layout.quantisers.shape[0])
    for number, broken in enumerate(inner):
        own = np.maximum(np.array(broken.errors), LOOSE if broken.loose else 0.0)
        stop = inner[number + 1].place if number + 1 < len(inner) else canvas.there.size
        if witness is not None:
            moved = False
            step, theirs = witness.step(broken.place, stop)
            if step is not None:
                at_odds = np.abs(step) > AT_ODDS * np.sqrt(own**2 + theirs**2)
                done.unsure |= bool(at_odds.any())  # rows that join by chance
                own = np.where(at_odds.any(), 99.0, own)
                own, moved = witness.weigh(step, theirs, own, broken.place)
            total = np.sqrt(total**2 + own**2)
            whole, spread = witness.against_first(broken.place, stop, inner[0].place)
            if whole is not None:
                total, again = witness.weigh(whole, spread, total, broken.place)
                moved |= again
            done.guided += moved
            if witness.is_strange(broken.place, stop):
                total = np.full(total.size, 99.0)  # no measure for what follows it
        else:
            total = np.sqrt(total**2 + own**2)
        done.errors.append(tuple(round(float(e), 2) for e in total))
        done.unsure |= bool((total > MOST_ERROR).any())
    return done


class _Witness:
    """What the thumbnail says of steps. `off`: how the picture differs from it; `noise`: the error
    of a step over ROWS at either side, of each component, None where it guides nobody."""

    def __init__(self, canvas: Canvas, off: Floats, breaks: list[Break]) -> None:
        self._canvas, self._off = canvas, off
        self._intact = not breaks  # nothing else speaks against the picture
        self._places = [b.place for b in breaks]
        self.rows = _rows(off, canvas, self._places)
        self.noise = _noise(self.rows, canvas, self._places)

    def step(self, place: int, stop: int) -> tuple[Doubles | None, Doubles]:
        assert self.noise is not None
        return _step(self.rows, self._canvas, place, stop, self.noise)

    def weigh(self, step: Doubles, theirs: Doubles, own: Doubles, place: int) -> tuple[
            Doubles, bool]:
        """(the error that is left, whether anything was changed) when a step that is known with
        errors `own` is measured with errors `theirs`."""
        canvas = self._canvas
        wrong = step * own**2 / (own**2 + theirs**2)
        moved = canvas.quantised(np.where(np.abs(wrong) > WORTH, -wrong, 0).astype(np.float32))
        if moved.any():
            canvas.shift_levels(place, canvas.there.size, moved)
            self._off[:, place:] += canvas.in_grey(moved)[:, None]
            self.rows = _rows(self._off, canvas, self._places)
        left: Doubles = np.sqrt(own**2 * theirs**2 / (own**2 + theirs**2))
        return left, bool(moved.any())

    def against_first(self, place: int, stop: int, first: int) -> tuple[Doubles | None, Doubles]:
        """(how a part differs from the thumbnail more than the first part does, up to MCU `first`,
        which is sure; the error of that); None where either is too small."""
        assert self.noise is not None
        per_row = self._canvas.layout.per_row
        sure = self.rows[:, : first // per_row]
        sure = sure[:, ~np.isnan(sure[0])]
        part = self.rows[:, -(-place // per_row) : stop // per_row]
        part = part[:, ~np.isnan(part[0])]
        if part.shape[1] < 2:
            return None, self.noise
        middle = np.median(sure, axis=1, keepdims=True) if sure.size else np.zeros((len(part), 1))
        spread = np.quantile(np.abs(sure - middle), USUAL, axis=1) + FLOOR if (
            sure.shape[1] >= ROWS) else np.full(len(part), UNLEARNT)
        step = np.median(part, axis=1) - middle[:, 0]
        return step.astype(np.float64), np.maximum(spread, self.noise).astype(np.float64)

    def is_strange(self, place: int, stop: int) -> bool:
        """Whether a part shows something else than the thumbnail does there."""
        there = self._canvas.there
        part = self._off[0, place:stop][there[place:stop]]
        usual = scatter(self._off[0][there])
        return bool(part.size >= LEAST and scatter(part) > STRANGE * usual + FLOOR * 10)

    def hidden(self) -> list[Break]:
        """Steps within a part that are far beyond what the thumbnail errs by, and stay: changes of
        level that were taken for edges of the picture, and are taken off."""
        assert self.noise is not None
        per_row = self._canvas.layout.per_row
        steps: list[Doubles] = []
        at: list[int] = []
        edges = [-1, *sorted({p // per_row for p in self._places}), self.rows.shape[1]]
        for low, high in itertools.pairwise(edges):
            for row in range(low + 2, high):
                before = _known(self.rows[:, max(low + 1, row - ROWS) : row])
                behind = _known(self.rows[:, row : min(high, row + ROWS)])
                if before.shape[1] and behind.shape[1]:
                    fewer = np.sqrt(ROWS / min(before.shape[1], behind.shape[1]))
                    step = np.median(behind, axis=1) - np.median(before, axis=1)
                    # The mean is largest just where the step is.
                    other = np.abs(behind.mean(axis=1) - before.mean(axis=1))
                    steps.append(np.minimum(np.abs(step), other) / fewer)
                    at.append(row)
        if not steps:
            return []
        # The steps that are looked for are among those that say how large errors are.
        noise = 2 * np.median(steps, axis=0) + FLOOR
        over = (np.array(steps) / np.maximum(HIDDEN, BEYOND * noise)).max(axis=1)
        picked: list[int] = []
        for index in np.argsort(-over).tolist():
            if over[index] > 1 and all(abs(at[index] - other) > ROWS for other in picked):
                picked.append(at[index])
        found = [b for b in map(self._taken_off, sorted(picked)) if b is not None]
        self.noise = _noise(self.rows, self._canvas, self._places)
        return found

    def _taken_off(self, row: int) -> Break | None:
        """A hidden step near `row`, where most of the MCUs of one row differ by it from what
        stands above them; its level becomes that of those above. None where no row shows it,
        and nothing else is wrong or too few rows of the thumbnail say it."""
        canvas, per_row = self._canvas, self._canvas.layout.per_row
        first, stop = (row - 1) * per_row, min((row + 2) * per_row, canvas.there.size)
        around = _known(self.rows[:, max(0, row - ROWS) : row]), _known(
            self.rows[:, row : row + ROWS])
        step = np.median(around[1], axis=1) - np.median(around[0], axis=1)
        strand = canvas.strand(canvas.coefficients[first:stop])
        fit = canvas.fits(strand, 0, strand.size, np.array([first], np.int64), most_up=1)[0]
        signals = np.column_stack((fit.mean, fit.colour))
        told = np.nan_to_num(np.abs(signals) - np.abs(signals - step), nan=0.0).sum(axis=1)
        told[~canvas.there[first:stop]] = 0
        sums = np.concatenate(([0.0], np.cumsum(told)))
        room = sums.size - 1 - per_row
        if room < 1:
            return None
        start = int(np.argmax(sums[per_row : per_row + room + 1] - sums[: room + 1]))
        window = slice(start, start + per_row)
        if float((told[window] > 0).mean()) < SHOWN:
            if self._intact or min(known.shape[1] for known in around) < ROWS:
                return None
            return Break(row * per_row, 0, 0, (0,) * step.size, True, (LOOSE,) * step.size)
        joint = canvas.fits(strand, start, per_row, np.array([first], np.int64), most_up=1)[0]
        finer = joint.finer()
        levels = canvas.quantised(-np.where(np.abs(finer - step) < FINER, finer, step))
        place = first + start
        canvas.shift_levels(place, canvas.there.size, levels)
        self._off[:, place:] += canvas.in_grey(levels)[:, None]
        self._places.append(place)
        self.rows = _rows(self._off, canvas, self._places)
        return Break(place, 0, 0, tuple(int(v) for v in levels), False, joint.errors())


def shown(canvas: Canvas, breaks: list[Break], errors: list[tuple[float, ...]]) -> float:
    """The part of the picture (0.0 to 1.0) that is likely within SEEN grey levels of what it was;
    `errors`: of the levels behind each break, as `Levelled` has them."""
    inner = sorted(b.place for b in breaks if 0 < b.place < canvas.there.size)
    edges = [0, *inner, canvas.there.size]
    sure = [1.0, *(math.erf(SEEN / (UNDER * max(e, 0.01) * math.sqrt(2))) for e in map(
        max, errors))]
    parts = [float(canvas.there[a:b].sum()) * likely for (a, b), likely in zip(
        itertools.pairwise(edges), sure, strict=True)]
    return sum(parts) / canvas.there.size


def _known(rows: Floats) -> Floats:
    """Those that have a value."""
    known: Floats = rows[:, ~np.isnan(rows[0])]
    return known


def _rows(off: Floats, canvas: Canvas, places: list[int]) -> Floats:
    """float32[components, rows]: how each row of MCUs differs from the thumbnail in the middle; of
    a row in which a break lies what stands on the longer side of it; nan where too little is
    there."""
    per_row = canvas.layout.per_row
    found = np.full((off.shape[0], canvas.layout.rows), np.nan, np.float32)
    for row in range(canvas.layout.rows):
        start, stop = row * per_row, min((row + 1) * per_row, canvas.there.size)
        edges = [start, *(p for p in places if start < p < stop), stop]
        low, high = max(itertools.pairwise(edges), key=lambda e: e[1] - e[0])
        there = canvas.there[low:high]
        if there.sum() >= max(6, per_row // 4):
            found[:, row] = np.median(off[:, low:high][:, there], axis=1)
    return found


def _noise(rows: Floats, canvas: Canvas, places: list[int]) -> Doubles | None:
    """float64[components]: the error of a step that the thumbnail measures over ROWS at either
    side, from steps within the parts; None where it guides nobody."""
    per_row = canvas.layout.per_row
    known = rows[0][~np.isnan(rows[0])]
    if known.size * per_row < LEAST or float(np.median(np.abs(known - np.median(known)))) > SPREAD:
        return None
    broken = {p // per_row for p in places}
    for side in SIDES:
        steps = []
        for row in range(side, rows.shape[1] - side + 1):
            both = rows[:, row - side : row + side]
            if not broken & set(range(row - side, row + side)) and not np.isnan(both).any():
                steps.append(both[:, side:].mean(axis=1) - both[:, :side].mean(axis=1))
        if len(steps) >= LEAST_STEPS:
            # Edges of the picture lie anywhere, so also where it broke: not the middle counts.
            spread = np.quantile(np.abs(np.array(steps)), USUAL, axis=0) + FLOOR
            result: Doubles = spread.astype(np.float64)
            return result
    return np.full(rows.shape[0], UNLEARNT)


def _step(rows: Floats, canvas: Canvas, place: int, stop: int,
          noise: Doubles) -> tuple[Doubles | None, Doubles]:
    """(how much brighter the picture becomes behind MCU `place` than the thumbnail, the error of
    that); None where too few rows are there."""
    per_row = canvas.layout.per_row
    row, column = divmod(place, per_row)
    first = row if column < per_row // 2 else row + 1  # the row that the longer side decides
    last = -(-stop // per_row)
    behind = [rows[:, r] for r in range(first, min(first + ROWS, last, rows.shape[1]))
              if not np.isnan(rows[0, r])]
    before = [rows[:, r] for r in range(first - 1, -1, -1) if not np.isnan(rows[0, r])][:ROWS]
    if len(behind) < 2 or len(before) < 2:
        return None, noise
    step = np.mean(behind, axis=0) - np.mean(before, axis=0)
    fewer = np.sqrt(ROWS / min(len(behind), len(before)))
    return step.astype(np.float64), noise * fewer
