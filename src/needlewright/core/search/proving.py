"""Takes the entries of a volume one by one and turns each into a find, proven as far as it goes.

Entries whose place is only guessed and not proven at once wait until all others are placed: what
those own cannot be theirs.
"""

from __future__ import annotations

import zlib
from array import array
from collections import deque
from collections.abc import Iterable, Iterator
from dataclasses import replace

import numpy as np
import numpy.typing as npt

from needlewright.core.contents import Place
from needlewright.core.errors import SourceError
from needlewright.core.finds import Find
from needlewright.core.formats.recognising import extension_of, kind_of_name
from needlewright.core.search.dialogue import Dialogue, Turn
from needlewright.core.search.events import Event, Found, Rechecked
from needlewright.core.search.keeping import Keeping, Kept
from needlewright.core.search.placing import Fate, Placing, place, shifted, walk_file
from needlewright.core.search.record_finds import (
    LOST_FATES,
    RecordCase,
    content_of,
    find_from,
    find_gone,
    find_unwalked,
)
from needlewright.core.search.registry import Context
from needlewright.core.search.rivals import Rivals
from needlewright.core.sources.pieces import PiecedSource
from needlewright.core.sources.source import Source
from needlewright.core.stopping import Interrupted
from needlewright.core.volumes.allocation import Allocation
from needlewright.core.volumes.base import Entry, Extents, Placed, Reader, believed
from needlewright.core.walks import Kind

ROUNDS = 4  # of placing what is not proven yet, while others are
MAX_WAITING = 50_000  # entries that are placed a second time
MAX_TEXT = 16 << 20  # bytes of what is read as text


TABLES_DIFFER = frozenset(("fat-copies-differ",))  # codes of tables that cannot be believed
HOPEFUL = (Fate.THERE, Fate.PARTLY, Fate.FOREIGN)


class _Firsts:
    """Where the files that are there begin, how long they are and how they are called; 20 bytes
    for each."""

    def __init__(self) -> None:
        self._starts, self._sizes, self._names = array("Q"), array("Q"), array("I")
        self._order: npt.NDArray[np.int64] | None = None
        self._sorted: npt.NDArray[np.uint64] = np.zeros(0, np.uint64)

    def add(self, start: int, size: int, name: str) -> None:
        self._starts.append(start)
        self._sizes.append(size)
        self._names.append(_extension_sum(name))
        self._order = None

    def has(self, start: int, size: int, name: str) -> bool:
        """Whether a file of this size and extension begins at `start`."""
        if self._order is None:
            every = np.array(self._starts, np.uint64)
            self._order = np.argsort(every, kind="stable")
            self._sorted = every[self._order]
        low, high = np.searchsorted(self._sorted, [start, start + 1])
        wanted = (size, _extension_sum(name))
        return any((self._sizes[i], self._names[i]) == wanted
                   for i in self._order[low:high].tolist())


def _extension_sum(name: str) -> int:
    return zlib.crc32(extension_of(name).encode("utf-8", "replace"))


class Prover:
    """Makes finds of entries. One at work on a volume at a time: `begin`, `take` each, `finish`."""

    def __init__(self, context: Context, step: str) -> None:
        self._context, self._step = context, step
        self._waiting: deque[tuple[Entry, Kept | None, int]] = deque()
        self._dialogue: Dialogue[RecordCase] = Dialogue(
            context.decoders, context.plan.every_frame, context.stop)
        self._keeping = Keeping(context.source, 0)
        self._reader: Reader | None = None
        self._base = 0
        self._former = False
        self._inside: str | None = None
        self._rivals: Rivals | None = None
        self._mixed = False  # places of some removed files are known exactly, of others guessed
        self._live = _Firsts()
        self._proven: dict[int, int] = {}  # first byte of what is proven -> its size
        self._claimed: Allocation | None = None

    def begin(self, reader: Reader, base: int, former: bool = False,
              inside: str | None = None) -> None:
        """The entries that follow are those of `reader`, whose volume begins at byte `base`;
        `former`: it is there no more; `inside`: the key of the find that holds it."""
        self._former, self._inside = former, inside
        if reader is not self._reader:
            self._keeping = Keeping(self._context.source, base)
            self._live = _Firsts()
            self._proven = {}
            now = reader.allocation()
            self._claimed = None if now is None else now.copy()
            self._rivals = None if now is None else Rivals(now)
            self._mixed = False
            self._again(reader, base)
        self._reader, self._base = reader, base

    def _again(self, reader: Reader, base: int) -> None:
        """What was proven before an interruption stays proven."""
        if not self._context.plan.state:
            return
        for size, content in self._context.knowledge.proven():
            extents = shifted(content.spans(), -base)
            if all(o is None or 0 <= o < reader.facts.size for o, _ in extents):
                self._own(reader, extents, size)

    @property
    def open_numbers(self) -> list[int]:
        """The numbers of the entries taken so far of which not all has been told."""
        return sorted({*(number for _, _, number in self._waiting),
                       *(case.number for case in self._dialogue.open)})

    def note(self, entry: Entry) -> None:
        """Look at an entry beforehand, for what it tells about others."""
        entry = self._believed(entry)
        self._keeping.note(entry)
        if entry.removed and entry.placed in (Placed.EXACT, Placed.CHAIN) and entry.extents:
            self._mixed = True
            if self._rivals is not None:
                self._rivals.add(entry.extents)
        if not entry.removed and entry.extents and entry.extents[0][0] is not None:
            self._live.add(entry.extents[0][0], entry.size, entry.name)

    def _believed(self, entry: Entry) -> Entry:
        assert self._reader is not None
        return believed(entry, self._reader.facts.size)

    @property
    def some_kept(self) -> bool:
        """Whether anything that was noted is, or describes, a file that is still kept."""
        return self._keeping.some

    def kept(self, entry: Entry) -> bool:
        """Whether the file was removed or hidden, and is still kept."""
        return not entry.removed and self._keeping.of(entry) is not None

    def take(self, entry: Entry, number: int = 0) -> Iterator[Event]:
        """The find of `entry`, now or in `finish`; `number`: what it is known by in `open_numbers`.
        Raises Interrupted when told to stop; then it was not taken."""
        entry = self._believed(entry)
        kept = self._keeping.of(entry)
        yield from self._placed(entry, kept, number, may_wait=True)
        yield from self._told(self._dialogue.settled())

    def finish(self, last: bool = True) -> Iterator[Event]:
        """What waited; with `last`, every answer of the decoders too. Raises Interrupted when told
        to stop; `open_numbers` then has what was not told."""
        for attempt in range(ROUNDS):
            before = len(self._waiting)
            for _ in range(before):
                yield from self._next_waiting(may_wait=attempt < ROUNDS - 1)
            if len(self._waiting) == before:
                break  # nobody's proof helps another any more
        while self._waiting:
            yield from self._next_waiting(may_wait=False)
        if last:
            yield from self._told(self._dialogue.finish())

    def _next_waiting(self, may_wait: bool) -> Iterator[Event]:
        entry, kept, number = self._waiting[0]  # it stays open until all of it is told
        if self._context.stop.is_set():
            raise Interrupted
        yield from self._placed(entry, kept, number, may_wait)
        self._waiting.popleft()

    # one entry

    def _placed(self, entry: Entry, kept: Kept | None, number: int,
                may_wait: bool) -> Iterator[Event]:
        reader, context = self._reader, self._context
        assert reader is not None
        if context.plan.kinds and not self._may_be_wanted(entry):
            return
        named = entry.removed and entry.path and entry.placed is Placed.NONE
        if entry.size == 0 and not named:
            return  # an empty file holds nothing that could be lost
        if entry.data is not None or entry.coded:
            yield from self._from_record(entry, kept, number)
            return
        if entry.removed and self._named_elsewhere(entry):
            nothing = PiecedSource(context.source, ())
            yield from self._made(entry, Placing(Fate.MOVED), nothing, kept, number)
            return
        now = None
        if entry.removed:
            now = self._claimed
        placing = place(context.source, self._base, reader, entry, context.stop, now)
        # An exact chain or run list comes before what is only guessed, however well that fits.
        later = self._mixed and may_wait and entry.placed is Placed.GUESS
        if entry.removed and placing.sound and not later:
            self._claim(reader, placing, entry.size)
        elif entry.removed and may_wait and placing.fate in HOPEFUL and (
                len(self._waiting) < MAX_WAITING):
            self._waiting.append((entry, kept, number))
            return
        file = PiecedSource(context.source, placing.content.spans())
        yield from self._made(entry, placing, file, kept, number)

    def _named_elsewhere(self, entry: Entry) -> bool:
        """Whether a file that is there, or is proven, begins where this one did and is as long."""
        first = entry.extents[0][0] if entry.extents else entry.first
        if first is None:
            return False
        return self._proven.get(first) == entry.size or self._live.has(
            first, entry.size, entry.name)

    def _claim(self, reader: Reader, placing: Placing, size: int) -> None:
        """What is proven is nobody else's."""
        spans = placing.content.spans()
        self._own(reader, shifted(spans, -self._base), size)

    def _own(self, reader: Reader, extents: Extents, size: int) -> None:
        """`extents`, of the volume, are a proven file's of `size` bytes."""
        reader.claim(extents)
        if self._claimed is not None:
            self._claimed.take(extents)
        if extents and extents[0][0] is not None and len(self._proven) < MAX_WAITING:
            self._proven[extents[0][0]] = size

    def _exact(self, entry: Entry, placing: Placing) -> bool:
        """Whether the record alone says which bytes the file has, and nothing says otherwise."""
        if entry.data is not None:
            return True
        if not entry.removed:  # of which nobody but the tables says where it lies
            assert self._reader is not None
            return not any(p.code in TABLES_DIFFER for p in self._reader.problems)
        if self._rivals is None or self._former or entry.placed is not Placed.EXACT:
            return False
        extents = shifted(placing.content.spans(), -self._base)
        return not entry.doubts and not self._rivals.contested(extents)

    def _may_be_wanted(self, entry: Entry) -> bool:
        kind = kind_of_name(entry.name)[0]
        return kind in self._context.plan.kinds or kind is Kind.OTHER

    def _from_record(self, entry: Entry, kept: Kept | None, number: int) -> Iterator[Event]:
        """Content that the record holds itself, or that is stored compressed."""
        content = content_of(entry, self._base)
        source = content.open(Place(self._context.source))
        thread = PiecedSource(source, ((0, source.size),))
        try:
            form, walk = walk_file(thread, entry.name, self._context.stop, bounded=True)
        except SourceError:
            form, walk = None, None
        trailer = thread.size - walk.stop if walk is not None and walk.ended else 0
        placing = Placing(Fate.THERE, content, form, walk, trailer=trailer)
        yield from self._made(entry, placing, thread, kept, number)

    def _made(self, entry: Entry, placing: Placing, thread: PiecedSource,
              kept: Kept | None, number: int) -> Iterator[Event]:
        if not entry.path and entry.placed is Placed.GUESS and not placing.sound:
            return  # a list of blocks alone: only the content shows that it is one
        if placing.fate in LOST_FATES:
            if not entry.path:
                return  # neither a name nor content: nothing is known of it
            yield from self._found(find_gone(entry, placing, self._base, kept, self._step))
            return
        if placing.walk is None or placing.form is None:
            text = not entry.removed and reads_as_text(thread, entry.name)
            find = find_unwalked(entry, placing, self._base, kept, self._step, text)
            yield from self._found(find)
            return
        case = RecordCase(placing.walk, placing.form.name, None, entry=entry, placing=placing,
                          thread=thread, base=self._base, kept=kept, number=number,
                          exact=self._exact(entry, placing))
        yield from self._told(self._dialogue.begin(case, thread))

    def _found(self, find: Find) -> Iterator[Found]:
        kinds = self._context.plan.kinds
        formats = self._context.plan.formats
        if self._former and find.record is not None:
            find = replace(find, record=replace(find.record, former=True))
        if self._inside is not None:
            find = replace(find, inside=self._inside)
        if (not kinds or find.kind in kinds) and (not formats or find.format in formats):
            yield Found(find)

    # answers

    def _told(self, turns: Iterable[Turn[RecordCase]]) -> Iterator[Event]:
        sector = self._context.source.sector_size
        for turn in turns:
            for found in self._found(find_from(turn.case, turn.report, self._step, sector)):
                yield found if turn.first else Rechecked(found.find)


def reads_as_text(thread: Source, name: str) -> bool:
    """Whether all of a file is text: UTF-8, or UTF-16 with a mark, without control characters."""
    if thread.size > MAX_TEXT or kind_of_name(name)[0] not in (
            Kind.DOCUMENT, Kind.MESSAGE, Kind.CONTACT, Kind.NOTE, Kind.OTHER):
        return False
    try:
        data = thread.read_at(0, thread.size)
        text = data.decode("utf-16" if data[:2] in (b"\xff\xfe", b"\xfe\xff") else "utf-8")
    except (SourceError, UnicodeDecodeError):
        return False
    return bool(text) and not any(ord(c) < 32 and c not in "\t\n\r\f" for c in text)
