"""The coded data of one sequential scan put back into its picture. Without restart markers the
whole scan is one stretch; with them see `segments`.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from needlewright.core.kernels.jpeg_bits import unstuff
from needlewright.core.mending.jpeg import segments
from needlewright.core.mending.jpeg.anatomy import Layout
from needlewright.core.mending.jpeg.canvas import Canvas, Floats
from needlewright.core.mending.jpeg.chains import Link, constant_runs, links_of
from needlewright.core.mending.jpeg.guide import Guide, apart
from needlewright.core.mending.jpeg.levelling import level, shown
from needlewright.core.mending.jpeg.placed import Placed
from needlewright.core.mending.jpeg.placing import NO_PLACES, Placer

MAX_SEGMENTS = 1 << 20
SEGMENT_ERROR = (0.9, 0.7)  # grey levels, brightness and colours, of a part of one row
ODD_LEVEL, ODD_SPREAD, ODD_ROWS = 5.0, 3.0, 0.02  # grey levels; share of the rows


@dataclass(slots=True)
class Solved:
    """The picture, and what stands in the way of calling it mended. `exact`: all of it decodes in
    one go, as if nothing were wrong."""

    canvas: Canvas
    placed: Placed
    exact: bool = False
    guided: int = 0  # parts whose levels the thumbnail set
    unsure: float = 0.0  # part of the picture that is there, but likely brighter or darker
    doubts: list[str] = field(default_factory=list)


def solve(raw: npt.NDArray[np.uint8], layout: Layout, known: bool, closed: bool,
          breathe: Callable[[], None], guide: Guide | None = None,
          places: Mapping[int, int] = NO_PLACES) -> Solved:
    """Put the coded bytes `raw` uint8[n] into the picture. `known`: they begin with its first MCU;
    `closed`: the end mark stands behind them, so that they end with its last; `places`: what a
    person chose, by the number of the piece."""
    if layout.restart:
        placed, exact, doubts = segments.place(raw, layout, known, closed, breathe, places)
        return Solved(placed.canvas, placed, exact, doubts=doubts)
    clean = unstuff(raw, MAX_SEGMENTS)
    canvas = Canvas(layout)
    placed = Placed(canvas)
    gaps = constant_runs(clean.clean, clean.size)
    links = links_of(clean.clean, 0, clean.size, layout, layout.total, known, gaps)
    exact = known and len(links) == 1 and links[0].at_end and links[0].size == layout.total
    if exact and not _contradicted(canvas, links[0], guide):
        return Solved(canvas, placed, exact)
    if not closed and not exact:
        for link in links:
            link.at_end = False
    said = None if guide is None else guide.of(layout, guide.has_bars(layout))[0]
    Placer(placed, 0, layout.total, breathe, said, places).run(links)
    solved = Solved(canvas, placed, exact)
    if placed.guessed:
        solved.doubts.append("rows-guessed")
    if placed.by_hand:
        solved.doubts.append("by-hand")
    if placed.forced:
        solved.doubts.append("placed-by-end")
    return solved


def _contradicted(canvas: Canvas, link: Link, guide: Guide | None) -> bool:
    """Whether the thumbnail shows a picture otherwise that decodes to its very end. Else nothing
    of it is changed: edges of the picture itself look like breaks. Lays it into `canvas`."""
    strand = canvas.strand(link.chain.coefficients)
    canvas.put(strand, 0, link.size, 0, np.zeros(canvas.layout.quantisers.shape[0], np.int64))
    off = None if guide is None else apart(canvas, guide)
    if off is None or not _differs(off[0], canvas, 0):
        return False
    canvas.clear(0, canvas.there.size)
    return True


def by_guide(solved: Solved, guide: Guide | None) -> None:
    """Correct the levels of what was put in behind breaks by the embedded thumbnail, and doubt what
    neither it nor the rows make sure."""
    placed, canvas = solved.placed, solved.canvas
    if canvas.layout.restart:
        # Levels begin anew with each segment: one that is off is off in a part of a row alone.
        if any(b.loose or any(e > SEGMENT_ERROR[min(1, c)] for c, e in enumerate(b.errors))
               for b in placed.breaks):
            solved.doubts.append("levels-guessed")
        _differing(solved, guide)
        return
    if not placed.breaks and not (solved.exact and guide is not None):
        return
    done = level(canvas, placed.breaks, guide)
    if not placed.breaks:
        return
    solved.guided = done.guided
    solved.unsure = max(0.0, canvas.share - shown(canvas, placed.breaks, done.errors))
    if done.unsure:
        solved.doubts.append("levels-guessed")
    if not _differing(solved, guide) and len(placed.breaks) > 1:
        solved.doubts.append("unwitnessed")


def _differing(solved: Solved, guide: Guide | None) -> bool:
    """Doubt a picture that the thumbnail shows otherwise; whether there is one that tells."""
    off = None if guide is None else apart(solved.canvas, guide)
    if off is None:
        return False
    first = min((b.place for b in solved.placed.breaks), default=0)
    if solved.placed.breaks and _differs(off[0], solved.canvas, first):
        solved.doubts.append("differs")
    return True


def _differs(off: Floats, canvas: Canvas, sure: int) -> bool:
    """Whether rows behind the first break, at MCU `sure`, differ from the thumbnail as those
    before it, or most, do not: in brightness, or in how unevenly they do."""
    per_row = canvas.layout.per_row
    middles, spreads = [], []
    for row in range(canvas.layout.rows):
        part = slice(row * per_row, (row + 1) * per_row)
        values = off[part][canvas.there[part]]
        if values.size < per_row // 3:
            middles.append(np.nan)
            spreads.append(np.nan)
            continue
        middle = float(np.median(values))
        middles.append(middle)
        spreads.append(float(np.median(np.abs(values - middle))))
    known = slice(0, sure // per_row) if sure >= 6 * per_row else slice(None)
    if np.isnan(middles[known]).all():
        return False
    usual = float(np.nanmedian(middles[known]))
    spread = float(np.nanmedian(spreads[known]))
    with np.errstate(invalid="ignore"):
        odd = (np.abs(np.array(middles) - usual) > max(ODD_LEVEL, 2.5 * spread)) | (
            np.array(spreads) > ODD_SPREAD + 2.5 * spread)
    return int(odd[sure // per_row :].sum()) > max(2, ODD_ROWS * canvas.layout.rows)
