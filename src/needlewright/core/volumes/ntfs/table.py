"""The master file table of an open NTFS volume: records, their streams, the names of folders.

Little-endian; see `records` for the parts. The files (`reader`) and leftover names (`strays`) are
both told from it.
"""

from __future__ import annotations

import dataclasses
import struct
from collections import OrderedDict
from collections.abc import Iterator

import numpy as np
import numpy.typing as npt

from needlewright.core.errors import FormatError, SourceError
from needlewright.core.sources.pieces import PiecedSource
from needlewright.core.sources.source import Source
from needlewright.core.volumes.allocation import Allocation
from needlewright.core.volumes.base import (
    MAX_DEPTH,
    CodedParts,
    Extents,
    Reader,
    VolumeFacts,
    VolumeState,
    cut,
    stated,
)
from needlewright.core.volumes.ntfs.further import FurtherRecords, merged, taken_out
from needlewright.core.volumes.ntfs.layout import Boot, coded_units, read_boot
from needlewright.core.volumes.ntfs.records import (
    COMPRESSED,
    DATA,
    DOS_NAME,
    FOLDER,
    HEAD,
    IN_USE,
    INDEX_ALLOCATION,
    LIST,
    NAME,
    Attribute,
    FileName,
    attributes,
    decode_runs,
    extents_of,
    file_name,
    fix_block,
    fix_index,
)

ROOT, BITMAP_FILE, EXTEND = 5, 6, 11
FIRST_USER_RECORD = 16
READ_RECORDS = 1024
KEPT_RECORDS = 256
MAX_LIST_BYTES = 1 << 20
MAX_RESIDENT = 1 << 16
MAX_INDEX_BYTES = 1 << 28  # of one directory

#: The identifier in front of the catalogue of older states, and where it stands. How these are
#: laid out behind it was never published by who made it.
SHADOW_AT, SHADOW = 0x1E00, bytes.fromhex("6b87083876c1484eb7ae04046e6cc752")


def _boot(volume: Source) -> tuple[Boot, int]:
    """(geometry, where it stands): the first sector, or the copy in the last."""
    for at in (0, volume.size - 512, volume.size // 4096 * 4096 - 512):
        try:
            return read_boot(volume.read_at(at, 512)), at
        except (FormatError, SourceError):
            continue
    raise FormatError("no-ntfs-volume", offset=0)


def probe(volume: Source) -> VolumeFacts | None:
    """Facts of an NTFS volume that begins at byte 0."""
    try:
        boot, at = _boot(volume)
        table_at = boot.table_cluster * boot.cluster_size
        mirror_at = boot.mirror_cluster * boot.cluster_size
        heads = [volume.read_at(table_at, 4), volume.read_at(mirror_at, 4)]
    except (FormatError, SourceError):
        return None
    if b"FILE" not in heads:
        return None
    limits = ("ntfs-names", "ntfs-shadow") if _has_shadow(volume) else ("ntfs-names",)
    state = VolumeState.DAMAGED if at or boot.size > volume.size + 4096 else VolumeState.SOUND
    return VolumeFacts("ntfs", boot.size, boot.cluster_size, "", f"{boot.serial:016X}", state,
                       limits)


def _listed_records(raw: bytes, number: int) -> list[int]:
    """The records that a list of attributes names, but for the file's own."""
    others: list[int] = []
    at = 0
    while at + 26 <= len(raw):
        length = struct.unpack_from("<H", raw, at + 4)[0]
        ref = struct.unpack_from("<Q", raw, at + 16)[0] & 0xFFFF_FFFF_FFFF
        if length < 26:
            break
        if ref != number and ref not in others:
            others.append(ref)
        at += length
    return others


def _has_shadow(volume: Source) -> bool:
    """Whether there is a header of shadow storage where such volumes have it."""
    try:
        return volume.read_at(SHADOW_AT, len(SHADOW)) == SHADOW
    except SourceError:
        return False


class NtfsTable(Reader):
    """An open NTFS volume as far as its file table goes: records, streams, folders."""

    def __init__(self, volume: Source, former: tuple[Boot, PiecedSource] | None = None) -> None:
        """`former`: the geometry and the table's bytes, where no boot sector tells them any more.
        """
        facts = stated(probe(volume), "NTFS") if former is None else VolumeFacts(
            "ntfs, formatted over", former[0].size, former[0].cluster_size)
        super().__init__(volume, facts)
        self.boot, at = (former[0], 0) if former is not None else _boot(volume)
        if at:
            self._problems.add("boot-from-copy", 0)
        self._cache: OrderedDict[int, bytes] = OrderedDict()
        self._further: FurtherRecords | None = None
        self._table = self._find_table() if former is None else former[1]
        self.records = self._table.size // self.boot.record_size
        self._allocation = self._read_bitmap() if former is None else None
        self._folders: dict[int, tuple[int, int, int, bool, str]] | None = None
        self.sequences: npt.NDArray[np.uint16] = np.zeros(0, np.uint16)  # by record
        self.in_use: npt.NDArray[np.bool_] = np.zeros(0, np.bool_)
        label = self._label()
        if label:
            self.facts = dataclasses.replace(facts, label=label)

    @property
    def table_extents(self) -> Extents:
        """Where the file table lies."""
        return self._table.extents

    def allocation(self) -> Allocation | None:
        return self._allocation

    # the table

    def _find_table(self) -> PiecedSource:
        """The table as bytes in order, by the runs of its own first record, or of its mirror."""
        boot = self.boot
        for cluster in (boot.table_cluster, boot.mirror_cluster):
            raw = bytearray(self._read(cluster * boot.cluster_size, boot.record_size))
            if not fix_block(raw, boot.record_size)[0]:
                self._problems.add("record-damaged", cluster * boot.cluster_size, record=0)
                continue
            record = bytes(raw)
            own = [a for a in attributes(record) if a.kind == DATA and not a.name]
            if not own or own[0].value is not None:
                continue
            try:
                first = cut(extents_of(decode_runs(own[0].runs), boot.cluster_size), own[0].size)
            except FormatError:
                continue
            self._table = PiecedSource(self._volume, first)
            every = self._stream(self._all_attributes(record, 0), "")
            if every is not None and every[0]:
                return PiecedSource(self._volume, every[0])
            return self._table
        raise FormatError("file-table-unreadable", offset=boot.table_cluster)

    def _blocks(self) -> Iterator[tuple[int, bytes, list[bool]]]:
        """(number of the first record, records with fixups undone, which are sound)."""
        size = self.boot.record_size
        for first in range(0, self.records, READ_RECORDS):
            count = min(READ_RECORDS, self.records - first)
            raw = bytearray(self._table_bytes(first * size, count * size))
            sound = fix_block(raw, size)
            for row in np.flatnonzero(~sound).tolist():
                if raw[row * size : row * size + 4] == b"FILE":
                    self._problems.add("record-damaged", self.record_at(first + row),
                                       record=first + row)
            yield first, bytes(raw), sound.tolist()

    def _table_bytes(self, at: int, length: int) -> bytes:
        try:
            return self._table.read_at(at, length).ljust(length, b"\0")
        except SourceError:
            self._problems.add("record-unreadable", at)
            return bytes(length)

    def record(self, number: int) -> bytes | None:
        """One record with its fixups undone; None where it is not sound."""
        if not 0 <= number < self._table.size // self.boot.record_size:
            return None
        if number in self._cache:
            self._cache.move_to_end(number)
            return self._cache[number] or None
        size = self.boot.record_size
        raw = bytearray(self._table_bytes(number * size, size))
        found = bytes(raw) if fix_block(raw, size)[0] else b""
        found = bytes(raw) if found else b""
        self._cache[number] = found
        if len(self._cache) > KEPT_RECORDS:
            self._cache.popitem(last=False)
        return found or None

    def record_at(self, number: int) -> int:
        return self._table.place(number * self.boot.record_size) or 0

    def _all_attributes(self, record: bytes, number: int) -> list[Attribute]:
        """The attributes of a file, those in its further records too."""
        own = list(attributes(record))
        head = HEAD.unpack_from(record)
        in_use = bool(head[7] & IN_USE)
        listed = next((a for a in own if a.kind == LIST), None)
        if listed is None and in_use:
            return own
        raw = self._value(listed) if listed is not None else b""
        others = _listed_records(raw, number)
        for other in others:
            further = self.record(other)
            if further is not None and HEAD.unpack_from(further)[10] & 0xFFFF_FFFF_FFFF == number:
                own += attributes(further)
        # The table's own record is read before the table is known.
        if number >= FIRST_USER_RECORD and not (
                in_use and listed is not None and len(raw) >= min(listed.size, MAX_LIST_BYTES)):
            told = set(others)
            own = merged(own, (self.record(other) for other in self.further().of(
                number, head[4], in_use) if other not in told))
        if not in_use:
            for held in (record, *map(self.record, others)):
                own += taken_out(held) if held is not None and not self._names(own) else []
        return own

    def further(self) -> FurtherRecords:
        """The further records of all files."""
        if self._further is None:
            self._further = FurtherRecords(self._blocks(), self.boot.record_size)
        return self._further

    def _value(self, attribute: Attribute) -> bytes:
        """The bytes of a small attribute, wherever they are."""
        if attribute.value is not None:
            return attribute.value
        try:
            runs = decode_runs(attribute.runs)
        except FormatError:
            return b""
        extents = cut(extents_of(runs, self.boot.cluster_size),
                      min(attribute.size, MAX_LIST_BYTES))
        try:
            thread = PiecedSource(self._volume, extents)
            return thread.read_at(0, thread.size)
        except SourceError:
            return b""

    def _stream(self, found: list[Attribute], name: str) -> tuple[Extents, CodedParts, str] | None:
        """(extents, or compressed parts, what is wrong) of a stream that is not resident."""
        pieces = sorted((a for a in found if a.kind == DATA and a.name == name
                         and a.value is None), key=lambda a: a.first_vcn)
        if not pieces:
            return None
        head = pieces[0]
        runs: list[tuple[int | None, int]] = []
        why = "" if head.first_vcn == 0 else "runs-missing"
        for piece in pieces:
            if sum(n for _, n in runs) != piece.first_vcn:
                why = why or "runs-missing"
                break
            try:
                runs += decode_runs(piece.runs)
            except FormatError:
                why = why or "runs-wrong"
                break
        clusters = self.boot.size // self.boot.cluster_size + 1
        if any(c is not None and c + n > clusters for c, n in runs):
            return (), (), "runs-outside"
        size = head.size
        if sum(n for _, n in runs) * self.boot.cluster_size < size:
            why = why or "runs-missing"
        if head.flags & COMPRESSED and head.unit:
            return (), coded_units(runs, size, 1 << head.unit, self.boot.cluster_size), why
        extents = cut(extents_of(runs, self.boot.cluster_size), min(size, head.initialized))
        if head.initialized < size:
            extents = cut([*extents, (None, size - head.initialized)], size)
        return extents, (), why

    def _read_bitmap(self) -> Allocation | None:
        record = self.record(BITMAP_FILE)
        stream = self._stream(self._all_attributes(record, BITMAP_FILE), "") if record else None
        if stream is None or not stream[0]:
            self._problems.add("bitmap-missing", self.record_at(BITMAP_FILE))
            return None
        thread = PiecedSource(self._volume, stream[0])
        count = self._fitting(self.boot.size // self.boot.cluster_size, self.boot.cluster_size)
        try:
            raw = thread.read_at(0, -(-count // 8))
        except SourceError:
            self._problems.add("bitmap-missing", stream[0][0][0] or 0)
            return None
        return Allocation(self.boot.cluster_size, 0, count, np.frombuffer(raw, np.uint8).copy())

    def _label(self) -> str:
        record = self.record(3)
        for attribute in attributes(record) if record else ():
            if attribute.kind == 0x60 and attribute.value:
                return attribute.value.decode("utf-16-le", "replace")
        return ""

    # names

    def _load_folders(self) -> None:
        """record -> (parent, its sequence, own sequence, in use, name) of all folders."""
        self._folders = {}
        size = self.boot.record_size
        self.sequences = np.zeros(self.records, np.uint16)
        self.in_use = np.zeros(self.records, np.bool_)
        for first, block, sound in self._blocks():
            words = np.frombuffer(block, "<u2").reshape(-1, size // 2)
            whole = np.array(sound, np.bool_)
            last = first + len(words)
            self.sequences[first:last] = np.where(whole, words[:, 8], 0)
            self.in_use[first:last] = whole & ((words[:, 11] & IN_USE) != 0)
            for row in np.flatnonzero(whole & ((words[:, 11] & FOLDER) != 0)).tolist():
                flags = block[row * size + 22]
                record = block[row * size : (row + 1) * size]
                head = HEAD.unpack_from(record)
                names = self._names(self._all_attributes(record, first + row))
                if names:
                    best = names[0]
                    self._folders[first + row] = (best.parent, best.parent_sequence, head[4],
                                                  bool(flags & IN_USE), best.name)

    def _names(self, found: list[Attribute]) -> list[FileName]:
        """The names of a file, without those kept for old programs."""
        names = [n for a in found if a.kind == NAME and a.value
                 for n in [file_name(a.value)] if n is not None]
        long = [n for n in names if n.space != DOS_NAME]
        return long or names

    def told_names(self, removed: bool) -> Iterator[tuple[int, FileName]]:
        """(record, name) of all files that are there, folders too; with `removed` those of records
        out of use too."""
        size = self.boot.record_size
        for first, block, sound in self._blocks():
            flags = np.frombuffer(block, "<u2").reshape(-1, size // 2)[:, 11]
            wanted = np.array(sound, np.bool_) & (((flags & IN_USE) != 0) | removed)
            for row in np.flatnonzero(wanted).tolist():
                record = block[row * size : (row + 1) * size]
                for name in self._names(self._all_attributes(record, first + row)):
                    yield first + row, name

    def with_leftovers(self) -> Iterator[tuple[int, bytes, int]]:
        """(record, its bytes, those in use) of records behind whose ends something is left."""
        size = self.boot.record_size
        for first, block, sound in self._blocks():
            table = np.frombuffer(block, np.uint8).reshape(-1, size)
            used = table[:, 24:28].copy().view("<u4")[:, 0].astype(np.int64)
            behind = (table != 0) & (np.arange(size)[None, :] >= (used + 8)[:, None])
            wanted = np.array(sound, np.bool_) & (used < size - 64) & behind.any(axis=1)
            for row in np.flatnonzero(wanted).tolist():
                yield first + row, block[row * size : (row + 1) * size], int(used[row])

    def tells(self, number: int, sequence: int) -> bool:
        """Whether a file's own record is still there, under whatever name."""
        if number >= self.sequences.size:
            return False
        own, in_use = int(self.sequences[number]), bool(self.in_use[number])
        return own == sequence or (not in_use and own == sequence + 1 & 0xFFFF)

    def folders(self) -> dict[int, tuple[int, int, int, bool, str]]:
        """record -> (parent, its sequence, own sequence, in use, name) of all folders."""
        if self._folders is None:
            self._load_folders()
        assert self._folders is not None
        return self._folders

    def folder(self, parent: int, sequence: int) -> tuple[str, bool] | None:
        """(path, whether a folder on it was removed) of a folder; None where it is the system's.
        """
        folders = self.folders()
        parts: list[str] = []
        gone = False
        for _ in range(MAX_DEPTH):
            if parent == ROOT:
                return "/".join(reversed(parts)), gone
            if parent == EXTEND:
                return None
            known = folders.get(parent)
            if known is None:
                parts.append(f"lost folder {parent}")
                return "/".join(reversed(parts)), True
            upper, upper_sequence, own, in_use, name = known
            same = own == sequence or (not in_use and own == sequence + 1 & 0xFFFF)
            if not same:
                parts.append(f"lost folder {parent}")
                return "/".join(reversed(parts)), True
            gone = gone or not in_use
            parts.append(name)
            parent, sequence = upper, upper_sequence
        return "/".join(reversed(parts)), gone

    def index_blocks(self, record: bytes, number: int) -> Iterator[tuple[int, bytes]]:
        """(byte on the volume, block with fixups undone) of a directory's index."""
        found = self._all_attributes(record, number)
        for attribute in found:
            if attribute.kind != INDEX_ALLOCATION or attribute.value is not None:
                continue
            try:
                runs = decode_runs(attribute.runs)
            except FormatError:
                continue
            extents = cut(extents_of(runs, self.boot.cluster_size),
                          min(attribute.size, MAX_INDEX_BYTES))
            thread = PiecedSource(self._volume, extents)
            for at in range(0, thread.size, self.boot.index_size):
                try:
                    raw = bytearray(thread.read_at(at, self.boot.index_size))
                except SourceError:
                    self._problems.add("folder-unreadable", thread.place(at) or 0)
                    continue
                if len(raw) == self.boot.index_size and fix_index(raw):
                    yield thread.place(at) or 0, bytes(raw)
