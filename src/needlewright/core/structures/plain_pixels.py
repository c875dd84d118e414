"""The only check that uncompressed samples allow: do they continue each other?"""

from __future__ import annotations

import numpy as np

from needlewright.core.formats.base import Check, Outcome
from needlewright.core.kernels.foreign import foreign_run, mean_steps
from needlewright.core.structures.view import View

BLOCK_BYTES = 1 << 22
NAME = "continuity"


def continuity_check(view: View, start: int, stop: int, row_bytes: int, pixel_bytes: int,
                     sample_bytes: int = 1, big_endian: bool = False) -> Check:
    """Whether samples from `start` to `stop` hold sectors that look like something else.

    Blank sectors do not count: pictures have flat parts and recordings silence. Passing is no proof
    of content, so it does not count as one.
    """
    sector = view.source.sector_size
    first = start + (view.start - start) % sector  # boundaries of the file, not of its pixels
    kept = []
    for at in range(first, stop - sector + 1, BLOCK_BYTES):
        length = min(BLOCK_BYTES, (stop - at) // sector * sector)
        data = np.frombuffer(view.source.read_at(at, length), np.uint8)
        kept.append(mean_steps(data, sector, pixel_bytes, sample_bytes, big_endian))
    run = foreign_run(np.concatenate(kept)) if kept else None
    if run is None:
        return Check(NAME, Outcome.PASS, "samples-continue")
    place = first + run[0] * sector
    row = max(0, place - start) // row_bytes if row_bytes else None
    return Check(NAME, Outcome.DOUBT, "samples-foreign",
                 {"offset": place - view.start, "bytes": (run[1] - run[0]) * sector, "row": row})
