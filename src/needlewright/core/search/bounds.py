"""How far a broken file that never came to its own end may reach: as far as is borne out.

A header claims what it likes. Of a file that breaks before its end, the rest lies somewhere behind
the damage or nowhere: it reaches no farther than to the next file, to the first blank cluster, or
to what its own structure vouches for.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from needlewright.core.errors import FormatError
from needlewright.core.formats.base import Format
from needlewright.core.kernels.foreign import BLANK, sector_looks
from needlewright.core.kernels.signatures import SignatureTable, find_signatures
from needlewright.core.sources.careful import read_past
from needlewright.core.sources.source import Source
from needlewright.core.stopping import Interrupted, StopSignal
from needlewright.core.walks import Walk

BLOCK_BYTES, FIRST_BYTES = 1 << 20, 1 << 15
HEAD_BYTES = 64
BLANK_BYTES = 4096  # of one value, as no coded data holds
LONG_BLANK_BYTES = 4 << 20  # more than headers reserve, and half a minute of silence
HEAD_SHARE = 0.001  # of a file: a remnant
LEAST_BYTES = 2048  # of a broken file without a preview, below which it is nothing


def borne_out(source: Source, walk: Walk, stop: StopSignal, table: SignatureTable,
              owners: tuple[Format, ...]) -> Walk:
    """`walk`, cut where nothing bears it out any more; FormatError where nothing of use is left."""
    if walk.broken is None or walk.ended:
        return walk
    sector = source.sector_size
    sure = max(walk.verified or 0, walk.start + 1)
    begin = walk.start + -(-(sure - walk.start) // sector) * sector
    end = _next_stranger(source, begin, walk.stop, stop, table, owners)
    reach = max(end, min(walk.verified or 0, walk.stop))
    if reach < walk.stop:
        walk = replace(walk, stop=reach, share=_share_up_to(walk, reach))
    if walk.preview is not None:
        return walk
    if walk.stop - walk.start < LEAST_BYTES:
        raise FormatError("nothing-borne-out", offset=walk.start)
    if walk.share <= 0.0:  # a head and something behind it, less than one picture or sound
        walk = replace(walk, share=HEAD_SHARE)
    return walk


def _share_up_to(walk: Walk, reach: int) -> float:
    """The share of what ends at `reach`: that of the walk where its damage lies no farther."""
    assert walk.broken is not None
    to_damage = walk.broken.offset - walk.start
    if reach >= walk.broken.offset or to_damage <= 0:
        return walk.share
    return round(walk.share * max(0, reach - walk.start) / to_damage, 4)


def _next_stranger(source: Source, begin: int, end: int, stop: StopSignal, table: SignatureTable,
                   owners: tuple[Format, ...]) -> int:
    """The first sector from `begin` on where another file or a blank cluster begins; or `end`.
    What could not be read is blank as well, and says nothing."""
    sector, size = source.sector_size, FIRST_BYTES
    overlap = -(-BLANK_BYTES // sector) * sector  # a run of blanks may lie across two blocks
    at, run = begin, _Run()
    while at < end:
        if stop.is_set():
            raise Interrupted
        data = np.frombuffer(read_past(source, at, min(size, end - at)), np.uint8)
        if data.size == 0:
            return end
        before = read_past(source, at - 1, 1) if at > 0 else b""
        places = [*_heads(source, data, at, table, owners),
                  *(place for place in run.begins_of_blanks(data, at, sector, before)
                    if not source.lost_within(place, min(end, place + BLANK_BYTES)))]
        if places:
            return min(end, *places)
        step = data.size // sector * sector
        if step == 0 or at + data.size >= end:
            return end
        at += max(sector, step - overlap)
        size = min(BLOCK_BYTES, size * 4)
    return end


class _Run:
    """Looks for blank clusters. One that begins in the midst of a sector is reserved room, silence
    or black, and counts only where it goes on for long: clearing and formatting go by sectors."""

    def __init__(self) -> None:
        self._begin = self._end = -1  # of the last run seen, absolute bytes

    def begins_of_blanks(self, data: np.ndarray, at: int, sector: int,  # type: ignore[type-arg]
                        before: bytes) -> list[int]:
        """Where runs that count begin. `before`: the byte in front."""
        found = []
        blank = sector_looks(data, sector) == BLANK
        edges = np.flatnonzero(np.diff(np.concatenate(([0], blank.view(np.int8), [0]))))
        for first, behind in edges.reshape(-1, 2).tolist():
            begin, end = at + first * sector, at + behind * sector
            value = data[first * sector]
            left = data[first * sector - 1] if first else before[0] if before else None
            if begin <= self._end:
                begin = self._begin
            self._begin, self._end = begin, max(end, self._end)
            long = end - begin >= LONG_BLANK_BYTES
            exact = left != value and begin == at + first * sector
            if long or (exact and end - begin >= BLANK_BYTES):
                found.append(begin)
        return found


def _heads(source: Source, data: np.ndarray, at: int, table: SignatureTable,  # type: ignore[type-arg]
           owners: tuple[Format, ...]) -> list[int]:
    offsets, which = find_signatures(data, source.sector_size, table)
    for offset, index in zip(offsets.tolist(), which.tolist()):
        if owners[index].accept(read_past(source, at + offset, HEAD_BYTES)):
            return [at + offset]
    return []
