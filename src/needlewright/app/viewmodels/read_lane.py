"""The tape's Read lane: what of a medium is read, and how it went. No Qt.

Prepared once from a read map, then asked for any width and any part of the medium: even a map of
100,000 ranges answers within a few milliseconds.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import IntEnum

import numpy as np
import numpy.typing as npt

from needlewright.core.sources.map_file import MapFile
from needlewright.core.sources.read_map import ReadMap, State


class Cell(IntEnum):
    """What one pixel column shows; the higher, the more it must be seen."""

    PENDING = 0
    READ = 1
    SLOW = 2
    UNREADABLE = 3


@dataclass(frozen=True, slots=True)
class ReadLane:
    """`starts` int64[n]: where each range begins; `states` uint8[n]; `slow` int64[m, 2]: stretches
    that were read slowly; bytes."""

    size: int
    starts: npt.NDArray[np.int64]
    states: npt.NDArray[np.uint8]
    slow: npt.NDArray[np.int64]

    def cells(self, start: int, stop: int, width: int) -> npt.NDArray[np.uint8]:
        """Cell codes uint8[width] of the part from `start` to `stop`."""
        edges = np.linspace(start, stop, max(1, width) + 1)
        low, high = edges[:-1].astype(np.int64), np.maximum(edges[1:], edges[:-1] + 1)
        first = np.maximum(np.searchsorted(self.starts, low, "right") - 1, 0)
        last = np.searchsorted(self.starts, high, "left")
        found = np.full(len(low), Cell.PENDING, np.uint8)
        found[self._touching(State.READ, first, last)] = Cell.READ
        if len(self.slow):
            begun = np.searchsorted(self.slow[:, 0], high, "left")
            over = np.searchsorted(self.slow[:, 1], low, "right")
            found[(begun > over) & (found == Cell.READ)] = Cell.SLOW
        found[self._touching(State.UNREADABLE, first, last)] = Cell.UNREADABLE
        return found

    def _touching(self, state: State, first: npt.NDArray[np.int64],
                  last: npt.NDArray[np.int64]) -> npt.NDArray[np.bool_]:
        counts = np.concatenate(([0], np.cumsum(self.states == state)))
        return np.asarray(counts[last] > counts[first])


def lane_of(states: ReadMap, slow: list[tuple[int, int, float]]) -> ReadLane:
    """The lane of a map as it stands."""
    ranges = list(states.ranges())
    stretches = sorted((a, b) for a, b, _ in slow)
    return ReadLane(
        states.size, np.array([s.start for s, _ in ranges], np.int64),
        np.array([v for _, v in ranges], np.uint8),
        np.array(stretches, np.int64).reshape(-1, 2))


def lane_of_file(kept: MapFile) -> ReadLane:
    return lane_of(kept.states, kept.slow)
