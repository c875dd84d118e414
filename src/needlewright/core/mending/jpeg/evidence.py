"""What speaks for a place in the picture, in nats: rows that join, rows that begin where they
must, and the amount of data between."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from needlewright.core.mending.jpeg.canvas import Canvas, Fit, Floats, Levels, Strand
from needlewright.core.mending.jpeg.scoring import FLOOR, INDEPENDENT, score

SHIFTS = 40  # MCUs by which a chain may be off after it fell back into step
PARTS, AGREE = 8, 6  # of a row; how many of them must agree
BETTER = 0.7  # of the cost that is left where another position or level explains it
WORSE = 1.3  # times the usual cost, from where on another explanation is looked for
BESIDE = 2  # columns at either side in which a level alone may be an edge of the picture
ROWS_AHEAD = 12  # whose beginnings say where they are
MOST = 1.5  # nats that one MCU may tell
TURN = 6.0  # nats for a break within a chain
ALARM, SOON = 9.0, 2.0  # nats by which rows begin elsewhere, all that follow and the next ones
END = 8.0  # nats for the place that the end of the data says
GUIDE_STEP, GUIDE_CELL, GUIDE_NOISE = 3, 40.0, 2.0  # MCUs; MCUs that tell as one; grey levels
ROWS_FAR = 24  # that may be missing within a chain
ROWS_AROUND = 4  # that the thumbnail tells apart
SHOWS, JOINS = 4.0, 2.0  # nats for another row; the most of them by how rows join there
BESIDE_EACH = 3  # MCUs by which places differ that are worth a choice
ADDED, LOST = 4.0, 9.0  # nats against a place for which bytes must have been added, or lost
WRAP_MOST = 3.0
FINER = 6.0  # grey levels by which a finer look may differ from the first one
LITTLE, STEADY = 2.5, 12.0  # grey levels of a step; times what chance would make of it


def typical(cost: Floats) -> float:
    """A mean that a few MCUs do not sway."""
    good = cost[~np.isnan(cost)]
    if not good.size:
        return float("inf")
    return float(np.minimum(good, 3 * np.median(good) + FLOOR).mean())


def gain(old: Floats, new: Floats) -> float:
    """Nats by which costs `new` are better than `old`, MCU by MCU; nan says nothing."""
    ratio = np.log((old + FLOOR) / (new + FLOOR))
    return float(np.nansum(np.clip(ratio, -MOST, MOST))) / INDEPENDENT


def beginnings(strand: Strand, at: int, per_row: int, rows: int = ROWS_AHEAD) -> Floats:
    """float32[per_row]: for each MCU from `at` on, how much speaks for rows that begin there: in
    the rows that follow, what is left of it is something else."""
    part = strand.steps[at : at + rows * per_row]
    count = part.size // per_row
    if count == 0:
        return np.zeros(per_row, np.float32)
    scale = max(FLOOR, 1.5 * float(np.median(part)))
    table = part[: count * per_row].reshape(count, per_row)
    told = np.clip(table / scale - 1, -0.5, WRAP_MOST)
    result: Floats = told.sum(axis=0).astype(np.float32)
    return result - np.float32(np.median(result))


def begins(profile: Floats, at: int, shift: int) -> float:
    """What `profile`, taken at MCU `at`, says for rows as `shift` has them."""
    return float(profile[-(at + shift) % profile.size])


def begins_at(profile: Floats, at: int, shifts: npt.NDArray[np.int64]) -> Floats:
    """The same for many shifts."""
    told: Floats = profile[-(at + shifts) % profile.size]
    return told


@dataclass(slots=True)
class Found:
    """The best place. `nats`: of all shifts from `low` on; `sure`: which row it is is, too."""

    shift: int
    low: int
    nats: npt.NDArray[np.float64]
    sure: bool
    clear: bool  # no other place but one in other rows comes near

    def likeliest(self, most: int = 3) -> tuple[list[int], float]:
        """(places that are not beside each other, the likeliest first; nats between the first and
        the second)."""
        order = np.argsort(-self.nats)[: most * BESIDE_EACH * 4]
        picked: list[int] = []
        for index in order.tolist():
            if np.isfinite(self.nats[index]) and all(abs(index - p) > BESIDE_EACH for p in picked):
                picked.append(index)
        picked = picked[:most]
        lead = float(self.nats[picked[0]] - self.nats[picked[1]]) if len(picked) > 1 else 99.0
        return [p + self.low for p in picked], lead

    def ahead_of(self, shift: int) -> float:
        index = shift - self.low
        other = self.nats[index] if 0 <= index < self.nats.size else -np.inf
        return float(self.nats[self.shift - self.low] - other) if np.isfinite(other) else 99.0


def by_amount(place: npt.NDArray[np.int64],
              expected: tuple[float, float]) -> npt.NDArray[np.float64]:
    """What the amount of data says for a place: less of the picture may be missing than there are
    bytes, where they were added; more only where bytes were lost."""
    off = (place - expected[0]) / expected[1]
    told: npt.NDArray[np.float64] = -np.minimum(np.where(off < 0, ADDED, LOST), off * off / 2)
    return told


def place(canvas: Canvas, strand: Strand, begin: int, count: int, low: int, high: int,
          expected: tuple[float, float], sure: float,
          usual: float, guide: Floats | None = None) -> Found | None:
    """The shift between `low` and `high` at which the MCUs from `begin` on join the picture; None
    where none can be told. `expected`: (place, how uncertain) of MCU `begin`."""
    shifts = np.arange(low, high + 1, dtype=np.int64)
    nats = np.full(shifts.size, -np.inf)
    told, weight = np.zeros(shifts.size), np.zeros(shifts.size)
    profile = beginnings(strand, begin, canvas.layout.per_row)
    for at in range(0, shifts.size, 512):
        part = slice(at, at + 512)
        scores = score(canvas, strand, begin, count, shifts[part], usual)
        told[part], weight[part] = scores.told, scores.weight
        found = begins_at(profile, begin, shifts[part]) + by_amount(begin + shifts[part], expected)
        enough = scores.there >= min(count, 24) * 0.5
        # In the first row nothing can stand above: where rows begin, and the amount, must say it.
        topmost = ~enough & (begin + shifts[part] + count // 2 < canvas.layout.per_row)
        nats[part] = np.where(enough, found + scores.apart, np.where(topmost, found, -np.inf))
        weight[part][topmost] = 0
    tried, joined = np.isfinite(nats), np.isfinite(nats) & (weight > 0)
    if joined.any():
        nats[joined] += (np.median(told[joined]) - told[joined]) * weight[joined]
    if guide is not None and tried.any():
        nats[tried] += _as_guided(canvas, strand, begin, shifts[tried], guide)
    best = int(np.argmax(nats)) if nats.size else 0
    if not nats.size or not np.isfinite(nats[best]):
        return None
    apart = np.abs(np.arange(nats.size) - best)
    rows = apart % canvas.layout.per_row == 0  # of one mind with the best, but for the row
    others = nats[(apart > 1) & ~rows]
    clear = not others.size or bool(nats[best] - others.max() >= sure)
    same = nats[(apart > 1) & rows]
    margin = float(nats[best] - same.max()) if same.size else 99.0
    return Found(int(shifts[best]), low, nats, margin >= sure, clear)


def _as_guided(canvas: Canvas, strand: Strand, begin: int, shifts: npt.NDArray[np.int64],
               guide: Floats) -> npt.NDArray[np.float64]:
    """What the thumbnail says for each shift, in nats: how evenly the rows that follow differ from
    it."""
    per_row = canvas.layout.per_row
    count = min(strand.size - begin, ROWS_AHEAD * per_row)
    blocks = canvas.layout.coding.component == 0
    means = strand.coefficients[begin : begin + count : GUIDE_STEP][:, blocks, 0].mean(
        axis=1) * np.float32(canvas.layout.quantisers[0, 0] / 8)
    places = begin + np.arange(0, count, GUIDE_STEP)[None, :] + shifts[:, None]
    inside = np.clip(places, 0, guide.size - 1)
    off = means[None, :] - guide[inside]
    off = np.abs(off - np.median(off, axis=1, keepdims=True)).mean(axis=1)
    told: npt.NDArray[np.float64] = -np.log(off + GUIDE_NOISE) * count / GUIDE_CELL
    return told


@dataclass(slots=True)
class Watch:
    """Looks whether a strand that is followed still lies where it should. `most`: the greatest
    shift it may have; `tries`: how often places far ahead may still be looked at."""

    canvas: Canvas
    strand: Strand
    end_shift: int | None
    most: int = 1 << 40
    tries: int = 6
    guide: Floats | None = None  # how bright the thumbnail says that each MCU is

    def otherwise(self, at: int, count: int, shift: int, levels: Levels, cost: Floats,
                  usual: float) -> tuple[int, int, Levels] | None:
        """(MCU, shift, levels) from which on the rest of the row from `at` is explained better
        than by `shift` and `levels`, which cost float32[count]; None where nothing does clearly."""
        canvas, strand, per_row = self.canvas, self.strand, self.canvas.layout.per_row
        tail = min(max(8, per_row // 4), count // 3)
        if count - tail < min(24, per_row // 2) or np.isnan(cost).mean() > 0.5:
            return None
        late = cost[tail:]
        profile = beginnings(strand, at + tail, per_row)
        was = begins(profile, at + tail, shift)
        alarm = _begin_elsewhere(strand, at + tail, profile, was, shift, per_row)
        if typical(late) < WORSE * usual + FLOOR and not alarm:
            return level_step(canvas, strand, at, count, shift, levels)
        best = self._near(at, tail, count, shift, late, profile)
        if best is None and alarm:
            best = self._farther(at, tail, count, shift, late, profile, usual)
        if best is None:
            return None
        other, grey, new = self._row_by_guide(at, tail, count, shift, best)
        if begins(profile, at + tail, other) - was > ALARM:
            start = at + switch(cost, new, usual)
        else:
            start = at + min(tail, switch(cost[: tail + 1], new[: tail + 1], usual))
        found = self._levels_from(start, other, grey)
        if other == shift and not _is_level(canvas, strand, start, at, cost, shift, levels, found):
            return None
        return start, other, found

    def _row_by_guide(self, at: int, tail: int, count: int, shift: int,
                      best: tuple[int, Floats, Floats]) -> tuple[int, Floats, Floats]:
        """`best`, or the same place some rows above or below, where the thumbnail says so clearly:
        smooth rows join one as well as the other."""
        other, begin, per_row = best[0], at + tail, self.canvas.layout.per_row
        if self.guide is None or other in (shift, self.end_shift):
            return best
        others = other + per_row * np.arange(-ROWS_AROUND, ROWS_AROUND + 1, dtype=np.int64)
        others = others[(others <= self.most) & (begin + others >= 0)]
        if others.size < 2 or other not in others:
            return best
        told = _as_guided(self.canvas, self.strand, begin, others, self.guide)
        row = int(others[int(np.argmax(told))])
        if row == other:
            return best
        fit = self.canvas.fits(self.strand, at, count, np.array([row], np.int64))[0]
        if (~np.isnan(fit.mean)).sum() < min(12, count):
            return best
        grey = fit.levels()
        new = fit.cost(grey)
        joins = gain(best[2][tail:], new[tail:])
        if told.max() - told[others == other][0] + min(JOINS, joins) < SHOWS:
            return best
        return row, grey, new

    def _levels_from(self, start: int, shift: int, grey: Floats) -> Levels:
        """The levels of what begins at MCU `start`, by all of the row that follows."""
        count = min(self.canvas.layout.per_row, self.strand.size - start)
        fit = self.canvas.fits(self.strand, start, count, np.array([shift], np.int64), most_up=1)[0]
        if (~np.isnan(fit.mean)).sum() < min(24, count):
            return self.canvas.quantised(-grey)
        finer = fit.finer()
        return self.canvas.quantised(-np.where(np.abs(finer - grey) < FINER, finer, grey))

    def _near(self, at: int, tail: int, count: int, shift: int, late: Floats,
              profile: Floats) -> tuple[int, Floats, Floats] | None:
        """(shift, levels in grey, costs) of a place a few MCUs away."""
        near = np.arange(shift - SHIFTS, max(shift, min(shift + SHIFTS, self.most)) + 1,
                         dtype=np.int64)
        if self.end_shift is not None and abs(self.end_shift - shift) > SHIFTS:
            near = np.append(near, self.end_shift)
        was, top = begins(profile, at + tail, shift), float(profile.max())
        best: tuple[float, int, Floats, Floats] | None = None
        for index, fit in enumerate(self.canvas.fits(self.strand, at, count, near, most_up=1)):
            part = Fit(fit.mean[tail:], fit.shape[tail:], fit.colour[tail:], fit.up[tail:],
                       fit.rise[tail:])
            if (~np.isnan(part.mean)).sum() < 12:
                continue
            grey = part.levels()
            whole = fit.cost(grey)
            other = int(near[index])
            begun = begins(profile, at + tail, other)
            told = gain(late, whole[tail:]) + begun - was
            told -= min(END, max(0.0, top - begun - SOON) / 2)
            told += END if other == self.end_shift else -0.05 * min(40, abs(other - shift))
            if best is None or told > best[0]:
                best = told, other, grey, whole
        if best is None or best[0] < TURN or not _better(
                late, best[3][tail:], begins(profile, at + tail, best[1]) - was > ALARM):
            return None
        return best[1:]

    def _farther(self, at: int, tail: int, count: int, shift: int, late: Floats,
                 profile: Floats, usual: float) -> tuple[int, Floats, Floats] | None:
        """A place so far ahead that what stands above it is missing, too: where rows begin must
        say so."""
        canvas, strand, per_row = self.canvas, self.strand, self.canvas.layout.per_row
        begin, top = at + tail, float(profile.max())
        if self.tries <= 0:
            return None
        if self.end_shift is not None and top - begins(profile, begin, self.end_shift) < SOON:
            other = self.end_shift  # the end says the same
        else:
            self.tries -= 1
            far = min(shift + ROWS_FAR * per_row, self.most)
            if far <= shift + 1:
                return None
            found = place(canvas, strand, begin, count - tail, shift + 1, far,
                          (begin + shift, 40.0), TURN, usual)
            if found is None or not found.clear or top - begins(profile, begin, found.shift) > SOON:
                return None
            other = found.shift
        fit = canvas.fits(strand, at, count, np.array([other], np.int64))[0]
        grey = fit.levels()
        new = fit.cost(grey)
        if other != self.end_shift and not _better(late, new[tail:], begun=True):
            return None
        return other, grey, new


def _begin_elsewhere(strand: Strand, at: int, profile: Floats, was: float, shift: int,
                     per_row: int) -> bool:
    """Whether the rows that follow begin elsewhere than `shift` says, the next ones among them."""
    if float(profile.max()) - was < ALARM:
        return False
    soon = beginnings(strand, at, per_row, 3)
    return float(soon[int(np.argmax(profile))]) - begins(soon, at, shift) > SOON


def _better(late: Floats, new: Floats, begun: bool = False) -> bool:
    """Whether costs `new` are clearly lower than `late`, and in most parts of the row; not higher
    is enough where rows begin there (`begun`)."""
    valid = ~np.isnan(new)
    if begun:
        return typical(new) <= 1.05 * typical(late[valid]) + 0.2
    return typical(new) <= BETTER * typical(late[valid]) and _agree(late[valid], new[valid])


def _is_level(canvas: Canvas, strand: Strand, start: int, at: int, cost: Floats, shift: int,
              levels: Levels, found: Levels) -> bool:
    """Whether a change of level at MCU `start` is one of the data, not of the picture: it is
    abrupt, not at the side, and the columns left of it change one row later."""
    per_row = canvas.layout.per_row
    column = (start + shift) % per_row
    if min(column, per_row - column) <= BESIDE or not _abrupt(cost, start - at):
        return False
    left = min(column, per_row, strand.size - start - 1)
    first = start + per_row - left
    if left < 8 or first + left > strand.size:
        return True
    # The strand's own rows tell nothing, since levels drop out between them; but those columns
    # stand below what was laid before the break.
    fit = canvas.fits(strand, first, left, np.array([shift], np.int64), most_up=1)[0]
    if np.isnan(fit.mean).mean() > 0.5:
        return True
    return typical(fit.cost(-canvas.in_grey(found))) < BETTER * typical(
        fit.cost(-canvas.in_grey(levels)))


def level_step(canvas: Canvas, strand: Strand, at: int, count: int, shift: int,
               levels: Levels) -> tuple[int, int, Levels] | None:
    """A small change of level in the first quarter of the row from `at`: all the rest of the row
    is brighter or darker by one amount, in every part of it, and nothing before it is."""
    per_row = canvas.layout.per_row
    if count < per_row or at < per_row:
        return None
    before = per_row // 4
    fit = canvas.fits(strand, at - before, before + count, np.array([shift], np.int64),
                      most_up=1)[0]
    grey = canvas.in_grey(levels)
    signals = [fit.mean + grey[0], *(fit.colour[:, c] + grey[1 + c]
                                     for c in range(fit.colour.shape[1]))]
    late_ones = [float(abs(np.median(signal[2 * before :]))) for signal in signals]
    if np.isnan(fit.mean).any() or max(late_ones) < LITTLE:
        return None
    steps = canvas.layout.quantisers[:, 0] / 8
    for index, signal in enumerate(signals):
        late = signal[2 * before :]
        middle = float(np.median(late))
        spread = float(np.median(np.abs(late - middle))) * 1.5 + 0.1
        if abs(middle) < max(LITTLE, 0.6 * float(steps[index])) or (
                abs(middle) < STEADY * spread / np.sqrt(late.size)):
            continue
        halved = np.abs(signal - middle) - np.abs(signal)  # below 0 where the step is there
        part = np.clip(halved[: 2 * before], -4 * spread, 4 * spread)
        sums = np.concatenate(([0.0], np.cumsum(-part[::-1])))[::-1]  # gain of stepping there
        start = int(np.argmax(sums))
        column = (at - before + start + shift) % per_row
        first = signal[max(0, start - before) : start]
        if start < 6 or min(column, per_row - column) <= BESIDE or (
                abs(float(np.median(first))) > 0.35 * abs(middle)):
            continue
        rest = np.array_split(signal[start : start + per_row], PARTS)
        if sum(1 for p in rest if abs(np.median(p) - middle) < 0.5 * abs(middle)) < PARTS - 1:
            continue
        window = slice(start, start + per_row)
        off = [float(np.median(s[window])) for s in signals]
        found = levels + canvas.quantised(-np.array(off, np.float32))
        return at - before + start, shift, found
    return None


def turning(canvas: Canvas, strand: Strand, begin: int, shift: int, levels: Levels,
            other: int) -> tuple[int, Levels] | None:
    """(MCU, levels) from which on `other` is the better shift, to the strand's end."""
    per_row = canvas.layout.per_row
    scale = max(FLOOR, 1.5 * float(np.median(strand.steps)))
    told = np.clip(strand.steps / scale - 1, -0.5, WRAP_MOST)
    wraps = np.zeros(strand.size + 1, np.float64)
    numbers = np.arange(strand.size)
    wraps[:-1][(numbers + other) % per_row == 0] = told[(numbers + other) % per_row == 0]
    wraps[:-1][(numbers + shift) % per_row == 0] -= told[(numbers + shift) % per_row == 0]
    behind = np.cumsum(wraps[::-1])[::-1]
    best: tuple[float, int, Levels] | None = None
    for at in range(begin, strand.size, max(2, per_row // 8)):
        count = min(per_row, strand.size - at)
        if count < 8:
            break
        old, new = canvas.fits(strand, at, count, np.array([shift, other], np.int64))
        if (~np.isnan(new.mean)).sum() < 8:
            continue
        grey = new.levels()
        value = float(behind[at]) * 2 + gain(old.cost(-canvas.in_grey(levels)), new.cost(grey))
        if best is None or value > best[0]:
            best = value, at, canvas.quantised(-grey)
    return None if best is None or best[0] <= 0 else best[1:]


def switch(old: Floats, new: Floats, usual: float) -> int:
    """The MCU from which on `new` is the better explanation, 0 to n."""
    cap = 6 * usual
    a = np.minimum(np.nan_to_num(old, nan=usual), cap)
    b = np.minimum(np.nan_to_num(new, nan=usual), cap)
    sums = np.concatenate(([0.0], np.cumsum(a))) + np.concatenate((np.cumsum(b[::-1])[::-1], [0.0]))
    return int(np.argmin(sums))


def _agree(old: Floats, new: Floats) -> bool:
    """Whether most parts of a row are better with the new explanation."""
    both = zip(np.array_split(old, PARTS), np.array_split(new, PARTS))
    pairs = [(o, n) for o, n in both if o.size]
    better = sum(1 for o, n in pairs if n.sum() < 0.9 * o.sum())
    return better >= min(AGREE, len(pairs))


def _abrupt(cost: Floats, place: int) -> bool:
    """Whether MCUs in front of `place` join and those behind it do not."""
    before, after = cost[max(0, place - 12) : place], cost[place : place + 12]
    if not before.size or np.isnan(before).all():
        return True
    return float(np.nanmedian(after)) > WORSE * float(np.nanmedian(before)) + FLOOR
