"""The interface of a file system: facts, allocation, entries live and removed, their extents.

All offsets are bytes from the start of the volume, which is a source of its own. Readers never
raise for a damaged part where the rest can be read: they tell a `Problem` and go on.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from enum import StrEnum
from typing import Any, NamedTuple

from needlewright.core.errors import FormatError, SourceError
from needlewright.core.sources.source import Source
from needlewright.core.stopping import Interrupted, StopSignal
from needlewright.core.volumes.allocation import Allocation
from needlewright.core.volumes.stamps import Stamp

SMALL_HOLE = 1 << 16  # bytes that a removed file may lack without being doubted
SPARSE_TIMES = 64  # as many times its volume may a file be that is there
MAX_PROBLEMS = 1000  # that are told of one volume
MAX_DEPTH = 256  # folders inside folders; deeper ones are a loop or malice

Extents = tuple[tuple[int | None, int], ...]  # (byte on the volume or None: a hole, length)


class VolumeState(StrEnum):
    """How a volume stands on its medium."""

    SOUND = "sound"
    DAMAGED = "damaged"  # read with the help of copies, or only in part
    LOST = "lost"  # no table names it any more
    LOCKED = "locked"  # encrypted as a whole


class Placed(StrEnum):
    """How surely the extents of an entry are known."""

    EXACT = "exact"  # the file system states them
    CHAIN = "chain"  # an old chain or an older copy states them
    GUESS = "guess"  # only the beginning is known
    NONE = "none"  # nothing says where it lay


Doubts = tuple[tuple[str, Mapping[str, Any]], ...]  # codes and values


class Problem(NamedTuple):
    """Something damaged that was passed over: a code, its values, and the byte where it lies."""

    code: str
    offset: int
    values: Mapping[str, Any] = {}


class Times(NamedTuple):
    """What a record says of a file's times; None where it says nothing."""

    created: Stamp | None = None
    modified: Stamp | None = None
    accessed: Stamp | None = None
    removed: Stamp | None = None


NO_TIMES = Times()


@dataclass(frozen=True, slots=True)
class VolumeFacts:
    """What a volume says of itself. Sizes in bytes; `limits`: codes of what its reader cannot do.
    """

    kind: str
    size: int
    cluster_size: int
    label: str = ""
    serial: str = ""
    state: VolumeState = VolumeState.SOUND
    limits: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Coded:
    """A stretch of a file that is stored compressed. `extents` hold it; `length` bytes of the file
    come of it, behind `skip` that belong to no part of this file. `made`: what unpacking makes in
    all. `coding`: one of `codings`.
    """

    extents: Extents
    length: int
    coding: str
    made: int
    skip: int = 0


CodedParts = tuple[Coded | tuple[int | None, int], ...]


@dataclass(frozen=True, slots=True)
class Entry:
    """A file as a record names it; folders are told only where they matter.

    `path`: folders and name, joined by "/", without a leading one; "" where no name is left.
    `record_at`: where the record
    lies. `extents`: in file order, together `size` bytes. `data`: the content where the record
    itself holds it. `coded`: where it is compressed, the whole file instead of `extents`. `first`:
    where it begins, if no more than that is known. `doubts`: codes and values of what makes the
    record less sure. `locked`: encrypted, so the bytes are of no use.
    """

    path: str
    size: int
    record_at: int
    removed: bool
    times: Times = NO_TIMES
    placed: Placed = Placed.EXACT
    extents: Extents = ()
    data: bytes | None = None
    coded: CodedParts = ()
    first: int | None = None
    doubts: Doubts = ()
    locked: bool = False
    version: str = ""  # which of several versions, where a file system keeps them
    loose: int = 0  # bytes by which the stated size may be too large; 0: it is exact

    @property
    def name(self) -> str:
        return self.path.rsplit("/", 1)[-1]


@dataclass(slots=True)
class Problems:
    """Collects problems, as many as anybody would read."""

    found: list[Problem] = field(default_factory=list)

    def add(self, code: str, offset: int, **values: Any) -> None:
        if len(self.found) < MAX_PROBLEMS:
            self.found.append(Problem(code, offset, values))


class Reader(ABC):
    """An open file system. Subclasses read on creation what everything else needs."""

    def __init__(self, volume: Source, facts: VolumeFacts) -> None:
        self.facts = facts
        self._volume = volume
        self._problems = Problems()
        #: Heard while free space is looked through, which is most of a large drive.
        self.stop: StopSignal | None = None

    @property
    def problems(self) -> list[Problem]:
        """What was damaged so far."""
        return self._problems.found

    def allocation(self) -> Allocation | None:
        """Which clusters are in use; None where that cannot be told."""
        return None

    @abstractmethod
    def live(self) -> Iterator[Entry]:
        """All files that are there."""

    @abstractmethod
    def removed(self) -> Iterator[Entry]:
        """Files that records still name although they were removed; live ones never."""

    def placements(self, entry: Entry) -> Iterator[Extents]:
        """Where the content of `entry` may lie, the most likely first."""
        if entry.extents:
            yield entry.extents

    def claim(self, extents: Extents) -> None:  # noqa: B027 - most know all extents exactly
        """These bytes are proven to belong to a removed file: later guesses pass over them."""

    def _fitting(self, count: int, unit: int, first: int = 0) -> int:
        """How many of `count` clusters a damaged size may claim: as many as there is room for."""
        return max(0, min(count, -(-(self._volume.size - first) // unit)))

    def _read(self, at: int, length: int, code: str = "record-unreadable") -> bytes:
        """Exactly `length` bytes; zeros, and a problem, where they cannot be read. Interrupted when
        told to stop."""
        if self.stop is not None and self.stop.is_set():
            raise Interrupted
        try:
            return self._volume.read_at(at, length).ljust(length, b"\0")
        except SourceError:
            self._problems.add(code, at)
            return bytes(length)


@dataclass(frozen=True, slots=True)
class FileSystem:
    """One file system, as its module registers it.

    `probe(volume)`: its facts if it begins at byte 0 of `volume`, else None. `open(volume)`: a
    reader; raises FormatError where nothing can be read. `marks`: what gives away a volume that no
    table names.
    """

    name: str
    probe: Callable[[Source], VolumeFacts | None]
    open: Callable[[Source], Reader]
    marks: Sequence[Mark] = ()


@dataclass(frozen=True, slots=True)
class Mark:
    """Bytes that give a file system away: `magic` at `at` bytes from where it stands.

    `start(source, where)`: the volume's first byte, given the sector `where` in which the mark was
    found; None where it does not hold.
    """

    magic: bytes
    at: int
    start: Callable[[Source, int], int | None]


def believed(entry: Entry, room: int) -> Entry:
    """`entry`, its size believed only as far as what is stored of it on a volume of `room` bytes.

    A removed file's record may be half written over: no more of it is hole than is stored, nothing
    is longer than the volume, and a hole at its end says nothing. Files that are there may be
    sparse, within reason.
    """
    if entry.data is not None:
        return entry if entry.size <= len(entry.data) else replace(entry, size=len(entry.data))
    parts = entry.coded or entry.extents
    if not parts:
        return entry
    holes = sum(_hole(part) for part in parts)
    stored = sum(_stored(part) for part in parts)
    most = max(stored, SMALL_HOLE) if entry.removed else SPARSE_TIMES * room
    if stored == 0 and entry.removed:
        return replace(entry, extents=(), coded=(), placed=Placed.NONE)
    if holes <= most and stored <= room:
        return entry
    while parts and _hole(parts[-1]):
        holes -= _hole(parts[-1])
        parts = parts[:-1]
    if holes > most or stored > room or not parts:
        return replace(entry, extents=(), coded=(), placed=Placed.NONE, doubts=(
            *entry.doubts, ("size-wrong", {"bytes": entry.size})))
    size = sum(part[1] if isinstance(part, tuple) else part.length for part in parts)
    kept = replace(entry, size=size, doubts=(*entry.doubts, ("size-wrong", {"bytes": entry.size})))
    if entry.coded:
        return replace(kept, coded=parts)
    return replace(kept, extents=cut([p for p in parts if isinstance(p, tuple)], size))


def _hole(part: Coded | tuple[int | None, int]) -> int:
    return part[1] if isinstance(part, tuple) and part[0] is None else 0


def _stored(part: Coded | tuple[int | None, int]) -> int:
    extents = (part,) if isinstance(part, tuple) else part.extents
    return sum(length for offset, length in extents if offset is not None)


def stated(facts: VolumeFacts | None, kind: str) -> VolumeFacts:
    """What a probe found; FormatError where that is nothing."""
    if facts is None:
        raise FormatError("no-volume", offset=0, kind=kind)
    return facts


def path_in(folder: str, name: str) -> str:
    """The path of `name` in `folder` ("" is the root)."""
    return f"{folder}/{name}" if folder else name


def cut(extents: Sequence[tuple[int | None, int]], size: int) -> Extents:
    """The first `size` bytes of `extents`, neighbours joined; shorter where there are not as many.
    """
    out: list[tuple[int | None, int]] = []
    for offset, length in extents:
        length = min(length, size)
        if length <= 0:
            continue
        size -= length
        if out:
            before, so_far = out[-1]
            joins = (before is None and offset is None) or (
                before is not None and offset is not None and before + so_far == offset)
            if joins:
                out[-1] = (before, so_far + length)
                continue
        out.append((offset, length))
    return tuple(out)
