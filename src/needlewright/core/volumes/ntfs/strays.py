"""Names of NTFS that no folder holds any more: behind the ends of index blocks and of records.

Some drivers take the name out of a removed file's record. A leftover index entry gives it back by
the record's number; where that is written over, by the time of creation and the size.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator

from needlewright.core.volumes.base import Entry, Placed, path_in
from needlewright.core.volumes.ntfs.records import (
    DATA,
    DOS_NAME,
    STANDARD,
    Attribute,
    FileName,
    index_end,
    stray_names,
)
from needlewright.core.volumes.ntfs.table import NtfsTable

FIRST_USER_RECORD = 16
MAX_STRAYS = 200_000
Ref = tuple[int, int]  # record, sequence


class Strays:
    """The leftover names of a volume."""

    def __init__(self, reader: NtfsTable) -> None:
        self._reader = reader
        self._names: dict[Ref, tuple[FileName, int]] = {}  # and where each stands
        self._headless: dict[tuple[int, int], FileName] = {}  # by time of creation and size
        for number in reader.folders():
            record = reader.record(number)
            if record is None:
                continue
            at, used = reader.record_at(number), struct.unpack_from("<I", record, 24)[0]
            self._keep(number, record, at, min(used, len(record)), len(record))
            for place, block in reader.index_blocks(record, number):
                self._keep(number, block, place, *index_end(block))

    def _keep(self, folder: int, raw: bytes, at: int, start: int, stop: int) -> None:
        for ref, sequence, name, inside in stray_names(raw, start, stop):
            if name.space == DOS_NAME or name.parent != folder or (
                    len(self._names) + len(self._headless) >= MAX_STRAYS):
                continue
            if ref >= FIRST_USER_RECORD:
                self._names.setdefault((ref, sequence), (name, at + inside))
            elif ref == 0:
                self._headless.setdefault((name.stamps[0], name.size), name)

    def name_of(self, number: int, sequence: int, found: list[Attribute]) -> FileName | None:
        """The name that a leftover gives to a removed record that lost its own.

        Where the leftover lost its record's number, its time of creation and its size decide.
        """
        for wanted in (sequence, (sequence - 1) & 0xFFFF):
            if (number, wanted) in self._names:
                return self._names[number, wanted][0]
        created = next((a.value[:8] for a in found if a.kind == STANDARD and a.value), b"")
        size = next((a.size for a in found if a.kind == DATA and not a.name), 0)
        return self._headless.get((int.from_bytes(created, "little"), size)) if size else None

    def entries(self) -> Iterator[Entry]:
        """Files of which no more than a name behind the end of a folder is left."""
        for (ref, sequence), (name, at) in self._names.items():
            if name.size == 0 or self._record_tells(ref, sequence):
                continue
            _, _, own, in_use, _ = self._reader.folders()[name.parent]
            folder = self._reader.folder(name.parent, own if in_use else own - 1)
            if folder is not None:
                yield Entry(path_in(folder[0], name.name), name.size, at, True, name.times(),
                            Placed.NONE)

    def _record_tells(self, number: int, sequence: int) -> bool:
        """Whether a file's own record is still there, under whatever name."""
        if number >= self._reader.sequences.size:
            return False
        own, in_use = int(self._reader.sequences[number]), bool(self._reader.in_use[number])
        return own == sequence or (not in_use and own == sequence + 1 & 0xFFFF)
