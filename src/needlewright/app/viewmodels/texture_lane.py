"""The tape's Texture lane: what a medium looks like, asked for by the part in view. No Qt."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np
import numpy.typing as npt

from needlewright.core.jobfile.texture import TextureFile

COLUMNS = 1200  # more than any screen shows apart


@dataclass(frozen=True, slots=True)
class TextureLane:
    """`classes` uint8[columns] of the bytes from `start` to `stop`."""

    start: int
    stop: int
    classes: npt.NDArray[np.uint8]

    @property
    def seen(self) -> bool:
        return bool(self.classes.any())

    def cells(self, start: int, stop: int, width: int) -> npt.NDArray[np.uint8]:
        """uint8[width] of the part from `start` to `stop`; what is not known is unseen."""
        found = np.zeros(max(1, width), np.uint8)
        middles = start + (np.arange(found.size) + 0.5) * (stop - start) / found.size
        place = (middles - self.start) * self.classes.size / max(1, self.stop - self.start)
        known = (place >= 0) & (place < self.classes.size)
        found[known] = self.classes[place[known].astype(np.int64)]
        return found


def texture_of(folder: Path, source: int, start: int, stop: int) -> TextureLane:
    """The lane of a part of a source, as far as the job knows it."""
    kept = TextureFile(folder, source)
    try:
        return TextureLane(start, stop, kept.columns(start, stop, COLUMNS))
    finally:
        kept.close()
