"""The contact sheet's layout: pictures in justified rows under group heads. No Qt.

Computed in a background thread from cached proportions, so that 100,000 finds cost the window
nothing; the window then asks only for what is visible.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import numpy.typing as npt

from needlewright.core.kernels.justified import lay_rows

GAP = 8
MARGIN = 16
UNDER = 18  # room for the stitch under each picture
HEAD = 34
GROUP_GAP = 10
NARROWEST, WIDEST = 0.45, 2.6  # proportions beyond these are cropped in the sheet
STRIP_CELLS = 200
PIECE = 2000  # items that are made numbers of at once
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
    bottom: npt.NDArray[np.int32]

    def visible(self, top: int, bottom: int) -> range:
        """Indices of the items that touch the stripe from `top` to `bottom`."""
        if self.ids.size == 0:
            return range(0)
        first = int(np.searchsorted(self.bottom, top, side="left"))
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


@dataclass(frozen=True, slots=True)
class _Table:
    """The items by column, [n] each; `heads`: a number for what heads them, -1 for nothing."""

    ids: npt.NDArray[np.int64]
    sources: npt.NDArray[np.int64]
    starts: npt.NDArray[np.int64]
    sizes: npt.NDArray[np.int64]
    ratios: npt.NDArray[np.float64]
    heads: npt.NDArray[np.int64]


def _table(items: Sequence[Item]) -> _Table:
    heads: dict[str, int] = {}
    codes = np.fromiter((-1 if item[7] is None else heads.setdefault(item[7], len(heads))
                         for item in items), np.int64, len(items))
    # In pieces: one conversion of all would hold the interpreter, and the window, up.
    pieces = [np.array([item[:7] for item in items[i : i + PIECE]], np.int64).reshape(-1, 7)
              for i in range(0, len(items), PIECE)]
    columns = np.concatenate(pieces) if pieces else np.zeros((0, 7), np.int64)
    return _Table(columns[:, 0].copy(), columns[:, 3], columns[:, 4].copy(), columns[:, 5],
                  proportions(columns[:, 1], columns[:, 2], columns[:, 6]), codes)


def lay_out(items: Sequence[Item], view_width: int, row_height: int, source_sizes: dict[int, int],
            grouped: bool, order: str = "origin") -> Sheet:
    """Place `items` (already in `order`) into rows of about `row_height` pixels."""
    count, table = len(items), _table(items)
    left, top, width, height = (np.zeros(count, np.int32) for _ in range(4))
    groups: list[Group] = []
    y = 0 if grouped else GROUP_GAP
    room = max(120, view_width - 2 * MARGIN)
    for first, last in _groups(table, source_sizes, grouped):
        head_top = y
        y += HEAD if grouped else 0
        y = lay_rows(table.ratios, first, last, room, row_height, y, (GAP, UNDER, MARGIN),
                     (left, top, width, height))
        y += GROUP_GAP
        source, start, key = items[first][3], items[first][4], items[first][7]
        size = source_sizes.get(source, 1)
        low, high = 0, max(1, size)
        if key is None:
            step = stretch_size(size)
            low = start // step * step
            high = min(low + step, source_sizes.get(source, low + step))
        groups.append(Group(first, last, source, low, high,
                            int(table.sizes[first:last].sum()), head_top, grouped,
                            _cells(table.starts[first:last], low, high) if grouped else (), key,
                            order))
    return Sheet(table.ids, left, top, width, height, table.starts, tuple(groups), y + MARGIN,
                 top + height)


def _cells(starts: npt.NDArray[np.int64], low: int, high: int) -> tuple[int, ...]:
    cells = (starts - low) * STRIP_CELLS // max(1, high - low)
    return tuple(np.flatnonzero(np.bincount(cells.clip(0, STRIP_CELLS - 1))).tolist())


def _groups(table: _Table, source_sizes: dict[int, int],
            grouped: bool) -> list[tuple[int, int]]:
    """(first, last, exclusive) of the groups: neighbours that share a head, or have none and lie
    in one stretch of one source."""
    count = table.ids.size
    if not count:
        return []
    if not grouped:
        return [(0, count)]
    steps = np.full(count, 1_000_000, np.int64)
    for source, size in source_sizes.items():
        steps[table.sources == source] = stretch_size(size)
    bare = table.heads < 0
    place = np.where(bare, table.starts // steps, 0)
    source_of = np.where(bare, table.sources, 0)
    cuts = (np.diff(table.heads) != 0) | (np.diff(place) != 0) | (np.diff(source_of) != 0)
    edges = [0, *(np.flatnonzero(cuts) + 1).tolist(), count]
    return list(pairwise(edges))


def proportions(wide: npt.NDArray[np.int64], high: npt.NDArray[np.int64],
                turns: npt.NDArray[np.int64]) -> npt.NDArray[np.float64]:
    """Width over height as shown, turned upright, within what the sheet shows; 1.0 where unknown.
    """
    known = (wide > 0) & (high > 0)
    one, other = np.where(known, wide, 1), np.where(known, high, 1)
    ratio = np.where(turns >= 5, other / one, one / other)
    return np.where(known, np.clip(ratio, NARROWEST, WIDEST), 1.0)
