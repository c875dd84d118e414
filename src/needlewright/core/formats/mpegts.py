"""MPEG transport streams (ISO/IEC 13818-1, 2.4): packets of 188 bytes, or of 192 with a time stamp
before each, as camcorders and disc recorders write them.

There is no end mark and no length: the stream ends where packets end. A stretch that is not its own
inside is stepped over where the same packets go on behind it, in step.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from needlewright.core.decoders import Decoder
from needlewright.core.errors import FormatError
from needlewright.core.formats.base import Format, Signature
from needlewright.core.formats.registry import register
from needlewright.core.kernels.packets import SYNC, transport_packets
from needlewright.core.sources.source import Source
from needlewright.core.structures.stream_end import cut_at_sector, cut_check
from needlewright.core.structures.view import Parts, View, end_mark, structure
from needlewright.core.walks import Break, Check, Facts, Kind, Outcome, Variant, Walk

BLOCK_PACKETS = 20_000
MIN_PACKETS = 32
LOOK_AHEAD_BYTES = 4 << 20
SURE_PACKETS = 16
CLUSTER = 4096  # bytes: files begin at multiples of it, or nearly all of them
NULL, PAT = 0x1FFF, 0
OPENING = (0x4000, 0x4011)  # PAT and SDT, at the start of a unit
TS = Variant("ts", "ts", Kind.VIDEO, Decoder.CLIP)
M2TS = Variant("m2ts", "m2ts", Kind.VIDEO, Decoder.CLIP)
# The middle of a stream, told by its counters: material for stitching.
SCRAPS = {188: Variant("ts-scrap", "ts", Kind.SCRAP),
          192: Variant("m2ts-scrap", "m2ts", Kind.SCRAP)}
FIRST_PACKETS = 512


@dataclass(slots=True)
class _State:
    view: View
    step: int
    shift: int
    at: int
    packets: int = 0
    lost: int = 0  # packets that were stepped over
    jumps: int = 0
    first_bad: int | None = None
    first_jump: int | None = None
    counters: np.ndarray = field(default_factory=lambda: np.full(8192, -1, np.int64))

    def known(self, pid: int) -> bool:
        return bool(self.counters[pid] >= 0)


def _follow(state: _State) -> None:
    view, step = state.view, state.step
    while True:
        length = min(BLOCK_PACKETS * step, (view.stop - state.at) // step * step)
        if length <= 0:
            return
        data = np.frombuffer(view.source.read_at(state.at, length), np.uint8)
        packets, jumps, first = transport_packets(data, step, state.shift, state.counters)
        if jumps and state.first_jump is None:
            state.first_jump = state.at + first * step
        state.jumps += jumps
        state.packets += packets
        state.at += packets * step
        if packets * step < length and not _step_over(state):
            return


def _step_over(state: _State) -> bool:
    """Whether the stream goes on, in step, behind what stands at `state.at`; moves there if so."""
    view, step = state.view, state.step
    if state.packets < MIN_PACKETS:
        return False
    data = view.source.read_at(state.at, min(LOOK_AHEAD_BYTES, view.stop - state.at))
    for index in range(1, len(data) // step - SURE_PACKETS):
        place = index * step + state.shift
        if data[place] != SYNC:
            continue
        heads = [data[place + k * step : place + k * step + 4] for k in range(SURE_PACKETS)]
        if not all(h[0] == SYNC and not h[1] & 0x80 for h in heads):
            continue
        known = sum(state.known((h[1] & 0x1F) << 8 | h[2]) for h in heads)
        if known * 2 < SURE_PACKETS:
            return False  # another stream
        # Tables open files: one at a sector boundary begins another.
        at_sector = (state.at + index * step - view.start) % view.source.sector_size == 0
        if at_sector and (heads[0][1] & 0x5F) << 8 | heads[0][2] in OPENING:
            return False
        if state.first_bad is None:
            state.first_bad = state.at
        state.lost += index
        state.at += index * step
        state.counters[:] = np.where(state.counters >= 0, -1, state.counters)
        return True
    return False


def _cut_short(state: _State) -> bool:
    """Whether a packet of this stream begins at the end and is not all there."""
    head = state.view.peek(state.at + state.shift, 4)
    if len(head) < 4:
        return len(head) > 0 and head[0] == SYNC
    pid = (head[1] & 0x1F) << 8 | head[2]
    return head[0] == SYNC and not head[1] & 0x80 and pid != NULL and state.known(pid)


def _inside_stream(source: Source, state: _State, counted: bool) -> bool:
    """Whether packets stand in step before the first one: then a table within a stream looks like a
    beginning. Another file may end there, exactly at the end of its last cluster."""
    start, step = state.at, state.step
    if start < 2 * step or (start % CLUSTER == 0 and not counted):
        return False
    before = source.read_at(start - 2 * step + state.shift, step + 1)
    return len(before) == step + 1 and before[0] == before[step] == SYNC


def _first_packets(view: View, start: int, state: _State) -> list[tuple[bool, int]]:
    """(whether it begins a unit, its counter; -1 where that is a table) of the first packet with
    content of each stream (13818-1, 2.4.3.3 and 2.4.3.7)."""
    step, first = state.step, dict[int, tuple[bool, int]]()
    data = view.source.read_at(start, min(FIRST_PACKETS * step, state.at - start))
    for at in range(state.shift, len(data) - 4, step):
        pid = (data[at + 1] & 0x1F) << 8 | data[at + 2]
        if data[at] == SYNC and data[at + 3] & 0x10 and pid not in (PAT, OPENING[1] & NULL, NULL):
            inside = at + 4 + (1 + data[at + 4] if data[at + 3] & 0x20 else 0)
            table = data[inside : inside + 3] != b"\0\0\1"
            first.setdefault(pid, (bool(data[at + 1] & 0x40), -1 if table else data[at + 3] & 15))
    return list(first.values())


def walk(source: Source, start: int, stop: int) -> Walk:
    """Follow the stream at `start`, never past `stop`; FormatError if none begins there."""
    view, parts = View(source, start, stop), Parts()
    plain = view.take(start, 1)[0] == SYNC and view.take(start + 188, 1)[0] == SYNC
    state = _State(view, 188, 0, start) if plain else _State(view, 192, 4, start)
    counted = view.take(start + state.shift + 3, 1)[0] & 15 != 0
    if (counted and start % source.sector_size) or _inside_stream(source, state, counted):
        raise FormatError("begins-inside-stream", offset=start)  # its tables were counted before
    _follow(state)
    if state.packets < MIN_PACKETS or not state.known(PAT):
        raise FormatError("too-few-packets", offset=state.at)
    parts.add("packets", start, state.at)
    problem: FormatError | None = None
    if state.first_bad is not None:
        problem = FormatError("no-packet", offset=state.first_bad)
    elif _cut_short(state):
        problem = FormatError("last-packet-incomplete", offset=state.at)
    broken, place = None, state.first_jump
    if problem is not None and (place is None or problem.offset <= place):
        place = problem.offset
        broken = Break(place, "structure", place, None, problem.told)
    elif place is not None:
        broken = Break(place, "sample", place)
    total = state.packets + state.lost
    cut = problem is None and broken is None and cut_at_sector(
        view, state.at, (b"G",) if plain else (), even=not plain)
    samples = Check("samples", Outcome.PASS, "packets-in-order", {"packets": state.packets})
    if state.jumps:
        samples = Check("samples", Outcome.FAIL, "packets-missing",
                        {"jumps": state.jumps, "packets": state.packets}, content=True)
    share = min(1.0 if broken is None else 0.9999, state.packets / total)
    first = _first_packets(view, start, state)
    # Segments and recordings begin with whole units; one that does not goes on from another.
    goes_on = counted and not all(begins for begins, _ in first)
    # Who writes a stream counts its packets from 0 on: with others, its front may be missing.
    numbered = counted or not any(counter == 0 for _, counter in first)
    return Walk(
        start, state.at, problem is None, broken, round(share, 4), Facts(),
        parts.before(state.at),
        checks=(structure(problem, start, len(parts)), samples,
                cut_check() if cut else end_mark(problem is None, counted=True)),
        variant=SCRAPS[state.step] if goes_on else TS if plain else M2TS,
        verified=max(start, (state.at if place is None else place) - state.step),
        unproven="numbers-go-on" if numbered and not goes_on and problem is None else "")


def accept(head: bytes) -> bool:
    """A packet's head at the start: sync, no error, no scrambling."""
    for shift in (0, 4):
        packet = head[shift : shift + 4]
        if len(packet) == 4 and packet[0] == SYNC and not packet[1] & 0x80 and packet[3] & 0x30:
            return True
    return False


register(Format(
    name="mpegts", kind=Kind.VIDEO, extension="ts",
    # Files open with a table: its PID, or that of the service description, and a start of a unit.
    signatures=(
        Signature(b"\x47\x40\x00", 0, b"\xff\x7f\xff"), Signature(b"\x47\x40\x11", 0),
        Signature(b"\x47\x40\x00", 4, b"\xff\x7f\xff"), Signature(b"\x47\x40\x11", 4)),
    accept=accept, walk=walk, decoder=Decoder.CLIP, variants=(TS, M2TS, *SCRAPS.values()),
    aliases={"mts": "ts"},
))
