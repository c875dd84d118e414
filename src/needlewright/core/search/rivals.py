"""Which clusters more than one removed file claims: of those, no record alone is believed."""

from __future__ import annotations

import numpy as np

from needlewright.core.volumes.allocation import Allocation
from needlewright.core.volumes.base import Extents


class Rivals:
    """Claims of removed files on the clusters of one volume, counted up to two."""

    def __init__(self, like: Allocation) -> None:
        def empty() -> Allocation:
            return Allocation(like.unit, like.first, like.count, np.zeros_like(like.bits))
        self._once, self._twice = empty(), empty()
        self._seen: set[Extents] = set()

    def add(self, extents: Extents) -> None:
        """One file claims these stretches of the volume; the same claim again is the same file's.
        """
        if extents in self._seen:
            return
        self._seen.add(extents)
        for extent in extents:
            if self._once.used_bytes([extent]):
                self._twice.take([extent])
        self._once.take(extents)

    def contested(self, extents: Extents) -> bool:
        """Whether any of these stretches is claimed by another file as well."""
        return self._twice.used_bytes(extents) > 0
