"""One candidate of the signature search: followed, claimed, placed inside a broken one."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from functools import lru_cache

import numpy as np

from needlewright.core.errors import FormatError, SourceError
from needlewright.core.formats.base import Format
from needlewright.core.formats.registry import formats
from needlewright.core.kernels.signatures import (
    Pattern,
    SignatureTable,
    build_table,
    find_signatures,
)
from needlewright.core.search.bounds import borne_out
from needlewright.core.search.plan import Plan
from needlewright.core.sources.budget import Budget
from needlewright.core.sources.careful import Past, first_unreadable, read_past
from needlewright.core.sources.source import Source, Span
from needlewright.core.sources.windows import Window
from needlewright.core.stopping import StopSignal
from needlewright.core.walks import Break, Check, Kind, Outcome, Walk

HEAD_BYTES = 64
READ_TRIES = 4  # of a walk over bytes that cannot be read
STRONG_BYTES = 3  # of a signature that another file is told by
BLOCK_BYTES = 1 << 20
OPEN_PARENTS = 32  # broken finds that are remembered, the innermost last


class _Watched(Window):
    """The source up to an edge, for one walk: what it costs is counted, and it hears the stop."""

    def __init__(self, source: Source, edge: int, start: int, stop: StopSignal) -> None:
        super().__init__(source, Span(0, edge))
        self.budget = Budget(start, stop)

    def read_into(self, offset: int, target: memoryview) -> int:
        assert self.budget is not None
        self.budget.read(offset, min(len(target), self.size - offset))
        return super().read_into(offset, target)


def chosen_formats(plan: Plan) -> tuple[Format, ...]:
    """The formats that `plan` asks for, of any of whose variants the kind is wanted."""
    return tuple(
        f for f in formats().values()
        if (not plan.formats or f.name in plan.formats)
        and (not plan.kinds or plan.kinds & kinds_of(f)))


def kinds_of(form: Format) -> frozenset[Kind]:
    """The kinds that finds of this format may have; scraps are no kind that anybody looks for."""
    return frozenset(v.kind for v in (form.plain, *form.variants)) - {Kind.SCRAP}


def follow(source: Source, start: int, form: Format, stop: StopSignal,
           bounded: bool = False) -> Walk:
    """The walk from `start`, past what cannot be read, which is told as a failed check; where that
    is too much, as far as it can be read. `bounded`: the source ends where the file does, so that
    nothing behind its damage is a stranger.

    Raises FormatError where nothing of use is there, Interrupted when `stop` is set meanwhile.
    """
    edge, past = source.size, Past(source)
    for _ in range(READ_TRIES):
        try:
            walk = form.walk(_Watched(past, edge, start, stop), start, edge)
        except SourceError as error:
            if error.code != "source-range":
                raise
            edge = min(edge, first_unreadable(source, error.values["start"], edge))
            continue
        walk = _with_stranger(past, walk, stop)
        if not bounded:
            walk = borne_out(past, walk, stop, *strong_signatures())
        elif walk.guessed and walk.broken is not None and walk.broken.offset < edge:
            # Where the file ends is known from elsewhere: so much stands in front of its damage.
            walk = replace(walk, share=round((walk.broken.offset - start) / (edge - start), 4))
        if edge != source.size:
            check = Check("source", Outcome.FAIL, "unreadable-from", {"offset": edge - start})
            walk = replace(walk, checks=(check, *walk.checks))
        return _with_lost(past, walk)
    raise FormatError("medium-unreadable", offset=start)


@lru_cache(maxsize=1)
def strong_signatures() -> tuple[SignatureTable, tuple[Format, ...]]:
    """The signatures that are too long to stand anywhere by chance, and whose they are."""
    pairs = [(f, s) for f in formats().values() for s in f.signatures
             if not s.weak and len(s.magic) >= STRONG_BYTES]
    return build_table([Pattern(s.magic, s.at, s.mask) for _, s in pairs]), tuple(
        f for f, _ in pairs)


def _with_stranger(source: Source, walk: Walk, stop: StopSignal) -> Walk:
    """`walk`, broken where another whole file begins at a sector inside what nothing could judge.

    Lengths are believed only as far as the contents bear them out: of a file that is cut off, the
    stated rest may be the next files on the medium.
    """
    if walk.broken is not None or not walk.opaque:
        return walk
    table, owners = strong_signatures()
    sector = source.sector_size
    for begin, end in walk.opaque:
        # What lies behind a place that a check doubts is claimed by nobody.
        end = min([end, *(walk.start + place for place in _doubted(walk))])
        first = begin + (walk.start - begin) % sector
        for at in range(first, end - HEAD_BYTES, BLOCK_BYTES):
            data = np.frombuffer(read_past(source, at, min(BLOCK_BYTES, end - at)), np.uint8)
            offsets, which = find_signatures(data, sector, table)
            for offset, index in zip(offsets.tolist(), which.tolist()):
                if _is_whole(source, at + offset, owners[index], stop):
                    check = Check("source", Outcome.FAIL, "file-inside",
                                  {"offset": at + offset - walk.start})
                    place = Break(at + offset, "file-inside", at + offset)
                    total = max(1, walk.stop - walk.start)
                    return replace(walk, broken=place, verified=at + offset,
                                   share=round(min(0.9999, (at + offset - walk.start) / total), 4),
                                   checks=(check, *walk.checks))
    return walk


def _is_whole(source: Source, start: int, form: Format, stop: StopSignal) -> bool:
    if not form.accept(read_past(source, start, HEAD_BYTES)):
        return False
    try:
        inner = form.walk(_Watched(source, source.size, start, stop), start, source.size)
    except FormatError:
        return False
    except SourceError as error:
        if error.code != "source-range":
            raise
        return False
    return inner.broken is None and inner.ended and not inner.remnant


def _with_lost(source: Source, walk: Walk) -> Walk:
    lost = source.lost_within(walk.start, walk.stop)
    if not lost:
        return walk
    share = lost / max(1, walk.stop - walk.start)
    check = Check("source", Outcome.FAIL, "sectors-lost", {"bytes": lost, "share": share})
    return replace(walk, checks=(check, *walk.checks))


def _doubted(walk: Walk) -> list[int]:
    """Bytes from the file's start at which checks doubt it."""
    return [int(c.values["offset"]) for c in walk.checks if "offset" in c.values
            and c.outcome in (Outcome.FAIL, Outcome.DOUBT)]


def claimed_by(walk: Walk, step: int) -> int:
    """First byte that may begin another find; `step` is how far apart candidates are.

    A sound file claims its bytes. A broken one claims what is surely its own: up to the damage
    where its picture or samples show it, else no more than its first sector, since another file may
    begin in any sector behind it.
    """
    first = walk.start + step
    if walk.broken is None:
        # A check may doubt what the structure says nothing about, and where.
        doubted = _doubted(walk)
        sure = walk.stop if walk.verified is None else min(walk.verified, walk.stop)
        return max(first, walk.start + min(doubted)) if doubted else max(first, sure)
    if walk.verified is not None:
        return max(first, min(walk.verified, walk.stop))
    if walk.broken.row is None:
        return first
    return max(first, min(walk.broken.offset, walk.stop))


@dataclass(slots=True)
class Claims:
    """Which bytes belong to a find already, and which broken finds lie around a place."""

    until: int
    _broken: list[Walk] = field(default_factory=list)
    _names: dict[int, str] = field(default_factory=dict)

    def add(self, walk: Walk, name: str, step: int) -> None:
        self.until = max(self.until, claimed_by(walk, step))
        if walk.stop > self.until:
            self.open(walk, name)

    def open(self, walk: Walk, name: str) -> None:
        """Remember a broken find, inside which others may lie."""
        self._broken = [w for w in self._broken if w.start != walk.start][-OPEN_PARENTS:] + [walk]
        self._names[walk.start] = name
        self._names = {w.start: self._names[w.start] for w in self._broken}

    def parent(self, start: int) -> tuple[int, str] | None:
        """(start, format) of the innermost broken find around `start`, or None."""
        for walk in reversed(self._broken):
            if walk.start < start < walk.stop:
                return walk.start, self._names[walk.start]
        return None
