"""Names of NTFS that no folder holds any more: behind the ends of index blocks and of records.

Some drivers take the name out of a removed file's record. A leftover index entry gives it back by
the record's number; where that is written over, by the time of creation and the size.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import replace

from needlewright.core.volumes.base import Entry, Placed, path_in
from needlewright.core.volumes.ntfs.records import (
    DATA,
    DOS_NAME,
    LOST_PARENT,
    STANDARD,
    Attribute,
    FileName,
    index_end,
    stray_names,
    stray_tails,
)
from needlewright.core.volumes.ntfs.table import FIRST_USER_RECORD, NtfsTable

MAX_STRAYS = 200_000
END_MARKS = 32  # bytes
Ref = tuple[int, int]  # record, sequence


class Strays:
    """The leftover names of a volume."""

    def __init__(self, reader: NtfsTable) -> None:
        self._reader = reader
        self._names: dict[Ref, tuple[FileName, int]] = {}  # and where each stands
        # By time of creation and size; and which of these a record got.
        self._headless: dict[tuple[int, int], tuple[FileName, int]] = {}
        self._given: set[tuple[int, int]] = set()
        # Those of which only size and letters stand, by folder, name and size.
        self._tails: dict[tuple[int, str, int], tuple[FileName, int]] = {}
        for number, (_, _, _, in_use, _) in reader.folders().items():
            record = reader.record(number)
            if record is None:
                continue
            at, used = reader.record_at(number), struct.unpack_from("<I", record, 24)[0]
            # Of a removed folder all entries are leftovers, those in their order too.
            self._keep(number, record, at, min(used, len(record)) if in_use else 0, len(record))
            for place, block in reader.index_blocks(record, number):
                start, stop = index_end(block)
                self._keep(number, block, place, start if in_use else 0, stop)

        folders = reader.folders()
        for number, record, used in reader.with_leftovers():
            if number not in folders:  # a file's now: what is left says itself in which folder
                self._keep(None, record, reader.record_at(number), used, len(record))

    def _keep(self, folder: int | None, raw: bytes, at: int, start: int, stop: int) -> None:
        told = set()
        # The marks at the end may lie over the head of the leftover that follows.
        for ref, sequence, name, inside in stray_names(raw, max(0, start - END_MARKS), stop):
            told.add(inside)
            if folder is not None and name.parent in (LOST_PARENT, folder):
                name = self._in_folder(name, folder)  # for it stands in the folder's own records
            stands = 0 <= name.parent < self._reader.records if folder is None else (
                name.parent == folder)
            if name.space == DOS_NAME or name.of_folder or not stands or (
                    len(self._names) + len(self._headless) >= MAX_STRAYS):
                continue
            if ref >= FIRST_USER_RECORD:
                self._names.setdefault((ref, sequence), (name, at + inside))
            elif ref == 0:
                self._headless.setdefault((name.stamps[0], name.size), (name, at + inside))
        if folder is None:
            return
        for name, inside in stray_tails(raw, start, stop, self._reader.boot.cluster_size):
            if inside not in told and name.space != DOS_NAME and len(self._tails) < MAX_STRAYS:
                self._tails.setdefault((folder, name.name, name.size),
                                       (self._in_folder(name, folder), at + max(0, inside)))

    def _in_folder(self, name: FileName, folder: int) -> FileName:
        _, _, own, in_use, _ = self._reader.folders()[folder]
        return replace(name, parent=folder, parent_sequence=own if in_use else own - 1)

    def name_of(self, number: int, sequence: int, found: list[Attribute]) -> FileName | None:
        """The name that a leftover gives to a removed record that lost its own.

        Where the leftover lost its record's number, its time of creation and its size decide.
        """
        for wanted in (sequence, (sequence - 1) & 0xFFFF):
            if (number, wanted) in self._names:
                return self._names[number, wanted][0]
        created = next((a.value[:8] for a in found if a.kind == STANDARD and a.value), b"")
        size = next((a.size for a in found if a.kind == DATA and not a.name), 0)
        key = (int.from_bytes(created, "little"), size)
        if not size or key not in self._headless:
            return None
        self._given.add(key)
        return self._headless[key][0]

    def entries(self) -> Iterator[Entry]:
        """Files of which no more than a name behind the end of a folder is left."""
        known = {(n.parent, n.name) for n, _ in self._names.values()}
        for (ref, sequence), (name, at) in self._names.items():
            if not self._reader.tells(ref, sequence):
                yield from self._nameless(name, at)
        loose = [(name, at) for key, (name, at) in self._headless.items()
                 if key not in self._given and (name.parent, name.name) not in known]
        there = self._told_among({(name.parent, name.name) for name, _ in loose}, False)
        # A removed file that kept its own name is told by its record.
        kept = {(n.parent, n.name, n.stamps[0]) for _, n in self._reader.told_names(True)
                } if loose else set()
        for name, at in loose:
            if (name.parent, name.name) not in there and (
                    name.parent, name.name, name.stamps[0]) not in kept:
                there.add((name.parent, name.name))
                yield from self._nameless(name, at)
        told = known | there | {(name.parent, name.name) for name, _ in self._headless.values()}
        tails = [(name, at) for name, at in self._tails.values()
                 if (name.parent, name.name) not in told]
        there = self._told_among({(name.parent, name.name) for name, _ in tails}, True)
        for name, at in tails:
            if (name.parent, name.name) not in there:
                yield from self._nameless(name, at)

    def _told_among(self, wanted: set[tuple[int, str]], removed: bool) -> set[tuple[int, str]]:
        """Which of these (folder, name) records tell of, with `removed` those of removed files too:
        leftovers of such say nothing new."""
        if not wanted:
            return set()
        return {(name.parent, name.name)
                for _, name in self._reader.told_names(removed)} & wanted

    def _nameless(self, name: FileName, at: int) -> Iterator[Entry]:
        """The entry of a name without a record."""
        folder = self._reader.folder(name.parent, name.parent_sequence)
        if folder is not None:
            yield Entry(path_in(folder[0], name.name), name.size, at, True, name.times(),
                        Placed.NONE)
