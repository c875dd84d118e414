"""The tape's Volumes and In use lanes, from what the job knows of volumes. No Qt."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from needlewright.core.search.events import VolumeSeen


@dataclass(frozen=True)
class VolumesLane:
    """The volumes of one source, ascending by start."""

    volumes: tuple[VolumeSeen, ...] = ()

    @property
    def in_use_known(self) -> bool:
        return any(v.used for v in self.volumes)

    @cached_property
    def _sums(self) -> list[npt.NDArray[np.float64] | None]:
        """For each volume, how much is in use before each cell of its map, and at its end."""
        return [np.concatenate(([0.0], np.cumsum(np.frombuffer(v.used, np.uint8) / 255)))
                if v.used else None for v in self.volumes]

    def at(self, byte: int) -> VolumeSeen | None:
        """The volume that holds a byte."""
        return next((v for v in self.volumes if v.start <= byte < v.start + v.size), None)

    def shares(self, start: int, stop: int, width: int) -> npt.NDArray[np.float64]:
        """float64[width]: part in use of equal columns of the bytes from `start` to `stop`; -1
        where no volume tells."""
        found = np.full(max(1, width), -1.0)
        edges = np.linspace(start, stop, found.size + 1)
        for volume, sums in zip(self.volumes, self._sums):
            if sums is None:
                continue
            cells = sums.size - 1
            places = np.clip((edges - volume.start) * cells / max(1, volume.size), 0, cells)
            low, high = places[:-1], places[1:]
            inside = high > low
            # Between two cells the sum grows evenly.
            below = np.minimum(places.astype(np.int64), cells - 1)
            at = sums[below] + (sums[below + 1] - sums[below]) * (places - below)
            used = np.diff(at)
            found[inside] = used[inside] / (high - low)[inside]
        return found


def volumes_lane(rows: Sequence[VolumeSeen]) -> VolumesLane | None:
    """The lane of these volumes; None where there are none."""
    return VolumesLane(tuple(rows)) if rows else None
