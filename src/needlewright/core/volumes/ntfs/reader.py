"""NTFS 3.x: the master file table, read whole. Little-endian; see ntfs_records for the parts.

A removed file keeps its record, with its runs, until another takes it; its folder's record keeps
the name. What an index block still holds behind its end names files whose records are gone.
Not read: the log, object ids, reparse data other than by name.
"""

from __future__ import annotations

import dataclasses
import struct
from collections.abc import Iterator

import numpy as np

from needlewright.core.sources.pieces import PiecedSource
from needlewright.core.sources.source import Source
from needlewright.core.volumes.base import (
    Doubts,
    Entry,
    FileSystem,
    Mark,
    Placed,
    Times,
    path_in,
)
from needlewright.core.volumes.ntfs.further import Ref, merged
from needlewright.core.volumes.ntfs.layout import MAGIC, Boot
from needlewright.core.volumes.ntfs.records import (
    DATA,
    ENCRYPTED,
    FOLDER,
    HEAD,
    IN_USE,
    STANDARD,
    Attribute,
    FileName,
)
from needlewright.core.volumes.ntfs.strays import Strays
from needlewright.core.volumes.ntfs.table import FIRST_USER_RECORD, MAX_RESIDENT, NtfsTable, probe
from needlewright.core.volumes.registry import register
from needlewright.core.volumes.stamps import nt


class NtfsReader(NtfsTable):
    """An open NTFS volume."""

    def __init__(self, volume: Source, former: tuple[Boot, PiecedSource] | None = None) -> None:
        """`former`: as of `NtfsTable`."""
        super().__init__(volume, former)
        self._strays: Strays | None = None

    def live(self) -> Iterator[Entry]:
        yield from self._entries(removed=False)

    def removed(self) -> Iterator[Entry]:
        yield from self._entries(removed=True)
        yield from self._headless()
        yield from self._leftovers().entries()

    def _headless(self) -> Iterator[Entry]:
        """Files whose own record is another's now, and whose further records hold their content."""
        self.folders()  # reads which records are in use, too
        for (number, sequence), others in self.further().removed():
            if number < FIRST_USER_RECORD or self.tells(number, sequence):
                continue
            found = merged([], map(self.record, others))
            if any(a.kind == DATA and not a.name and a.first_vcn == 0 and a.size for a in found):
                yield from self._told(found, (number, sequence), others[0], True)

    def _leftovers(self) -> Strays:
        if self._strays is None:
            self._strays = Strays(self)
        return self._strays

    def _entries(self, removed: bool) -> Iterator[Entry]:
        size = self.boot.record_size
        for first, block, sound in self._blocks():
            flags = np.frombuffer(block, "<u2").reshape(-1, size // 2)[:, 11]
            wanted = np.array(sound, np.bool_) & ((flags & FOLDER) == 0) & (
                ((flags & IN_USE) == 0) == removed)
            for row in np.flatnonzero(wanted).tolist():
                number = first + row
                if number < FIRST_USER_RECORD:
                    continue
                record = block[row * size : (row + 1) * size]
                if HEAD.unpack_from(record)[10]:
                    continue  # a further record of another file
                yield from self._file(record, number, removed)

    def _file(self, record: bytes, number: int, removed: bool) -> Iterator[Entry]:
        found = self._all_attributes(record, number)
        yield from self._told(found, (number, HEAD.unpack_from(record)[4]), number, removed)

    def _told(self, found: list[Attribute], own: Ref, stands: int, removed: bool) -> Iterator[
            Entry]:
        """The entries of the file of the record `own`: one a name and stream.

        `stands`: the record in which what is told of it stands.
        """
        names = self._names(found)
        if not names and removed:
            stray = self._leftovers().name_of(*own, found)
            if stray is None:
                yield from self._nameless(found, stands)
                return
            names = [stray]
        told: set[tuple[int, str]] = set()
        streams = [(s, self._entry(found, s, stands, removed)) for s in self._streams(found)]
        for name in names:
            if (name.parent, name.name) in told:
                continue
            told.add((name.parent, name.name))
            folder = self.folder(name.parent, name.parent_sequence)
            if folder is None:
                continue
            times = self._times(found, name)
            for stream, entry in streams:
                path = path_in(folder[0], name.name + (f":{stream}" if stream else ""))
                doubts = entry.doubts
                if folder[0].startswith("lost folder "):
                    doubts = (*doubts, ("folder-lost", {}))
                yield Entry(path, entry.size, entry.record_at, removed, times, entry.placed,
                            entry.extents, entry.data, entry.coded, None, doubts, entry.locked)

    def _nameless(self, found: list[Attribute], number: int) -> Iterator[Entry]:
        """A removed file whose driver took the name out of its record."""
        entry = self._entry(found, "", number, True)
        standard = [a for a in found if a.kind == STANDARD and a.value and len(a.value) >= 32]
        times = Times()
        if standard:
            created, modified, _, accessed = struct.unpack_from("<QQQQ", standard[0].value or b"")
            times = Times(nt(created), nt(modified), nt(accessed))
        if entry.size and (standard or entry.extents):
            yield dataclasses.replace(entry, times=times, doubts=(*entry.doubts, ("name-lost", {})))

    def _streams(self, found: list[Attribute]) -> list[str]:
        """The names of the streams worth telling: the file's own, and large alternate ones."""
        other = {a.name for a in found if a.kind == DATA and a.name and a.value is None
                 and not a.name.startswith("$")}
        return ["", *sorted(other)]

    def _times(self, found: list[Attribute], name: FileName) -> Times:
        for attribute in found:
            if attribute.kind == STANDARD and attribute.value and len(attribute.value) >= 32:
                created, modified, _, accessed = struct.unpack_from("<QQQQ", attribute.value)
                return Times(nt(created), nt(modified), nt(accessed))
        return name.times()

    def _entry(self, found: list[Attribute], stream: str, number: int, removed: bool) -> Entry:
        """An entry without its path: size, place and doubts of one stream."""
        at = self.record_at(number)
        own = [a for a in found if a.kind == DATA and a.name == stream]
        head = min(own, key=lambda a: a.first_vcn, default=None)
        if head is None:
            return Entry("", 0, at, removed, placed=Placed.NONE)
        if head.value is not None:
            return Entry("", head.size, at + head.value_at, removed, data=head.value[:MAX_RESIDENT])
        parts = self._stream(found, stream)
        assert parts is not None
        extents, coded, why = parts
        doubts: Doubts = ((why, {}),) if why else ()
        placed = Placed.EXACT if not why else Placed.CHAIN if extents or coded else Placed.NONE
        return Entry("", head.size, at, removed, placed=placed, extents=extents, coded=coded,
                     doubts=doubts, locked=bool(head.flags & ENCRYPTED))


register(FileSystem("ntfs", probe, NtfsReader, (
    Mark(MAGIC, 3, lambda source, where: where),
)))
