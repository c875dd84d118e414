"""The coded data of one sequential scan put back into its picture.

With restart markers each segment says which it is (T.81, B.2.1: modulo eight) and begins anew, so
that damage stays within it; without them the whole scan is one segment.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from needlewright.core.kernels.jpeg_bits import CleanScan, is_padding, unstuff
from needlewright.core.kernels.jpeg_coefficients import decode_chain
from needlewright.core.mending.jpeg.anatomy import Layout
from needlewright.core.mending.jpeg.canvas import Canvas, Floats
from needlewright.core.mending.jpeg.chains import Link, constant_runs, links_of
from needlewright.core.mending.jpeg.guide import Guide, apart
from needlewright.core.mending.jpeg.levelling import level
from needlewright.core.mending.jpeg.placing import NO_PLACES, Placed, Placer

MAX_SEGMENTS = 1 << 20
WHOLE_TURN = 8  # restart numbers
ODD_LEVEL, ODD_SPREAD, ODD_ROWS = 5.0, 3.0, 0.02  # grey levels; share of the rows


@dataclass(slots=True)
class Solved:
    """The picture, and what stands in the way of calling it mended. `exact`: all of it decodes in
    one go, as if nothing were wrong."""

    canvas: Canvas
    placed: Placed
    exact: bool = False
    guided: int = 0  # parts whose levels the thumbnail set
    doubts: list[str] = field(default_factory=list)


def solve(raw: npt.NDArray[np.uint8], layout: Layout, known: bool, closed: bool,
          breathe: Callable[[], None], guide: Guide | None = None,
          places: Mapping[int, int] = NO_PLACES) -> Solved:
    """Put the coded bytes `raw` uint8[n] into the picture. `known`: they begin with its first MCU;
    `closed`: the end mark stands behind them, so that they end with its last; `places`: what a
    person chose, by the number of the piece."""
    if layout.restart:
        return _by_segments(raw, layout, known, closed, breathe)
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
    if not placed.breaks and not (solved.exact and guide is not None):
        return
    done = level(canvas, placed.breaks, guide)
    if not placed.breaks:
        return
    solved.guided = done.guided
    if done.unsure:
        solved.doubts.append("levels-guessed")
    off = None if guide is None else apart(canvas, guide)
    if off is None:
        if len(placed.breaks) > 1:
            solved.doubts.append("unwitnessed")
        return
    first = min(b.place for b in placed.breaks)
    if _differs(off[0], canvas, first):
        solved.doubts.append("differs")


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


def _by_segments(raw: npt.NDArray[np.uint8], layout: Layout, known: bool, closed: bool,
                 breathe: Callable[[], None]) -> Solved:
    clean = unstuff(raw, MAX_SEGMENTS)
    canvas = Canvas(layout)
    placed = Placed(canvas)
    count = -(-layout.total // layout.restart)
    spans = _spans(clean)
    sound = [_sound(clean, span, layout, index == len(spans) - 1)
             for index, span in enumerate(spans)]
    where = _numbered([int(n) for n in clean.seg_number], [n is not None for n in sound], count,
                      known, closed)
    exact = known and len(spans) == count and all(
        s is not None and s == min(layout.restart, layout.total - i * layout.restart)
        for i, s in enumerate(sound))
    for number, ((start, stop), index) in enumerate(zip(spans, where)):
        if index is None:
            continue
        breathe()
        first = index * layout.restart
        behind = next((w for w in where[number + 1 :] if w is not None), None)
        # Where markers were lost, what stands in front of the next one belongs to its segment.
        end = behind if behind is not None and not sound[number] else index + 1
        last = min(max(end, index + 1) * layout.restart, layout.total)
        gaps = constant_runs(clean.clean[start : stop + 8], stop - start)
        gaps = [(a + start, b + start) for a, b in gaps]
        links = links_of(clean.clean, start, stop, layout, last - first, True, gaps)
        if last - first > layout.restart:
            links = links[:1]  # the tail may be any of several segments
            for link in links:
                link.at_end = False
        if links and canvas.there[first : last].any():
            canvas.clear(first, last)
        Placer(placed, first, last, breathe).run(links)
    solved = Solved(canvas, placed, exact)
    if len(placed.breaks) > 1:
        solved.doubts.append("tails-placed")
    return solved


def _spans(clean: CleanScan) -> list[tuple[int, int]]:
    stops = [*(int(s) for s in clean.seg_clean[1:]), clean.size]
    return [(int(a), b) for a, b in zip(clean.seg_clean, stops)]


def _sound(clean: CleanScan, span: tuple[int, int], layout: Layout, last: bool) -> int | None:
    """MCUs of a segment that decodes to its end, if as many as a segment has; else None."""
    chain = decode_chain(clean.clean, span[0] * 8, span[1] * 8, layout.coding, layout.restart,
                         absolute=True)
    end = int(chain.mcu_bit[-1])
    if not is_padding(clean.clean, end, span[1] * 8):
        return None
    rest = layout.total % layout.restart or layout.restart
    full = chain.size == layout.restart or (last and chain.size == rest)
    return chain.size if full else None


def _numbered(numbers: list[int], sound: list[bool], count: int, known: bool,
              closed: bool) -> list[int | None]:
    """The number of each segment among all `count`; None for what is none.

    `numbers`: of the marker in front of each, -1 for none; `sound`: whether it decodes as one.
    """
    where: list[int | None] = [None] * len(numbers)
    at = -1  # the last that has a place
    for index, number in enumerate(numbers):
        if index == 0:
            if known:
                where[index], at = 0, 0
            continue
        if not 0 <= number < WHOLE_TURN:
            continue  # another marker, in what is not the picture's
        steps = (number - at) % WHOLE_TURN + 1  # at least one ahead of `at`
        ahead = at + steps if at >= 0 else number + 1
        near = steps == 1
        # A marker that is out of turn in front of what does not decode stands there by chance.
        if ahead >= count or not (near or sound[index]):
            continue
        where[index], at = ahead, ahead
    if not closed:
        return where
    # From the end backwards: there the count is as sure as at the beginning.
    at = count
    for index in range(len(numbers) - 1, 0, -1):
        number = numbers[index]
        if not sound[index] or (number + 1 - (at - 1)) % WHOLE_TURN:
            break
        at -= 1
        if where[index] == at:
            break
        where[index] = at
    taken: set[int] = set()
    for index in range(len(where) - 1, -1, -1):
        place = where[index]
        if place is not None and (place in taken or place > min(taken, default=count)):
            where[index] = None
        elif place is not None:
            taken.add(place)
    return where
