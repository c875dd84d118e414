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
from needlewright.core.sources.source import Source
from needlewright.core.stopping import Interrupted, StopSignal
from needlewright.core.walks import Walk

BLOCK_BYTES, FIRST_BYTES = 1 << 20, 1 << 15
HEAD_BYTES = 64
BLANK_BYTES = 4096  # of one value, as no coded data holds
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
        length = max(1, walk.stop - walk.start)
        walk = replace(walk, stop=reach, share=round(
            min(walk.share, (reach - walk.start) / length), 4))
    if walk.preview is not None:
        return walk
    if walk.stop - walk.start < LEAST_BYTES:
        raise FormatError("nothing-borne-out", offset=walk.start)
    if walk.share <= 0.0:  # a head and something behind it, less than one picture or sound
        walk = replace(walk, share=HEAD_SHARE)
    return walk


def _next_stranger(source: Source, begin: int, end: int, stop: StopSignal, table: SignatureTable,
                   owners: tuple[Format, ...]) -> int:
    """The first sector from `begin` on where another file or a blank cluster begins; or `end`."""
    sector, size = source.sector_size, FIRST_BYTES
    each = max(1, BLANK_BYTES // sector)
    at = begin
    while at < end:
        if stop.is_set():
            raise Interrupted
        data = np.frombuffer(source.read_at(at, min(size, end - at)), np.uint8)
        if data.size == 0:
            return end
        places = _heads(source, data, at, table, owners)
        blank = sector_looks(data, sector) == BLANK
        runs = np.flatnonzero(np.convolve(blank, np.ones(each, int), "valid") == each) if (
            blank.size >= each) else np.zeros(0, int)
        if runs.size:
            places.append(at + int(runs[0]) * sector)
        if places:
            return min(end, *places)
        at, size = at + data.size // sector * sector or end, min(BLOCK_BYTES, size * 4)
        if data.size < sector:
            return end
    return end


def _heads(source: Source, data: np.ndarray, at: int, table: SignatureTable,  # type: ignore[type-arg]
           owners: tuple[Format, ...]) -> list[int]:
    offsets, which = find_signatures(data, source.sector_size, table)
    for offset, index in zip(offsets.tolist(), which.tolist()):
        if owners[index].accept(source.read_at(at + offset, HEAD_BYTES)):
            return [at + offset]
    return []
