"""Which volumes a medium holds: by its tables, by what stands at the usual places, by a scan.

Where several claim the same bytes, the one with more evidence comes first: a sound file system in a
partition of a table, then one that stands where none is named, then damaged ones.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator
from dataclasses import dataclass, field, replace

import numpy as np

from needlewright.core.errors import FormatError, SourceError
from needlewright.core.sources.source import Source, Span
from needlewright.core.sources.windows import Window
from needlewright.core.volumes.base import FileSystem, Problem, Reader, VolumeFacts, VolumeState
from needlewright.core.volumes.registry import file_systems, tables

USUAL = (0, 63 * 512, 1 << 20, 4 << 20, 8 << 20, 16 << 20, 32 << 20)  # where volumes begin, bytes
LOOKED_AT, RANDOM_BITS = 1 << 16, 7.99  # bytes; bits a byte, above what compressed media have
SMALLEST = 1 << 16  # bytes; less is no volume


@dataclass(frozen=True, slots=True)
class Volume:
    """A volume of a medium. `span`: absolute bytes. `file_system`: the registered name, "" where
    none is known; `named_by`: the table that names it, "" where none does."""

    span: Span
    facts: VolumeFacts
    file_system: str
    named_by: str = ""
    label: str = ""

    @property
    def title(self) -> str:
        return self.facts.label or self.label


@dataclass(slots=True)
class Layout:
    """What was found on a medium."""

    volumes: list[Volume] = field(default_factory=list)
    problems: list[Problem] = field(default_factory=list)


def find_volumes(source: Source) -> Layout:
    """The volumes of `source`, without reading it all: tables first, then the usual places."""
    layout = Layout()
    found: list[Volume] = []
    for table in sorted(tables().values(), key=lambda t: t.order):
        read = table.read(source)
        if read is None:
            continue
        layout.problems += read.problems
        for partition in read.partitions:
            if any(v.span.start == partition.span.start for v in found):
                continue
            found.append(_in_partition(source, partition.span, partition.kind, table.name,
                                       partition.name))
    for at in USUAL:
        if all(not v.file_system or v.span.start != at for v in found):
            lost = volume_at(source, at)
            if lost is not None:
                named = "" if at else "none"
                found.append(replace(lost, named_by=named, facts=_state(
                    lost.facts, lost.facts.state if at == 0 else VolumeState.LOST)))
    layout.volumes = _ranked(found)
    return layout


def _state(facts: VolumeFacts, state: VolumeState) -> VolumeFacts:
    return replace(facts, state=facts.state if facts.state is VolumeState.LOCKED else state)


def _in_partition(source: Source, span: Span, kind: str, table: str, name: str) -> Volume:
    volume = volume_at(source, span.start, span)
    if volume is None:
        locked = span.size >= SMALLEST and _looks_random(source, span)
        facts = VolumeFacts(kind, span.size, 0)
        if locked:
            facts = VolumeFacts("looks-encrypted", span.size, 0, state=VolumeState.LOCKED)
        return Volume(span, facts, "", table, name)
    return replace(volume, named_by=table, label=name)


def _looks_random(source: Source, span: Span) -> bool:
    """Whether a stretch without any known mark is random from its first byte on."""
    for at in (0, span.size // 3 // 4096 * 4096, span.size // 2 // 4096 * 4096):
        try:
            data = source.read_at(span.start + at, LOOKED_AT)
        except SourceError:
            return False
        counts = np.bincount(np.frombuffer(data, np.uint8), minlength=256)
        share = counts[counts > 0] / max(1, len(data))
        if len(data) < LOOKED_AT or -(share * np.log2(share)).sum() < RANDOM_BITS:
            return False
    return True


def volume_at(source: Source, start: int, span: Span | None = None) -> Volume | None:
    """The volume that begins at byte `start`; within `span`, or to the end of the medium."""
    if start < 0 or source.size - start < SMALLEST:
        return None
    room = span or Span(start, source.size)
    window = Window(source, room)
    for name, system in file_systems().items():
        try:
            facts = system.probe(window)
        except (FormatError, SourceError):
            continue
        if facts is not None:
            size = max(SMALLEST, min(facts.size, source.size - start))
            # A file system larger than its partition: the table is wrong, or was changed since.
            return Volume(Span(start, start + size), facts, name)
    return None


def _ranked(found: list[Volume]) -> list[Volume]:
    """The volumes whose claims hold, by place. Of two that overlap, the better proven stays."""
    def evidence(volume: Volume) -> tuple[bool, bool, bool, int]:
        return (bool(volume.file_system), volume.facts.state is VolumeState.SOUND,
                bool(volume.named_by), volume.span.size)

    kept: list[Volume] = []
    for volume in sorted(found, key=evidence, reverse=True):
        if not any(_overlap(volume.span, other.span) for other in kept):
            kept.append(volume)
    return sorted(kept, key=lambda v: v.span.start)


def _overlap(one: Span, two: Span) -> bool:
    return one.start < two.stop and two.start < one.stop


def open_volume(source: Source, volume: Volume) -> Reader:
    """A reader for `volume`; FormatError where nothing of it can be read."""
    system: FileSystem | None = file_systems().get(volume.file_system)
    if system is None:
        raise FormatError("no-file-system", offset=volume.span.start)
    return system.open(Window(source, volume.span))


def lost_volumes(data: bytes | memoryview, base: int, source: Source,
                 known: Collection[Volume] = ()) -> Iterator[Volume]:
    """Volumes whose marks stand in the sectors `data`, read from byte `base` of `source`.

    `known`: volumes that are known already; what stands inside one and has its serial number is a
    copy of its own superblock, as journals keep them, and tells nothing new.
    """
    for at, system in marks_in(data, source.sector_size):
        starts = {mark.start(source, base + at) for mark in system.marks
                  if data[at + mark.at : at + mark.at + len(mark.magic)] == mark.magic}
        if starts & {volume.span.start for volume in known}:
            continue
        for start in sorted(s for s in starts if s is not None):
            volume = volume_at(source, start)
            if volume is not None and volume.file_system == system.name and not any(
                    _copy_of(volume, base + at, other) for other in known):
                yield replace(volume, facts=_state(volume.facts, VolumeState.LOST))


def _copy_of(volume: Volume, at: int, other: Volume) -> bool:
    """Whether what was found at byte `at` is a copy of `other`'s own superblock."""
    same = volume.facts.serial and volume.facts.serial == other.facts.serial
    return bool(same) and other.span.start <= at < other.span.stop


def marks_in(data: bytes | memoryview, sector: int) -> Iterator[tuple[int, FileSystem]]:
    """(byte, file system) of each sector of `data` in which one of its marks stands."""
    table = np.frombuffer(data, np.uint8, len(data) // sector * sector).reshape(-1, sector)
    for system in file_systems().values():
        hits: set[int] = set()
        for mark in system.marks:
            magic = np.frombuffer(mark.magic, np.uint8)
            first = np.flatnonzero(table[:, mark.at] == magic[0])
            good = (table[first, mark.at : mark.at + magic.size] == magic).all(axis=1)
            hits.update(first[good].tolist())
        for row in sorted(hits):
            yield row * sector, system
