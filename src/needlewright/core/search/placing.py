"""Where the content of a record lies, proven by the content itself; and whether it is still there.

A placement that only a record states is a claim. It is proven when the file's own structure runs
from its first byte to its last and is as long as the record says.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum

from needlewright.core.contents import Content, Stretches
from needlewright.core.errors import FormatError, SourceError
from needlewright.core.formats.base import Format
from needlewright.core.formats.recognising import format_of_name, recognise
from needlewright.core.search.carving import follow
from needlewright.core.sources.pieces import PiecedSource
from needlewright.core.sources.source import Source
from needlewright.core.stopping import Interrupted, StopSignal
from needlewright.core.volumes.allocation import Allocation
from needlewright.core.volumes.base import Entry, Extents, Placed, Reader, cut
from needlewright.core.walks import Walk

MAX_PLACEMENTS = 64  # that are walked for one entry
MAX_HEADS = 70_000  # placements whose first bytes are looked at
HEAD_BYTES = 512
SAMPLES = 16  # places of a file that are looked at to call it cleared
SAMPLE_BYTES = 4096
TRAILER_SHARE, TRAILER_BYTES = 0.1, 1 << 16  # of what may follow a file's own end
READ_BYTES = 1 << 20
NEAR = 3  # placements that come before those that suppose a lost half of a number
CLEARLY = 0.05  # share by which a less likely placement must win
NOTHING = Stretches()


class Fate(StrEnum):
    """What became of the bytes of a removed file."""

    THERE = "there"
    PARTLY = "partly"  # some clusters are in use by other files now
    OVERWRITTEN = "overwritten"
    CLEARED = "cleared"
    FOREIGN = "foreign"  # what lies there is another file
    NOWHERE = "nowhere"  # nothing tells where it lay
    LOCKED = "locked"  # encrypted
    MOVED = "moved"  # another record names the same bytes


@dataclass(frozen=True, slots=True)
class Placing:
    """Where an entry's content lies: `content`, with a hole where others use it now.
    `walk`: of the file's bytes, from 0. `reused`: bytes that others use."""

    fate: Fate
    content: Content = NOTHING
    form: Format | None = None
    walk: Walk | None = None
    reused: int = 0
    trailer: int = 0  # bytes behind the file's own end
    padded: bool = False  # ... which are all zero
    rival: bool = False  # another placement is as sound: its headers show nothing of what they hold

    @property
    def sound(self) -> bool:
        """Whether the content proves the placement."""
        walk = self.walk
        return (self.fate is Fate.THERE and walk is not None and walk.ended
                and walk.broken is None and not walk.tentative
                and (not self.trailer or self.padded))


def shifted(extents: Extents, by: int) -> Extents:
    """`extents` of a volume that begins at byte `by` of the source, in bytes of the source."""
    return tuple((None if o is None else o + by, n) for o, n in extents)


def place(source: Source, base: int, reader: Reader, entry: Entry, stop: StopSignal,
          now: Allocation | None) -> Placing:
    """The best placement of `entry`, whose volume begins at byte `base` of `source`. Without a
    name, which is all that is known of what a list of blocks names, two that are sound are rivals.

    `now`: which clusters others use; None for a live entry, whose clusters are its own. Raises
    Interrupted when `stop` is set meanwhile.
    """
    if entry.locked:
        return Placing(Fate.LOCKED)
    best: Placing | None = None
    tried: int = 0
    for number, extents in enumerate(reader.placements(entry)):
        if number >= MAX_HEADS or tried >= MAX_PLACEMENTS:
            break
        far = number > NEAR and entry.placed is Placed.GUESS
        if far and not _promising(source, shifted(extents, base), entry.name):
            continue
        tried += 1
        found = _try(source, base, entry, extents, stop, now)
        if found.sound and best is not None and best.sound:
            return replace(best, rival=True)
        if found.sound and entry.path:
            return found
        if best is None or (not best.sound and (found.sound or _better(found, best))):
            best = found
    return best or Placing(Fate.NOWHERE)


def _promising(source: Source, extents: Extents, name: str) -> bool:
    """Whether the first bytes are those of the format that the name promises; without a name, of
    any."""
    if not name:
        return bool(recognise(_head(PiecedSource(source, extents))))
    form = format_of_name(name)
    return form is not None and form in recognise(_head(PiecedSource(source, extents)), name)


def _head(thread: PiecedSource) -> bytes:
    try:
        return thread.read_at(0, HEAD_BYTES)
    except SourceError:
        return b""


def _better(found: Placing, best: Placing) -> bool:
    """Whether a placement that nothing proves promises clearly more than a likelier one."""
    if (found.walk is None) != (best.walk is None):
        return best.walk is None
    if found.walk is not None and best.walk is not None:
        return found.walk.share > best.walk.share + CLEARLY
    hopeful = (Fate.THERE, Fate.PARTLY)
    return found.fate in hopeful and best.fate not in hopeful and best.fate is not Fate.OVERWRITTEN


def _try(source: Source, base: int, entry: Entry, extents: Extents, stop: StopSignal,
         now: Allocation | None) -> Placing:
    if any(o is not None and (o + base < 0 or o + base + n > source.size) for o, n in extents):
        return Placing(Fate.NOWHERE)
    reused = now.used_bytes(extents) if now is not None else 0
    if reused >= entry.size > 0:
        return Placing(Fate.OVERWRITTEN, reused=reused)
    kept = _without(extents, now) if now is not None and reused else extents
    absolute = shifted(kept, base)
    thread = PiecedSource(source, absolute)
    if kept and kept[0][0] is None and extents[0][0] is not None:
        return Placing(Fate.PARTLY, Stretches(absolute), reused=reused)  # its head is another's
    known = now is None or entry.placed is Placed.EXACT
    form, walk = walk_file(thread, entry.name, stop, bounded=known)
    fate = Fate.PARTLY if reused else Fate.THERE
    if walk is None:
        if now is not None and is_blank(thread, stop):
            fate = Fate.CLEARED
        elif now is not None and not reused and _promised(entry.name):
            fate = Fate.FOREIGN
        return Placing(fate, Stretches(absolute), reused=reused)
    trailer = thread.size - walk.stop if walk.ended and walk.broken is None else 0
    if 0 < trailer < entry.loose:
        absolute, trailer = cut(absolute, walk.stop), 0
    padded = trailer > 0 and _zeros(thread, walk.stop, stop)
    if now is not None and not padded and trailer > max(TRAILER_BYTES, thread.size * TRAILER_SHARE):
        fate = Fate.FOREIGN
    return Placing(fate, Stretches(absolute), form, walk, reused, trailer, padded)


def _promised(name: str) -> bool:
    """Whether the name promises a format that its first bytes would surely tell."""
    form = format_of_name(name)
    return form is not None and any(not s.weak and len(s.magic) > 2 for s in form.signatures)


def walk_file(thread: Source, name: str, stop: StopSignal, bounded: bool = False) -> tuple[
        Format | None, Walk | None]:
    """The format of a file's bytes and their walk; None where they are of no known one.
    `bounded`: all of `thread` is surely the file."""
    try:
        head = thread.read_at(0, HEAD_BYTES)
    except SourceError:
        return None, None
    for form in recognise(head, name):
        try:
            return form, follow(thread, 0, form, stop, bounded)
        except FormatError:
            continue
    return None, None


def _without(extents: Extents, now: Allocation) -> Extents:
    """`extents` with holes where clusters are in use."""
    out: list[tuple[int | None, int]] = []
    for offset, length in extents:
        if offset is None:
            out.append((None, length))
            continue
        for begin, size, used in _pieces(offset, length, now):
            out.append((None if used else begin, size))
    return cut(out, sum(n for _, n in out))


def _pieces(offset: int, length: int, now: Allocation) -> Iterator[tuple[int, int, bool]]:
    """(byte, length, whether in use) of the stretches of one extent, cluster by cluster."""
    at, stop = offset, offset + length
    while at < stop:
        cluster = (at - now.first) // now.unit
        edge = min(stop, now.first + (cluster + 1) * now.unit)
        used = now.used(cluster)
        while edge < stop and now.used((edge - now.first) // now.unit) == used:
            edge = min(stop, edge + now.unit)
        yield at, edge - at, used
        at = edge


def is_blank(file: PiecedSource, stop: StopSignal) -> bool:
    """Whether a file's bytes are all of one value, as after clearing; looked at in samples first.

    Holes are zeros, and are not read.
    """
    stored = [(start, length) for start, length in _stored(file)]
    total = sum(length for _, length in stored)
    if not total:
        return True
    try:
        first = file.read_at(stored[0][0], 1)
        if first not in (b"\0", b"\xff"):
            return False
        for index in range(SAMPLES):
            at = _nth(stored, total * index // SAMPLES)
            if file.read_at(at, SAMPLE_BYTES).strip(first + b"\0"):
                return False
        return all(not file.read_at(at, min(READ_BYTES, start + length - at)).strip(first)
                   for start, length in stored
                   for at in _watched(range(start, start + length, READ_BYTES), stop))
    except SourceError:
        return False


def _stored(file: PiecedSource) -> Iterator[tuple[int, int]]:
    """(byte of the file, length) of what is no hole."""
    at = 0
    for offset, length in file.extents:
        if offset is not None:
            yield at, length
        at += length


def _nth(stored: Sequence[tuple[int, int]], number: int) -> int:
    """The byte of the file that is number `number` of those stored."""
    for start, length in stored:
        if number < length:
            return start + number
        number -= length
    return stored[-1][0]


def _watched(places: range, stop: StopSignal) -> Iterator[int]:
    for at in places:
        if stop.is_set():
            raise Interrupted
        yield at


def _zeros(file: PiecedSource, start: int, stop: StopSignal) -> bool:
    """Whether everything from byte `start` on is zero; holes are, unread."""
    try:
        return all(not file.read_at(at, min(READ_BYTES, begin + length - at)).strip(b"\0")
                   for begin, length in _stored(file) if begin + length > start
                   for at in _watched(range(max(begin, start), begin + length, READ_BYTES), stop))
    except SourceError:
        return False
