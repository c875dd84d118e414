"""What a person may decide better than a program: where the rest of a picture belongs behind a
break, and of what colour it is. A few likely answers of each are computed.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np

from needlewright.core.formats.jpeg_segments import Frame
from needlewright.core.mending.base import Change, Choice
from needlewright.core.mending.jpeg import evidence
from needlewright.core.mending.jpeg.anatomy import Layout
from needlewright.core.mending.jpeg.canvas import Canvas, Floats, Levels, Strand
from needlewright.core.mending.jpeg.guide import Guide, apart
from needlewright.core.mending.jpeg.placed import Break

SURE = 4.5  # nats by which a place must be ahead of all others
MOST = 3  # answers that are offered
OTHERWISE = 1.5  # grey levels by which two colours differ that are worth a choice
ROWS = 6  # of MCUs above a break that the rest may be like
Tones = Mapping[int, Sequence[float]]


def places_of(canvas: Canvas, strand: Strand, start: int, shift: int, was: int,
              end_shift: int | None, usual: float, guide: Floats | None) -> tuple[int, ...]:
    """Shifts of the MCUs of `strand` from `start` on, the one that was found first: within a row of
    it, the one before the break (`was`), and the one that the end of the data says."""
    per_row = canvas.layout.per_row
    count = min(per_row, strand.size - start)
    found = evidence.place(canvas, strand, start, count, shift - per_row, shift + per_row,
                           (start + shift, float(per_row)), SURE, usual, guide)
    likely = [] if found is None else found.likeliest()[0]
    ends = [] if end_shift is None else [end_shift]
    return tuple(dict.fromkeys((shift, *ends, *likely, was)))[:MOST]


def number_of(broken: Break) -> int:
    """What a break is called in what a person decides: its place in the data, or, where only the
    level of the picture showed it, in the picture."""
    return broken.bit if broken.bit else -broken.place


def tinted(canvas: Canvas, breaks: Sequence[Break], tones: Tones) -> int:
    """Add what a person chose to what stands behind breaks: `tones` in grey levels of each
    component, by the numbers of breaks. How many were."""
    done = 0
    for broken in breaks:
        wanted = tones.get(number_of(broken))
        if wanted is not None and len(wanted) == canvas.layout.quantisers.shape[0]:
            canvas.shift_levels(broken.place, canvas.there.size,
                                canvas.quantised(np.array(wanted, np.float32)))
            done += 1
    return done


def told_places(done: int, places: Mapping[int, int]) -> tuple[Change, ...]:
    """That `done` pieces stand where a person put them."""
    return (Change("placed-by-hand", {"parts": done, "places": [
        [n, shift] for n, shift in places.items()]}),) if done else ()


def in_rows(choices: Sequence[Choice], layout: Layout, frame: Frame) -> tuple[Choice, ...]:
    """`choices` of rows of MCUs, with rows of pixels."""
    unit = unit_of(layout, frame)
    return tuple(replace(choice, unit=unit, rows=tuple(
        min(frame.height, row * unit[1]) for row in choice.rows)) for choice in choices)


def told_tones(done: int, tones: Tones) -> tuple[Change, ...]:
    """What `tinted` did."""
    return (Change("colour-by-hand", {"parts": done, "tones": [
        [n, *tone] for n, tone in tones.items()]}),) if done else ()


def unit_of(layout: Layout, frame: Frame) -> tuple[int, int, int]:
    """As in `Choice`."""
    return 8 * frame.max_horizontal, 8 * frame.max_vertical, layout.per_row


def colours_of(canvas: Canvas, breaks: Sequence[Break], guide: Guide | None, tones: Tones,
               unit: tuple[int, int, int]) -> list[Choice]:
    """Of what colour the rest may be behind each break, those that differ to the eye."""
    off = None if guide is None else apart(canvas, guide)
    inner = sorted((b for b in breaks if 0 < b.place < canvas.there.size), key=lambda b: b.place)
    found = []
    for index, broken in enumerate(inner):
        stop = inner[index + 1].place if index + 1 < len(inner) else canvas.there.size
        ways = _ways(canvas, broken, inner[index - 1].place if index else 0, stop, off)
        base = np.array(tones.get(number_of(broken), ()) or np.zeros(ways[0][1].size))
        kept: list[tuple[str, Floats]] = []
        for name, tone in ways:
            if all(np.abs(tone - other).max() > OTHERWISE for _, other in kept):
                kept.append((name, tone))
        if len(kept) > 1:
            row = broken.place // unit[2] * unit[1]
            found.append(Choice(
                number_of(broken), (), max(broken.errors, default=0.0), True, (row,), unit,
                tuple(tuple(round(float(v), 2) for v in base + tone) for _, tone in kept[:MOST]),
                tuple(name for name, _ in kept[:MOST])))
    return found


def _ways(canvas: Canvas, broken: Break, before: int, stop: int,
          off: Floats | None) -> list[tuple[str, Floats]]:
    """(what it goes by, grey levels of each component to be added), what stands first."""
    layout = canvas.layout
    none = np.zeros(layout.quantisers.shape[0], np.float32)
    ways: list[tuple[str, Floats]] = [("as-it-stands", none)]
    there = canvas.there
    count = min(layout.per_row, stop - broken.place)
    strand = canvas.strand(canvas.coefficients[broken.place : broken.place + count])
    fit = canvas.fits(strand, 0, count, np.array([broken.place], np.int64))[0]
    if not np.isnan(fit.mean).all():
        ways.append(("by-rows", -fit.levels()))
    part, above = there[broken.place : stop], there[before : broken.place]
    if off is not None and part.any() and above.any():
        behind = off[:, broken.place : stop][:, part]
        ahead = off[:, before : broken.place][:, above]
        step = np.median(behind, axis=1) - np.median(ahead, axis=1)
        ways.append(("by-thumbnail", (-step).astype(np.float32)))
    levels: Levels = np.array(broken.levels, np.int64)
    if levels.any():
        ways.append(("as-coded", -canvas.in_grey(levels)))
    near = ROWS * layout.per_row
    low = max(before, broken.place - near)
    high = min(stop, broken.place + near)
    means = _means(canvas, low, broken.place), _means(canvas, broken.place, high)
    if means[0] is not None and means[1] is not None:
        ways.append(("like-above", means[0] - means[1]))
    return ways


def _means(canvas: Canvas, start: int, stop: int) -> Floats | None:
    """The mean of each component of the MCUs that are there, grey levels."""
    part = canvas.coefficients[start:stop][canvas.there[start:stop]]
    if not len(part):
        return None
    component = canvas.layout.coding.component
    steps = canvas.layout.quantisers[:, 0] / 8
    return np.array([part[:, component == c, 0].mean() * steps[c]
                     for c in range(steps.size)], np.float32)
