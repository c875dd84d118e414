"""The step *signatures*: files known by their first bytes, followed by their own structure.

One pass over the area. A sound file claims its bytes, so what lies inside it is not reported
again; what lies behind the damage of a broken one is.
"""

from __future__ import annotations

import time
from collections.abc import Iterator
from dataclasses import dataclass, field, replace

import numpy as np

from needlewright.core.checks.decoding import DecodeReport, DecodeRequest
from needlewright.core.checks.grading import judge
from needlewright.core.errors import FormatError, SourceError
from needlewright.core.formats.base import Check, Format, Outcome, Walk
from needlewright.core.formats.registry import formats
from needlewright.core.kernels.signatures import SignatureTable, build_table, find_signatures
from needlewright.core.search.events import (
    Ending,
    Event,
    Find,
    Finished,
    Found,
    Note,
    Progress,
)
from needlewright.core.search.registry import Context, Step, register
from needlewright.core.sources.careful import first_unreadable, read_around
from needlewright.core.sources.source import Source, Span
from needlewright.core.sources.windows import Window

NAME = "signatures"
BLOCK_BYTES = 1 << 20  # read at once, into one buffer that is used again
PENDING_DECODES = 12
PROGRESS_EVERY_BYTES = 4 << 20
HEAD_BYTES = 64
READ_TRIES = 4  # of a walk over bytes that cannot be read


@dataclass(slots=True)
class _Pass:
    """The state of one pass. `claimed`: bytes before this belong to a find already."""

    context: Context
    chosen: tuple[Format, ...]
    table: SignatureTable
    owner: tuple[Format, ...]
    at: int
    claimed: int
    started: float
    begun_at: int
    told: int
    pending: dict[int, int] = field(default_factory=dict)  # start of a find -> how many wait

    @property
    def checkpoint(self) -> int:
        return min([self.at, *self.pending])

    def progress(self) -> Progress:
        area = self.context.area
        seconds = time.monotonic() - self.started
        speed = (self.at - self.begun_at) / seconds if seconds > 0.2 else 0.0
        left = (area.stop - self.at) / speed if speed > 0 else None
        return Progress(NAME, self.at - area.start, area.size, self.checkpoint, speed, left)


def run(context: Context) -> Iterator[Event]:
    """Search the area of `context` for the formats of the plan's kinds."""
    chosen = tuple(
        f for f in formats().values() if not context.plan.kinds or f.kind in context.plan.kinds)
    pairs = [(f, s) for f in chosen for s in f.signatures]
    table = build_table([(s.magic, s.at) for _, s in pairs])
    state = _Pass(context, chosen, table, tuple(f for f, _ in pairs), context.begin,
                  context.begin, time.monotonic(), context.begin, context.begin)
    stopped = False
    block = bytearray(BLOCK_BYTES)
    yield state.progress()
    while state.at < context.area.stop:
        if context.stop.is_set():
            stopped = True
            break
        try:
            yield from _search_block(state, block)
        except SourceError:
            # The medium is gone; what was read before that is still worth its checks.
            while context.decoders.pending and not context.stop.is_set():
                yield from _settled(state, wait_s=0.1)
            raise
        if state.at - state.told >= PROGRESS_EVERY_BYTES:
            state.told = state.at
            yield from _settled(state, wait_s=0.0)
            yield state.progress()
    while context.decoders.pending and not (stopped := stopped or context.stop.is_set()):
        yield from _settled(state, wait_s=0.1)
        yield state.progress()
    yield Finished(NAME, Ending.STOPPED if stopped else Ending.DONE, state.checkpoint)


def _search_block(state: _Pass, block: bytearray) -> Iterator[Event]:
    source, area = state.context.source, state.context.area
    length = min(len(block), area.stop - state.at)
    base = state.at
    view = memoryview(block)[:length]
    try:
        read = source.read_into(base, view)
    except SourceError as error:
        if error.code != "source-range":
            raise
        read, bad = read_around(source, base, view)
        for span in bad:
            yield Note("range-unreadable", {
                "start": span.start, "stop": span.stop, "reason": error.values.get("reason", "")})
    if read == 0:
        state.at = area.stop
        return
    data = np.frombuffer(block, np.uint8)[:read]
    offsets, which = find_signatures(data, source.sector_size, state.table)
    for offset, index in zip(offsets.tolist(), which.tolist()):
        if state.context.stop.is_set():
            state.at = base + offset  # a later run takes this candidate up again
            return
        if base + offset >= state.claimed:
            yield from _candidate(state, base + offset, state.owner[index],
                                  bytes(data[offset : offset + HEAD_BYTES]))
    state.at = base + read


def _candidate(state: _Pass, start: int, form: Format, head: bytes) -> Iterator[Event]:
    source = state.context.source
    if len(head) < HEAD_BYTES:
        head = source.read_at(start, HEAD_BYTES)
    if not form.accept(head):
        return
    try:
        walk = _walk(source, start, form)
    except FormatError:
        return
    lost = source.lost_within(walk.start, walk.stop)
    if lost:
        share = lost / max(1, walk.stop - walk.start)
        check = Check("source", Outcome.FAIL, "sectors-lost", {"bytes": lost, "share": share})
        walk = replace(walk, checks=(check, *walk.checks))
    state.claimed = max(state.claimed, _claim(walk, source.sector_size))
    if form.decoder and _worth_decoding(walk):
        while state.context.decoders.pending >= PENDING_DECODES:
            yield from _settled(state, wait_s=0.2)
            if state.context.stop.is_set():
                break
        state.pending[start] = state.pending.get(start, 0) + 1
        state.context.decoders.submit((walk, form.name), _request(state, walk, form))
    else:
        yield _found(form, walk, None)


def _walk(source: Source, start: int, form: Format) -> Walk:
    """The walk from `start`; where its bytes cannot be read, as far as they can."""
    edge = source.size
    for _ in range(READ_TRIES):
        try:
            walk = form.walk(Window(source, Span(0, edge)), start, edge)
        except SourceError as error:
            if error.code != "source-range":
                raise
            edge = min(edge, first_unreadable(source, error.values["start"], edge))
            continue
        if edge == source.size:
            return walk
        check = Check("source", Outcome.FAIL, "unreadable-from", {"offset": edge - start})
        return replace(walk, checks=(check, *walk.checks))
    raise FormatError("the medium cannot be read here", offset=start)


def _claim(walk: Walk, sector: int) -> int:
    """First byte that may begin another find.

    Where the headers themselves break, a foreign file may begin in any sector behind the first.
    """
    if walk.broken is None:
        return walk.stop
    if walk.broken.row is None:
        return walk.start + sector
    return max(walk.start + sector, min(walk.broken.offset, walk.stop))


def _worth_decoding(walk: Walk) -> bool:
    implausible = any(c.code == "dimensions-implausible" for c in walk.checks)
    return not implausible and walk.stop > walk.start


def _request(state: _Pass, walk: Walk, form: Format) -> DecodeRequest:
    preview = None
    if walk.preview is not None:
        preview = (walk.preview[0] - walk.start, walk.preview[1] - walk.start)
    pixels = (walk.facts.width or 0) * (walk.facts.height or 0)
    return DecodeRequest(
        state.context.source, ((walk.start, walk.stop - walk.start),), form.decoder, pixels,
        preview)


def _settled(state: _Pass, wait_s: float) -> Iterator[Event]:
    for (walk, name), report in state.context.decoders.results(wait_s):
        left = state.pending.pop(walk.start) - 1
        if left:
            state.pending[walk.start] = left
        yield _found(formats()[name], walk, report)


def _found(form: Format, walk: Walk, report: DecodeReport | None) -> Found:
    verdict = judge(walk, report)
    return Found(Find(
        form.name, form.kind, form.extension, ((walk.start, walk.stop - walk.start),),
        verdict.grade, verdict.share, (NAME,), verdict.checks, walk.facts, walk.parts,
        walk.preview, verdict.damage_row, report.thumbnail if report else b"",
    ))


register(Step(NAME, order=40, run=run))
