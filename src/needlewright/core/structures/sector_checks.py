"""Checks by the look of a file's sectors: the only ones that uncompressed samples allow, and the
only ones where decoders read whatever they are given.

Damage on a medium begins and ends at sectors, and covers clusters of several. Passing is no proof
of content, so none of these checks counts as one.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np
import numpy.typing as npt

from needlewright.core.kernels.foreign import BLANK, TEXT, pitch, sector_looks, surprise
from needlewright.core.structures.blank_runs import BlankRuns, Samples
from needlewright.core.structures.view import View
from needlewright.core.walks import Check, Outcome

BLOCK_BYTES, FIRST_BYTES = 1 << 22, 1 << 18
KEPT_SECTORS = 8192
RANDOM = 50.0  # steps of the high byte by which random samples miss their forecast: 64
PITCH = 2.2  # see `kernels.foreign.pitch`; rows of one picture come to 0.5 to 1.5
LEAST_CONTEXT = 3
NAME = "continuity"
CLUSTER_SECTORS = 6  # of a cluster of eight, that look foreign from end to end
# Random bytes are 64 from any forecast. A row of leaves behind a clear sky comes to 20, a cymbal
# after silence to 30: what may be their own must not be doubted. Text is told by its letters.
FAR_PICTURE, FAR_SOUND = 30.0, 42.0
TIMES_FARTHER = 3.0
NOISY = 25.0  # from which samples are noise themselves, and nothing foreign stands out
OPENING_SECTORS = 16  # of a sound, that say whether it is noise from the beginning on
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
    place, gap, seen = None, None, _Seen(row_bytes, sector)
    blanks = BlankRuns(view, Samples(start, stop, row_bytes, pixel_bytes, sample_bytes, big_endian),
                       first)
    for far, looks, edges, apart in _measure(view, start, first, stop, row_bytes, pixel_bytes,
                                             sample_bytes, big_endian):
        # Looked at while it is read: of what claims a gibibyte, a few blocks tell enough.
        place, gap = seen.add(far, looks, edges, apart), blanks.add(looks, edges)
        if place is not None or gap is not None:
            break
    place = seen.last() if place is None else place
    at = None if place is None else first + place * sector
    if gap is not None and (at is None or gap[0] <= at):
        return _blank(view, start, row_bytes, gap)
    if at is None:
        return Check(NAME, Outcome.PASS, "samples-continue")
    row = max(0, at - start) // row_bytes if row_bytes else None
    return Check(NAME, Outcome.DOUBT, "samples-foreign", {"offset": at - view.start, "row": row})


def blank_check(view: View, samples: Samples) -> Check:
    """Whether blank sectors stand among `samples` that allow no other look."""
    sector = view.source.sector_size
    first = samples.start + (view.start - samples.start) % sector
    blanks = BlankRuns(view, samples, first)
    for at in range(first, samples.stop - sector + 1, BLOCK_BYTES):
        length = min(BLOCK_BYTES, (samples.stop - at) // sector * sector)
        data = np.frombuffer(view.source.read_at(at, length), np.uint8)
        gap = blanks.add(sector_looks(data, sector), data.reshape(-1, sector)[:, [0, -1]])
        if gap is not None:
            return _blank(view, samples.start, samples.row_bytes, gap)
    return Check(NAME, Outcome.PASS, "samples-continue")


def _blank(view: View, start: int, row_bytes: int, gap: tuple[int, int]) -> Check:
    offset, size = gap
    return Check(NAME, Outcome.DOUBT, "samples-blank", {
        "offset": offset - view.start, "size": size,
        "row": (offset - start) // row_bytes if row_bytes else None})


Floats = npt.NDArray[np.float64]
Kinds = npt.NDArray[np.uint8]


def _measure(view: View, start: int, first: int, stop: int, row_bytes: int, pixel_bytes: int,
             sample_bytes: int, big_endian: bool) -> Iterator[tuple[Floats, Kinds, Kinds, Floats]]:
    """(surprise, looks, first and last byte, distance upwards over that to the left) of the whole
    sectors from `first` to `stop`, block by block, the first ones small."""
    sector = view.source.sector_size
    back = -(-(row_bytes + 2 * pixel_bytes) // sector) * sector
    at, size = first, FIRST_BYTES
    while at <= stop - sector:
        begin = max(first, at - back)
        length = min(at + size, first + (stop - first) // sector * sector) - begin
        data = np.frombuffer(view.source.read_at(begin, length), np.uint8)
        skip = (at - begin) // sector
        far = surprise(data, sector, pixel_bytes, sample_bytes, big_endian, row_bytes,
                       (begin - start) % sample_bytes)[skip:]
        apart = pitch(data, sector, pixel_bytes, row_bytes)[skip:]
        looks = sector_looks(data[at - begin :], sector)
        yield far, looks, data[at - begin :].reshape(-1, sector)[:, [0, -1]], apart
        at += far.size * sector
        size = min(BLOCK_BYTES, size * 4)


class _Seen:
    """What was measured so far, as much of it as later sectors are held against."""

    def __init__(self, row_bytes: int, sector: int) -> None:
        self._limit = FAR_PICTURE if row_bytes else FAR_SOUND
        self._row_sectors = -(-row_bytes // sector)
        self._before = 0  # sectors that are no longer held
        self._far, self._apart = np.zeros(0), np.zeros(0)
        self._looks, self._edges = np.zeros(0, np.uint8), np.zeros((0, 2), np.uint8)

    def add(self, far: Floats, looks: Kinds, edges: Kinds, apart: Floats) -> int | None:
        """The number of the first sector that looks foreign, as far as can be told yet."""
        self._far = np.concatenate((self._far, far))
        self._apart = np.concatenate((self._apart, apart))
        self._looks = np.concatenate((self._looks, looks))
        self._edges = np.concatenate((self._edges, edges))
        place = self.last(final=False)
        drop = max(0, self._far.size - KEPT_SECTORS)
        if place is None and drop:
            self._before += drop
            self._far, self._apart = self._far[drop:], self._apart[drop:]
            self._looks, self._edges = self._looks[drop:], self._edges[drop:]
        return place

    def last(self, final: bool = True) -> int | None:
        """The same; `final`: no more follows."""
        places = [p for p in (
            _foreign(self._far, self._looks, self._edges, self._limit, final),
            _shifted_rows(self._apart, self._row_sectors) if self._row_sectors else None,
        ) if p is not None]
        return self._before + min(places) if places else None


def _foreign(far: Floats, looks: Kinds, edges: Kinds, limit: float, final: bool) -> int | None:
    """The first sector of the first stretch that looks foreign, or None.

    Black parts of a picture do not begin and end exactly where sectors do; blanked clusters do.
    """
    known = far >= 0
    usual = _usual(far)
    random = known & (far > RANDOM)  # no sample has anything to do with its neighbours
    first = far[known][:OPENING_SECTORS]
    if limit == FAR_SOUND and first.size and np.median(first) > NOISY and (
            np.median(far[known]) > NOISY):
        random[:] = False  # loud noise from the beginning on is what was recorded
    if random.any():
        return int(np.flatnonzero(random)[0])
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
        if stop - index >= CLUSTER_SECTORS or (final and stop == run.size and stop - index > 1):
            return index
    return None


def _shifted_rows(apart: Floats, row_sectors: int) -> int | None:
    """The first sector of a stretch whose samples go on along the row, but not from the row above:
    rows of another picture. Longer than any edge in a picture is high."""
    wrong = (apart > PITCH) & (apart > 1.6 * np.minimum(_usual(apart), PITCH))
    least = max(CLUSTER_SECTORS, 2 * row_sectors + 2)
    edges = np.flatnonzero(np.diff(np.concatenate(([False], wrong, [False])).astype(np.int8)))
    for start, stop in edges.reshape(-1, 2).tolist():
        if stop - start >= least and start > 0:
            return int(start)
    return None


def _exact(edges: Kinds, start: int, stop: int) -> bool:
    """Whether other bytes stand right before and right behind the blank sectors."""
    value = edges[start, 0]
    before = start > 0 and edges[start - 1, 1] != value
    return bool(before and (stop == len(edges) or edges[stop, 0] != value))


def _usual(far: Floats) -> Floats:
    """What is usual before each sector: the median of those before it; endless while they are few.
    """
    found = np.full(far.size, np.inf)
    for index in range(0, min(far.size, CONTEXT), 4):
        part = far[:index]
        part = part[part >= 0]
        if part.size >= LEAST_CONTEXT:
            found[index : index + 4] = np.median(part)
    if far.size > CONTEXT:
        windows = np.lib.stride_tricks.sliding_window_view(far, CONTEXT)[::4]
        for first in range(0, len(windows), 1 << 13):
            medians = np.median(windows[first : first + (1 << 13)], axis=1)
            spread = np.repeat(medians, 4)
            begin = CONTEXT + 4 * first
            room = found[begin : begin + spread.size]
            room[:] = spread[: room.size]
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
