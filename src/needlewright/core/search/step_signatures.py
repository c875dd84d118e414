"""The step *signatures*: files known by their first bytes, followed by their own structure.

One pass over the area, at sector boundaries or at every byte. A sound file claims its bytes, so
what lies inside it is not reported again; what lies behind the damage of a broken one is, and is
linked to it. Damage that only a decoder notices gives the bytes behind it back: they are searched
once more at the end.
"""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Generator, Iterable, Iterator
from dataclasses import dataclass, field

import numpy as np

from needlewright.core.checks.decoding import DecodeReport
from needlewright.core.errors import FormatError, SourceError
from needlewright.core.formats.base import Format
from needlewright.core.kernels.look import look
from needlewright.core.kernels.signatures import Pattern, SignatureTable, build_table
from needlewright.core.kernels.texture import BLOCK_BYTES as TEXTURE_BYTES
from needlewright.core.kernels.texture import Texture
from needlewright.core.search.carving import (
    HEAD_BYTES,
    Claims,
    chosen_formats,
    follow,
)
from needlewright.core.search.deciding import (
    Case,
    damaged_from,
    find_of,
    preview_find,
)
from needlewright.core.search.dialogue import WAIT_S, Dialogue, Turn
from needlewright.core.search.events import (
    Ending,
    Event,
    Finished,
    Found,
    Note,
    Progress,
    Rechecked,
    Seen,
)
from needlewright.core.search.registry import Context, Step, register
from needlewright.core.search.spans import (
    Spans,
    covers,
    in_use,
    next_free,
    next_used,
    no_spans,
)
from needlewright.core.sources.careful import read_around, read_past
from needlewright.core.sources.source import Span
from needlewright.core.stopping import Interrupted
from needlewright.core.walks import Kind

NAME = "signatures"
BLOCK_BYTES = 1 << 19  # read at once, into one buffer that is used again and stays in the cache
OVERLAP = 128  # bytes kept of the block before, where signatures may straddle
PROGRESS_EVERY_BYTES = 4 << 20
HOLE_BYTES = 1 << 30  # of a hole, told at once
MAX_AGAIN = 10_000  # stretches that are searched once more


@dataclass(slots=True)
class _Pass:
    """The state of one pass over `area`. `at`: everything before it has been looked at.

    `known`: what belongs to whole finds already. `in_use`: what is passed over, as a file system
    uses it. `again`: stretches to be searched once more.
    """

    context: Context
    dialogue: Dialogue[Case]
    table: SignatureTable
    owner: tuple[Format, ...]
    area: Span
    at: int
    claims: Claims
    started: float
    begun_at: int
    told: int
    again: deque[Span] = field(default_factory=deque)
    texture: bool = False
    known: Spans = field(default_factory=no_spans)
    in_use: Spans = field(default_factory=no_spans)

    @property
    def step(self) -> int:
        return 1 if self.context.plan.every_byte else self.context.source.sector_size

    @property
    def checkpoint(self) -> int:
        waiting = (case.walk.start for case in self.dialogue.open)
        return min([self.at, *waiting, *(s.start for s in self.again)])

    def progress(self) -> Progress:
        area = self.context.area
        seconds = time.monotonic() - self.started
        speed = (self.at - self.begun_at) / seconds if seconds > 0.2 else 0.0
        left = (area.stop - self.at) / speed if speed > 0 else None
        return Progress(NAME, self.at - area.start, area.size, self.checkpoint, speed, left)


def run(context: Context) -> Iterator[Event]:
    """Search the area of `context` for the formats that its plan wants."""
    pairs = [(f, s) for f in chosen_formats(context.plan) for s in f.signatures]
    table = build_table([Pattern(s.magic, s.at, s.mask, s.weak) for _, s in pairs])
    state = _Pass(
        context, Dialogue(context.decoders, context.plan.every_frame, context.stop), table,
        tuple(f for f, _ in pairs), context.area, context.begin,
        Claims(context.begin), time.monotonic(), context.begin, context.begin,
        texture=context.plan.texture, known=context.knowledge.whole())
    if context.plan.free_only:
        state.in_use = in_use(context.source)
    context.decoders.keep_free = True
    yield state.progress()
    stopped = yield from _over(state)
    context.decoders.keep_free = False
    while not stopped and (state.dialogue.open or state.again):
        yield from _told(state, state.dialogue.settled(WAIT_S))
        yield state.progress()
        if not state.dialogue.open and state.again:
            stopped = yield from _once_more(state)
        stopped = stopped or context.stop.is_set()
    yield Finished(NAME, Ending.STOPPED if stopped else Ending.DONE, state.checkpoint)


def _over(state: _Pass) -> Generator[Event, None, bool]:
    """Look at everything from `state.at` to the end of its area; returns whether it was stopped."""
    block = bytearray(BLOCK_BYTES + OVERLAP)
    while state.at < state.area.stop:
        if state.context.stop.is_set():
            return True
        try:
            yield from _skip_hole(state)
            if _skip_used(state):
                continue
            yield from _search_block(state, block)
        except Interrupted:
            return True
        except SourceError:
            # The medium is gone; what was read before that is still worth its checks.
            yield from _told(state, state.dialogue.finish())
            raise
        if state.at - state.told >= PROGRESS_EVERY_BYTES:
            state.told = state.at
            yield from _told(state, state.dialogue.settled())
            yield state.progress()
    return state.context.stop.is_set()


def _once_more(state: _Pass) -> Generator[Event, None, bool]:
    """Search the stretches that turned out not to belong to the find that claimed them."""
    whole, end = state.area, state.at
    stopped = False
    while state.again and not stopped:
        span = state.again.popleft()
        state.area, state.at, state.texture = span, span.start, False
        state.claims.until = span.start
        stopped = yield from _over(state)
        if stopped:
            state.again.appendleft(Span(state.at, span.stop))
    state.area, state.at = whole, end
    return stopped


def _skip_hole(state: _Pass) -> Iterator[Event]:
    """Step over what is known to hold nothing, telling that it is blank."""
    source = state.context.source
    data_at = min(source.next_data(state.at), state.area.stop)
    data_at -= data_at % max(TEXTURE_BYTES, source.sector_size) if (
        data_at < state.area.stop) else 0
    while data_at - state.at >= BLOCK_BYTES:
        stop = min(data_at, state.at + HOLE_BYTES)
        if state.texture:
            count = stop // TEXTURE_BYTES - state.at // TEXTURE_BYTES
            yield Seen(state.at // TEXTURE_BYTES * TEXTURE_BYTES, bytes([Texture.BLANK]) * count)
        state.at = stop
        if state.context.stop.is_set():
            return
        if state.at - state.told >= PROGRESS_EVERY_BYTES:
            state.told = state.at
            yield from _told(state, state.dialogue.settled())
            yield state.progress()


def _skip_used(state: _Pass) -> bool:
    """Step over what a file system uses, where only free space is wanted."""
    if not len(state.in_use) or state.at >= state.area.stop:
        return False
    stop = min(next_free(state.in_use, state.at), state.area.stop)
    if stop <= state.at:
        return False
    state.at = stop
    return True


def _search_block(state: _Pass, block: bytearray) -> Iterator[Event]:
    source, area = state.context.source, state.area
    base = state.at
    length = min(len(block) - OVERLAP, area.stop - base)
    if len(state.in_use):
        length = min(length, max(source.sector_size, next_used(state.in_use, base) - base))
    # A signature may begin in the last bytes that are looked at and end behind them.
    ahead = OVERLAP if state.step == 1 else 0
    view = memoryview(block)[: min(length + ahead, source.size - base)]
    read = yield from _read(state, base, view)
    if read == 0:
        state.at = area.stop
        return
    length = min(length, read)
    data = np.frombuffer(block, np.uint8)[:read]
    seen = length if state.texture and base % TEXTURE_BYTES == 0 else 0
    offsets, which, classes = look(data, state.table, source.sector_size,
                                   -base % source.sector_size, state.step == 1, seen)
    if seen:
        yield Seen(base, classes.tobytes())
    for offset, index in zip(offsets.tolist(), which.tolist()):
        if offset >= length:
            break
        if state.context.stop.is_set():
            state.at = base + offset  # a later run takes this candidate up again
            return
        if base + offset >= state.claims.until and not covers(state.known, base + offset):
            state.at = base + offset
            yield from _candidate(state, base + offset, state.owner[index],
                                  bytes(data[offset : offset + HEAD_BYTES]))
    state.at = base + length


def _read(state: _Pass, base: int, view: memoryview) -> Generator[Event, None, int]:
    """Fill `view` from `base`, zeros where the medium cannot be read; returns the bytes read."""
    source = state.context.source
    try:
        return source.read_into(base, view)
    except SourceError as error:
        if error.code != "source-range":
            raise
        read, bad = read_around(source, base, view)
        for span in bad:
            yield Note("range-unreadable", {
                "start": span.start, "stop": span.stop, "reason": error.values.get("reason", "")})
        return read


def _candidate(state: _Pass, start: int, form: Format, head: bytes) -> Iterator[Event]:
    context = state.context
    if len(head) < HEAD_BYTES:
        head = read_past(context.source, start, HEAD_BYTES)
    if not form.accept(head):
        return
    try:
        walk = follow(context.source, start, form, context.stop)
    except FormatError:
        return
    case = Case(walk, form.name, state.claims.parent(start))
    kind = form.kind if case.variant.kind is Kind.SCRAP else case.variant.kind
    if context.plan.kinds and kind not in context.plan.kinds:
        state.claims.add(walk, case.variant.name, state.step)
        return
    state.claims.add(walk, case.variant.name, state.step)
    yield from _told(state, state.dialogue.begin(case, context.source))


def _told(state: _Pass, turns: Iterable[Turn[Case]]) -> Iterator[Event]:
    for turn in turns:
        report = turn.report
        if report is None or report.ok or not turn.case.walk.tentative:
            yield from _find(state, turn.case, report, turn.first)


def _find(state: _Pass, case: Case, report: DecodeReport | None, first: bool) -> Iterator[Event]:
    """The find that `case` is; its preview beside it where it is broken."""
    source = state.context.source
    find, verdict = find_of(case, report, NAME, source.sector_size)
    yield Found(find) if first else Rechecked(find)
    inner = preview_find(case, find, source, NAME, report) if first else None
    if inner is not None:
        yield Found(inner)
    place = damaged_from(case.walk, verdict, report)
    if place is not None and len(state.again) < MAX_AGAIN:
        state.claims.open(case.walk, case.variant.name)
        sector = source.sector_size
        begin = max(case.walk.start + state.step, place // sector * sector)
        if begin < case.walk.stop:
            state.again.append(Span(begin, case.walk.stop))


register(Step(NAME, order=40, run=run))
