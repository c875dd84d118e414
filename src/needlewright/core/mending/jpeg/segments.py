"""Coded data with restart markers: each segment says which it is (T.81, B.2.1: modulo eight) and
begins anew, so that damage stays within it.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping

import numpy as np
import numpy.typing as npt

from needlewright.core.kernels.jpeg_bits import CleanScan, is_padding, unstuff
from needlewright.core.kernels.jpeg_coefficients import Chain, decode_chain
from needlewright.core.mending.base import Choice
from needlewright.core.mending.jpeg.anatomy import Layout
from needlewright.core.mending.jpeg.canvas import Canvas
from needlewright.core.mending.jpeg.chains import constant_runs, links_of
from needlewright.core.mending.jpeg.numbering import WHOLE_TURN, numbered
from needlewright.core.mending.jpeg.placed import Placed
from needlewright.core.mending.jpeg.placing import NO_PLACES, Placer

MAX_SEGMENTS = 1 << 20
MOST_BROKEN = 1  # segment, beyond which one may be off unnoticed


def whole(raw: npt.NDArray[np.uint8], layout: Layout, most: int) -> Chain | None:
    """All MCUs of data whose segments are all sound, as one chain; None where one is not, or where
    there are more than `most`. The size that is stated plays no part in it."""
    clean = unstuff(raw, MAX_SEGMENTS)
    spans = _spans(clean)
    if len(spans) * layout.restart > most:
        return None
    parts = []
    for number, (start, stop) in enumerate(spans):
        chain = decode_chain(clean.clean, start * 8, stop * 8, layout.coding, layout.restart,
                             absolute=True)
        last = number == len(spans) - 1
        if not is_padding(clean.clean, int(chain.mcu_bit[-1]), stop * 8) or (
                chain.size != layout.restart and not last):
            return None
        parts.append(chain.coefficients)
    coefficients = np.concatenate(parts)
    return Chain(coefficients, np.zeros(len(coefficients) + 1, np.int64), "complete")


def place(raw: npt.NDArray[np.uint8], layout: Layout, known: bool, closed: bool,
          breathe: Callable[[], None], places: Mapping[int, int] = NO_PLACES) -> tuple[
              Placed, bool, list[str]]:
    """(the picture, whether all of it decodes as if nothing were wrong, doubts); as `solve`."""
    clean = unstuff(raw, MAX_SEGMENTS)
    canvas = Canvas(layout)
    placed = Placed(canvas)
    count = -(-layout.total // layout.restart)
    spans = _spans(clean)
    sound = [_sound(clean, span, layout, index == len(spans) - 1)
             for index, span in enumerate(spans)]
    where = numbered([int(n) for n in clean.seg_number], [n is not None for n in sound], count,
                      known, closed)
    choices, placed.by_hand = _chosen(where, _runs(where), spans, layout, places)
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
    placed.choices = choices  # what stands within a segment is told by its markers
    # A changed byte may leave the decoder in step, and the rest of that segment of another tone.
    broken = sum(1 for place_, good in zip(where, sound) if place_ is not None and not good)
    doubts = ["tails-placed"] if len(placed.breaks) > 1 or broken > MOST_BROKEN else []
    return placed, exact, [*doubts, *(["by-hand"] if placed.by_hand else [])]


def _runs(where: list[int | None]) -> list[tuple[int, int]]:
    """(first, behind the last) of the segments that have a place, where one follows another both in
    the data and in the picture."""
    runs: list[tuple[int, int]] = []
    for index, place_ in enumerate(where):
        if place_ is None:
            continue
        if runs and runs[-1][1] == index and where[index - 1] == place_ - 1:
            runs[-1] = runs[-1][0], index + 1
        else:
            runs.append((index, index + 1))
    return runs


def _chosen(where: list[int | None], runs: list[tuple[int, int]], spans: list[tuple[int, int]],
            layout: Layout, places: Mapping[int, int]) -> tuple[list[Choice], int]:
    """(where else each run but the first may belong: markers tell a place but for whole turns; how
    many a person put elsewhere, which `where` then says)."""
    count = -(-layout.total // layout.restart)
    choices: list[Choice] = []
    by_hand = 0
    for number, (first, stop) in enumerate(runs[1:], 1):
        low = _place(where, runs[number - 1][1] - 1) + 1
        room = (count if number + 1 == len(runs) else _place(where, runs[number + 1][0])) - (
            stop - first)
        here, name = _place(where, first), spans[first][0] * 8
        others = [here, *(p for p in (here - WHOLE_TURN, here + WHOLE_TURN) if low <= p <= room)]
        choices.append(Choice(
            name, tuple((p - first) * layout.restart for p in others), 0.0, True,
            tuple(p * layout.restart // layout.per_row for p in others)))
        if name in places:
            wanted = first + round(places[name] / layout.restart)
            moved = max(low, min(wanted, count - (stop - first)))
            for index in range(first, stop):
                where[index] = moved + index - first
            by_hand += 1
    return choices, by_hand


def _place(where: list[int | None], index: int) -> int:
    found = where[index]
    assert found is not None
    return found


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
