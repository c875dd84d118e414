"""The tape's Volumes and In use lanes, from what the job knows of volumes. No Qt."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from needlewright.core.search.events import VolumeSeen


@dataclass(frozen=True, slots=True)
class VolumesLane:
    """The volumes of one source, ascending by start."""

    volumes: tuple[VolumeSeen, ...] = ()

    @property
    def in_use_known(self) -> bool:
        return any(v.used for v in self.volumes)

    def at(self, byte: int) -> VolumeSeen | None:
        """The volume that holds a byte."""
        return next((v for v in self.volumes if v.start <= byte < v.start + v.size), None)

    def shares(self, start: int, stop: int, width: int) -> npt.NDArray[np.float64]:
        """float64[width]: part in use of equal columns of the bytes from `start` to `stop`; -1
        where no volume tells."""
        found = np.full(max(1, width), -1.0)
        edges = np.linspace(start, stop, found.size + 1)
        for volume in self.volumes:
            if not volume.used:
                continue
            cells = np.frombuffer(volume.used, np.uint8).astype(np.float64) / 255
            sums = np.concatenate(([0.0], np.cumsum(cells)))
            places = (edges - volume.start) * cells.size / max(1, volume.size)
            low = np.clip(places[:-1], 0, cells.size)
            high = np.clip(places[1:], 0, cells.size)
            inside = high > low
            used = np.interp(high, np.arange(sums.size), sums) - np.interp(
                low, np.arange(sums.size), sums)
            found[inside] = used[inside] / (high - low)[inside]
        return found


def volumes_lane(rows: Sequence[VolumeSeen]) -> VolumesLane | None:
    """The lane of these volumes; None where there are none."""
    return VolumesLane(tuple(rows)) if rows else None
