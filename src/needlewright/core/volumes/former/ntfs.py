"""File records of a former NTFS volume, as a quick format leaves most of them.

Each record states its own number (NTFS 3.1), so records tell where their table began. The first
record tells where clusters lie, or else the files' first clusters and where files of their formats
begin.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator

import numpy as np

from needlewright.core.errors import FormatError, SourceError
from needlewright.core.formats.recognising import format_of_name
from needlewright.core.sources.pieces import PiecedSource
from needlewright.core.sources.source import Source, Span
from needlewright.core.sources.windows import Window
from needlewright.core.volumes.base import Reader
from needlewright.core.volumes.former.geometry import Geometry, by_heads
from needlewright.core.volumes.former.leftovers import (
    Collector,
    FormerVolume,
    Leftover,
    Medium,
    Sectors,
    register_leftover,
)
from needlewright.core.volumes.ntfs.layout import Boot
from needlewright.core.volumes.ntfs.reader import NtfsReader
from needlewright.core.volumes.ntfs.records import (
    DATA,
    NAME,
    attributes,
    decode_runs,
    file_name,
    fix_block,
)

MAX_RECORDS = 1 << 20
RECORD = 1024
INDEX = 4096
LEAST = 4  # records that make a table
SAMPLED = 400  # records whose files vote


class NtfsCollector(Collector):
    """Collects where records lie, and their numbers."""

    def __init__(self) -> None:
        self.records: list[tuple[int, int]] = []  # byte, number

    def look(self, sectors: Sectors, base: int) -> None:
        size = sectors.shape[1]
        mark = np.frombuffer(b"FILE", np.uint8)
        for row in np.flatnonzero((sectors[:, :4] == mark).all(axis=1)).tolist():
            head = sectors[row, :48].tobytes()
            at, count = struct.unpack_from("<HH", head, 4)
            if at >= 48 and count == RECORD // 512 + 1 and len(self.records) < MAX_RECORDS:
                self.records.append((base + row * size, struct.unpack_from("<I", head, 44)[0]))

    @property
    def kept(self) -> int:
        return len(self.records)

    def former(self, medium: Medium) -> Iterator[tuple[int, Reader]]:
        tables: dict[int, list[tuple[int, int]]] = {}
        for at, number in self.records:
            if not _in_table(medium, at):
                tables.setdefault(at - number * RECORD, []).append((at, number))
        for begin, found in sorted(tables.items(), key=lambda item: -len(item[1])):
            if len(found) < LEAST or begin < 0:
                return
            geometry = self._geometry(medium, found)
            if geometry is None or not 0 <= geometry.base < medium.source.size:
                continue
            window = Window(medium.source, Span(geometry.base, medium.source.size))
            table = _table(window, found, geometry.base)
            boot = Boot(geometry.cluster_size, window.size, 0, 0, RECORD, INDEX, 0)
            yield geometry.base, FormerVolume(medium, geometry.base,
                                              NtfsReader(window, (boot, table)))

    def _geometry(self, medium: Medium, found: list[tuple[int, int]]) -> Geometry | None:
        """Where the former volume began, and how large its clusters were."""
        known = [Geometry(v.span.start, r.boot.cluster_size) for v, r in medium.volumes
                 if isinstance(r, NtfsReader)]
        wanted: list[tuple[int, str]] = []
        for at, number in found[:: max(1, len(found) // SAMPLED)]:
            told = _first_cluster(medium, at)
            if told is not None and number == 0:
                cluster, size, count = told[0], told[2], told[3]
                if count and size % count == 0:
                    return Geometry(at - cluster * (size // count), size // count)
            elif told is not None:
                form = format_of_name(told[1])
                wanted += [(told[0], form.name)] if form is not None else []
        votes = by_heads(wanted, list(zip(medium.heads.tolist(), medium.names)), known)
        return votes[0][0] if votes and votes[0][1] > 0 else None


def _in_table(medium: Medium, at: int) -> bool:
    """Whether a record belongs to the table of a volume that is there now."""
    for volume, reader in medium.volumes:
        if isinstance(reader, NtfsReader):
            inside = at - volume.span.start
            if any(o is not None and o <= inside < o + n for o, n in reader.table_extents):
                return True
    return False


def _first_cluster(medium: Medium, at: int) -> tuple[int, str, int, int] | None:
    """(first cluster, name, allocated bytes, clusters) of the file of a record."""
    try:
        raw = bytearray(medium.source.read_at(at, RECORD))
    except SourceError:
        return None
    if len(raw) < RECORD or not fix_block(raw, RECORD)[0]:
        return None
    called, first, size, count = "", None, 0, 0
    for attribute in attributes(bytes(raw)):
        if attribute.kind == NAME and attribute.value:
            name = file_name(attribute.value)
            called = name.name if name else called
        elif attribute.kind == DATA and not attribute.name and attribute.value is None:
            try:
                runs = decode_runs(attribute.runs)
            except FormatError:
                continue
            first = runs[0][0] if runs else None
            size = struct.unpack_from("<Q", raw, attribute.value_at + 40)[0]
            count = sum(n for _, n in runs)
    return None if first is None else (first, called, size, count)


def _table(volume: Source, found: list[tuple[int, int]], start: int) -> PiecedSource:
    """The table put together from its records, holes where some are missing."""
    pieces: list[tuple[int | None, int]] = []
    place = 0
    for at, number in sorted(found, key=lambda item: item[1]):
        if number < place:
            continue
        if number > place:
            pieces.append((None, (number - place) * RECORD))
        pieces.append((at - start, RECORD))
        place = number + 1
    return PiecedSource(volume, pieces)


register_leftover(Leftover("ntfs", NtfsCollector))
