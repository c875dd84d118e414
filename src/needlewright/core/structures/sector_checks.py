"""Checks by the look of a file's sectors: the only ones that uncompressed samples allow, and the
only ones where decoders read whatever they are given.

Damage on a medium begins and ends at sectors, and covers clusters of several. Passing is no proof
of content, so none of these checks counts as one.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from needlewright.core.kernels.foreign import BLANK, TEXT, sector_looks, surprise
from needlewright.core.structures.view import View
from needlewright.core.walks import Check, Outcome

BLOCK_BYTES = 1 << 22
NAME = "continuity"
CLUSTER_SECTORS = 6  # of a cluster of eight, that look foreign from end to end
# Random bytes are 64 from any forecast. A row of leaves behind a clear sky comes to 20, a cymbal
# after silence to 30: what may be their own must not be doubted. Text is told by its letters.
FAR_PICTURE, FAR_SOUND = 30.0, 42.0
TIMES_FARTHER = 3.0
CONTEXT = 64  # sectors that say what is usual
TEXT_FAR = 8.0


def samples_check(view: View, start: int, stop: int, row_bytes: int, pixel_bytes: int,
                  sample_bytes: int = 1, big_endian: bool = False) -> Check:
    """Whether uncompressed samples from `start` to `stop` hold sectors that look foreign.

    Doubts where, exactly at a sector, samples begin to be far from what their neighbours foretell,
    or where blank or written sectors stand between others.
    """
    sector = view.source.sector_size
    first = start + (view.start - start) % sector  # boundaries of the file, not of its pixels
    far, looks, edges = _measure(view, first, stop, row_bytes, pixel_bytes, sample_bytes,
                                 big_endian)
    place = _foreign(far, looks, edges, FAR_PICTURE if row_bytes else FAR_SOUND)
    if place is None:
        return Check(NAME, Outcome.PASS, "samples-continue")
    at = first + place * sector
    row = max(0, at - start) // row_bytes if row_bytes else None
    return Check(NAME, Outcome.DOUBT, "samples-foreign", {"offset": at - view.start, "row": row})


def _measure(view: View, first: int, stop: int, row_bytes: int, pixel_bytes: int,
             sample_bytes: int, big_endian: bool) -> tuple[
                 npt.NDArray[np.float64], npt.NDArray[np.uint8], npt.NDArray[np.uint8]]:
    """(surprise, looks, first and last byte) of the whole sectors from `first` to `stop`."""
    sector = view.source.sector_size
    back = -(-(row_bytes + 2 * pixel_bytes) // sector) * sector
    far, looks = [np.zeros(0)], [np.zeros(0, np.uint8)]
    edges = [np.zeros((0, 2), np.uint8)]
    for at in range(first, stop - sector + 1, BLOCK_BYTES):
        begin = max(first, at - back)
        length = min(at + BLOCK_BYTES, first + (stop - first) // sector * sector) - begin
        data = np.frombuffer(view.source.read_at(begin, length), np.uint8)
        skip = (at - begin) // sector
        far.append(surprise(data, sector, pixel_bytes, sample_bytes, big_endian, row_bytes)[skip:])
        looks.append(sector_looks(data[at - begin :], sector))
        edges.append(data[at - begin :].reshape(-1, sector)[:, [0, -1]])
    return np.concatenate(far), np.concatenate(looks), np.concatenate(edges)


def _foreign(far: npt.NDArray[np.float64], looks: npt.NDArray[np.uint8],
             edges: npt.NDArray[np.uint8], limit: float) -> int | None:
    """The first sector of the first stretch that looks foreign, or None.

    Black parts of a picture do not begin and end exactly where sectors do; blanked clusters do.
    """
    known = far >= 0
    usual = _usual(far)
    strange = known & (far > np.maximum(limit, TIMES_FARTHER * usual))
    written = (looks == TEXT) & (far > np.maximum(TEXT_FAR, 2.0 * usual))
    blank = looks == BLANK
    before = np.concatenate(([False], blank[:-1]))
    sudden = blank & ~before & (np.concatenate(([0.0], far[:-1])) > 1.0)
    for index in np.flatnonzero(strange | written | sudden).tolist():
        run = strange if strange[index] else written if written[index] else blank
        stop = index
        while stop < run.size and run[stop]:
            stop += 1
        if run is blank and not _exact(edges, index, stop):
            continue
        if stop - index >= CLUSTER_SECTORS or (stop == run.size and stop - index > 1):
            return index
    return None


def _exact(edges: npt.NDArray[np.uint8], start: int, stop: int) -> bool:
    """Whether other bytes stand right before and right behind the blank sectors."""
    value = edges[start, 0]
    before = start > 0 and edges[start - 1, 1] != value
    return bool(before and (stop == len(edges) or edges[stop, 0] != value))


def _usual(far: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
    """What is usual before each sector: the median of those before it; endless while they are few.
    """
    found = np.full(far.size, np.inf)
    for index in range(0, far.size, 4):
        part = far[max(0, index - CONTEXT) : index]
        part = part[part >= 0]
        if part.size >= CONTEXT // 4:
            found[index : index + 4] = np.median(part)
    return found


def payload_check(view: View, spans: Sequence[tuple[int, int]]) -> Check:
    """Whether compressed data in `spans` holds blank or written sectors, as it never does."""
    sector = view.source.sector_size
    for start, stop in spans:
        first = start + (view.start - start) % sector
        for at in range(first, stop - sector + 1, BLOCK_BYTES):
            length = min(BLOCK_BYTES, (stop - at) // sector * sector)
            looks = sector_looks(
                np.frombuffer(view.source.read_at(at, length), np.uint8), sector)
            bad = np.flatnonzero(looks)
            if bad.size:
                place = at + int(bad[0]) * sector - view.start
                return Check("coded data", Outcome.FAIL, "payload-foreign", {"offset": place},
                             content=True)
    return Check("payload", Outcome.PASS, "payload-dense")
