"""The index of a clip in fragments (ISO/IEC 14496-12, 8.8), put together of its `moof` boxes.

Each fragment says where its samples lie and, by the size of the `mdat` behind it, where the next
one begins; that one states the next number. So all of them are found first, wherever they are, and
what lies between them is placed by the samples that they name, as with any other index.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from needlewright.core.errors import FormatError
from needlewright.core.sources.pieces import PiecedSource
from needlewright.core.stitching.base import Bench
from needlewright.core.stitching.clips.clip_runs import Clip, Run, placed
from needlewright.core.stitching.clips.sample_index import ENOUGH, SampleIndex
from needlewright.core.structures.bmff import Box, child, children, read_box
from needlewright.core.structures.bmff_samples import (
    Track,
    add_fragment,
    read_tracks,
    track_defaults,
)
from needlewright.core.structures.view import View

MAX_FRAGMENTS = 20_000
MAX_HEAD = 1 << 20  # bytes of a fragment's own description
MAX_TRIED = 64  # places that have the right number, for one fragment
PLAIN = (b"free", b"skip", b"sidx", b"styp", b"emsg", b"prft", b"uuid")  # may stand between two


@dataclass(slots=True)
class _Chain:
    """The fragments so far. `at`: the byte of the file where the next one begins; `line`: the
    pool's cluster that would be the file's first, if all stood in line with what was placed last;
    `number`: of the last fragment; `starts`: where all begin; `times`: when the next one of each
    track does."""

    bench: Bench
    tracks: list[Track]
    defaults: dict[int, tuple[int, int]]
    at: int
    line: int
    runs: list[Run]
    number: int | None = None
    starts: list[int] = field(default_factory=list)
    ended: bool = False
    times: dict[int, int] = field(default_factory=dict)

    def view(self, at: int, line: int) -> View:
        """The file from the cluster of its byte `at` on, as it stands in line."""
        pool, cluster = self.bench.pool, at // self.bench.pool.unit
        count = max(1, pool.run(line + cluster, -(-MAX_HEAD // pool.unit)))
        return View(PiecedSource(pool.source, (
            (None, cluster * pool.unit), (pool.start(line + cluster), count * pool.unit),
            (None, pool.source.size))), 0, pool.source.size)

    def take(self, line: int, low: int, high: int) -> None:
        """What stands at the file's bytes `low` to `high` is placed."""
        unit = self.bench.pool.unit
        first, last = low // unit, (high - 1) // unit
        if self.runs and line == self.line and first <= self.runs[-1].last + 1:
            self.runs[-1].last = self.runs[-1].high = max(last, self.runs[-1].last)
        else:
            first = max(first, self.runs[-1].last + 1 if self.runs else 0)
            if first <= last:
                self.runs.append(Run(first, last, line + first, first, last, ENOUGH))
        self.line = line


def in_fragments(bench: Bench, first: int) -> Clip | None:
    """The clip whose first cluster is the pool's `first`, with what is placed of it; None where its
    fragments are not to be had down to its end."""
    chain = _opened(bench, first)
    if chain is None:
        return None
    try:
        while not chain.ended and len(chain.runs) < MAX_FRAGMENTS:
            bench.rest()
            if not _next(chain) or chain.at > bench.pool.source.size:
                return None
        for track in chain.tracks:
            track.settle()
        index = SampleIndex(bench.pool.unit, chain.tracks)
    except FormatError:
        return None
    if not index.offsets.size or index.end > chain.at:
        return None
    clip = Clip(bench, index, chain.at, chain.runs)
    for run in chain.runs[1:]:
        known = clip.runs.index(run)
        clip.grow(clip.runs[known - 1], run.first)
        placed(clip, run.first, known)
    return clip


def _opened(bench: Bench, first: int) -> _Chain | None:
    chain = _Chain(bench, [], {}, 0, first, [])
    view = chain.view(0, first)
    try:
        box = read_box(view, 0)
        while box.name in (b"ftyp", *PLAIN) and box.stop < MAX_HEAD:
            box = read_box(view, box.stop)
        if box.name != b"moov" or box.size > MAX_HEAD or child(
                view, box.body, box.stop, b"mvex") is None:
            return None
        chain.tracks = list(read_tracks(view, box, 0))
        chain.defaults = track_defaults(view, box)
    except FormatError:
        return None
    chain.take(first, 0, box.stop)
    chain.at = box.stop
    return chain


def _next(chain: _Chain) -> bool:
    """Place what begins at `chain.at`; False where it is nowhere."""
    pool = chain.bench.pool
    cluster, inside = divmod(chain.at, pool.unit)
    if pool.in_line(chain.line + cluster) and _taken(chain, chain.line):
        return True
    if inside + 8 > pool.unit:
        return False
    numbers = np.array([n for name in (b"moof", b"mfra") for n, at in pool.marks(name, 4)
                        if at == inside], np.int64)
    numbers = numbers[np.argsort(np.abs(numbers - chain.line - cluster), kind="stable")]
    return any(_taken(chain, int(number) - cluster) for number in numbers[:MAX_TRIED])


def _taken(chain: _Chain, line: int) -> bool:
    """Whether a box of this clip stands at `chain.at` if that is in `line`; it is placed then."""
    view = chain.view(chain.at, line)
    try:
        box = read_box(view, chain.at)
        if box.open_ended or box.size > MAX_HEAD:
            return False
        if box.name == b"mfra":
            chain.ended = _whole(chain, line, box) and _lists(view, box, chain.starts)
        if chain.ended or (box.name in PLAIN and line == chain.line):
            chain.take(line, chain.at, box.stop)
            chain.at = box.stop
            return True
        header = child(view, box.body, box.stop, b"mfhd")
        if box.name != b"moof" or header is None:
            return False
        number = view.big(header.body + 4, 4)
        if chain.number is not None and number != chain.number + 1:
            return False
        data = read_box(view, box.stop)
        times = _times(view, box)
        if data.name != b"mdat" or data.open_ended or not _whole(chain, line, box) or any(
                chain.times.get(track, time) != time for track, time in times.items()):
            return False
        before = [len(t.runs) for t in chain.tracks]
        try:
            add_fragment(view, box, chain.tracks, chain.defaults)
        except FormatError:
            for track, count in zip(chain.tracks, before):
                del track.runs[count:]
            return False
    except FormatError:
        return False
    for track, count in zip(chain.tracks, before):
        if track.number in times:
            lasting = sum(int(steps.sum()) for _, _, steps in track.runs[count:])
            chain.times[track.number] = times[track.number] + lasting
    chain.take(line, chain.at, data.body)
    chain.number, chain.at = number, data.stop
    chain.starts.append(box.start)
    return True


def _whole(chain: _Chain, line: int, box: Box) -> bool:
    """Whether all of `box` is there where it would stand in `line`."""
    pool = chain.bench.pool
    first, last = box.start // pool.unit, (box.stop - 1) // pool.unit
    return pool.run(line + first, last - first + 1) > last - first


def _lists(view: View, mfra: Box, starts: list[int]) -> bool:
    """Whether the table at the end of a clip (8.8.10) is of fragments that begin at `starts`."""
    listed = 0
    for tfra in children(view, mfra.body, mfra.stop):
        if tfra.name != b"tfra":
            continue
        width = 8 if view.take(tfra.body, 1)[0] else 4
        sizes, count = view.take(tfra.body + 11, 1)[0], view.big(tfra.body + 12, 4)
        entry = 2 * width + 3 + (sizes >> 4 & 3) + (sizes >> 2 & 3) + (sizes & 3)
        if tfra.body + 16 + count * entry > tfra.stop:
            return False
        table = (view.big(tfra.body + 16 + n * entry + width, width) for n in range(count))
        if any(start not in starts for start in table):
            return False
        listed += count
    return listed > 0


def _times(view: View, moof: Box) -> dict[int, int]:
    """Track number -> decoding time of its first sample in a fragment (8.8.12), where stated."""
    times: dict[int, int] = {}
    at = moof.body
    while at + 8 <= moof.stop:
        traf = read_box(view, at)
        at = traf.stop
        header = child(view, traf.body, traf.stop, b"tfhd") if traf.name == b"traf" else None
        clock = child(view, traf.body, traf.stop, b"tfdt") if header is not None else None
        if header is not None and clock is not None:
            width = 8 if view.take(clock.body, 1)[0] else 4
            times[view.big(header.body + 4, 4)] = view.big(clock.body + 4, width)
    return times
