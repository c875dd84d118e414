"""The contact sheet's layout: pictures in justified rows under group heads. No Qt.

Computed in a background thread from cached proportions, so that 100,000 finds cost the window
nothing; the window then asks only for what is visible.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

GAP = 8
MARGIN = 16
UNDER = 18  # room for the stitch under each picture
HEAD = 34
GROUP_GAP = 10
NARROWEST, WIDEST = 0.45, 2.6  # proportions beyond these are cropped in the sheet
STRIP_CELLS = 200
MAX_GROUPS = 16  # stretches that a medium is divided into at most

# id, width, height, source, start, size, turn, group
Item = tuple[int, int, int, int, int, int, int, str | None]


@dataclass(frozen=True, slots=True)
class Group:
    """Items `first` to `last` (exclusive) under one head; `key`: what they share, None where that
    is only a stretch of the medium; `start`, `stop`: that stretch, or all of the medium, bytes;
    `cells`: which of its STRIP_CELLS equal parts hold a find's start, ascending."""

    first: int
    last: int
    source: int
    start: int
    stop: int
    bytes: int
    top: int
    headed: bool
    cells: tuple[int, ...]
    key: str | None = None
    order: str = "origin"


@dataclass(frozen=True, slots=True)
class Sheet:
    """All items in order with their boxes, int32[n] each, in pixels from the sheet's top left."""

    ids: npt.NDArray[np.int64]
    left: npt.NDArray[np.int32]
    top: npt.NDArray[np.int32]
    width: npt.NDArray[np.int32]
    height: npt.NDArray[np.int32]
    starts: npt.NDArray[np.int64]
    groups: tuple[Group, ...]
    total_height: int

    def visible(self, top: int, bottom: int) -> range:
        """Indices of the items that touch the stripe from `top` to `bottom`."""
        if self.ids.size == 0:
            return range(0)
        first = int(np.searchsorted(self.top + self.height, top, side="left"))
        last = int(np.searchsorted(self.top, bottom, side="right"))
        return range(first, max(first, last))

    def at(self, x: int, y: int) -> int | None:
        """Index of the item at a point, or None."""
        for index in self.visible(y, y):
            inside = self.left[index] <= x < self.left[index] + self.width[index]
            if inside and self.top[index] <= y < self.top[index] + self.height[index]:
                return index
        return None

    def neighbour(self, index: int, rows: int) -> int:
        """The item nearest in x, `rows` rows below (above when negative)."""
        middle = int(self.left[index]) + int(self.width[index]) // 2
        step = 1 if rows > 0 else -1
        at = index
        for _ in range(abs(rows)):
            edge = at
            while 0 <= edge + step < self.ids.size and self.top[edge + step] == self.top[at]:
                edge += step
            if not 0 <= edge + step < self.ids.size:
                break
            at = edge + step
        row = np.flatnonzero(self.top == self.top[at])
        centres = self.left[row] + self.width[row] // 2
        return int(row[int(np.argmin(np.abs(centres - middle)))])


def stretch_size(source_size: int) -> int:
    """A round number of bytes that divides a medium into at most MAX_GROUPS stretches."""
    size = 1_000_000
    factors = (2, 5, 10)
    base = size
    while True:
        for factor in factors:
            size = base * factor
            if source_size <= size * MAX_GROUPS:
                return size
        base *= 10


def lay_out(items: Sequence[Item], view_width: int, row_height: int, source_sizes: dict[int, int],
            grouped: bool, order: str = "origin") -> Sheet:
    """Place `items` (already in `order`) into rows of about `row_height` pixels."""
    count = len(items)
    left, top = np.zeros(count, np.int32), np.zeros(count, np.int32)
    width, height = np.zeros(count, np.int32), np.zeros(count, np.int32)
    starts = np.fromiter((item[4] for item in items), np.int64, count)
    groups: list[Group] = []
    y = 0 if grouped else GROUP_GAP
    room = max(120, view_width - 2 * MARGIN)
    for first, last in _groups(items, source_sizes, grouped):
        head_top = y
        y += HEAD if grouped else 0
        y = _rows(items, first, last, room, row_height, y, left, top, width, height)
        y += GROUP_GAP
        source, start, key = items[first][3], items[first][4], items[first][7]
        size = source_sizes.get(source, 1)
        low, high = 0, max(1, size)
        if key is None:
            step = stretch_size(size)
            low = start // step * step
            high = min(low + step, source_sizes.get(source, low + step))
        groups.append(Group(first, last, source, low, high,
                            sum(item[5] for item in items[first:last]), head_top, grouped,
                            _cells(starts[first:last], low, high) if grouped else (), key,
                            order))
    ids = np.fromiter((item[0] for item in items), np.int64, count)
    return Sheet(ids, left, top, width, height, starts, tuple(groups), y + MARGIN)


def _cells(starts: npt.NDArray[np.int64], low: int, high: int) -> tuple[int, ...]:
    cells = (starts - low) * STRIP_CELLS // max(1, high - low)
    return tuple(np.flatnonzero(np.bincount(cells.clip(0, STRIP_CELLS - 1))).tolist())


def _groups(items: Sequence[Item], source_sizes: dict[int, int],
            grouped: bool) -> list[tuple[int, int]]:
    if not items:
        return []
    if not grouped:
        return [(0, len(items))]
    steps = {source: stretch_size(size) for source, size in source_sizes.items()}
    found, first = [], 0
    key: object = None
    for index, item in enumerate(items):
        here: object = item[7]
        if item[7] is None:
            here = (item[3], item[4] // steps.get(item[3], 1_000_000))
        if here != key and index > first:
            found.append((first, index))
            first = index
        key = here
    found.append((first, len(items)))
    return found


def _rows(items: Sequence[Item], first: int, last: int, room: int, row_height: int, y: int,
          left: npt.NDArray[np.int32], top: npt.NDArray[np.int32],
          width: npt.NDArray[np.int32], height: npt.NDArray[np.int32]) -> int:
    index = first
    while index < last:
        end, ratios = index, 0.0
        while end < last and ratios * row_height + GAP * (end - index - 1) < room:
            ratios += proportion(items[end])
            end += 1
        free = room - GAP * (end - index - 1)
        full = ratios * row_height >= free
        tall = free / ratios if full else float(row_height)
        x = float(MARGIN)
        for at in range(index, end):
            wide = proportion(items[at]) * tall
            left[at], top[at] = round(x), y
            width[at], height[at] = max(1, round(x + wide) - round(x)), round(tall)
            x += wide + GAP
        y += round(tall) + UNDER
        index = end
    return y


def proportion(item: Item) -> float:
    """Width over height as shown, turned upright, within what the sheet shows."""
    wide, high = item[1], item[2]
    if wide <= 0 or high <= 0:
        return 1.0
    ratio = high / wide if item[6] >= 5 else wide / high
    return min(WIDEST, max(NARROWEST, ratio))
