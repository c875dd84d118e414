"""MPEG program streams (ISO/IEC 13818-1, 2.5; 11172-1 for MPEG-1): packs of PES packets.

Ends at the program end code, or where no start code follows.
"""

from __future__ import annotations

import numpy as np

from needlewright.core.decoders import Decoder
from needlewright.core.errors import FormatError
from needlewright.core.formats.base import Format, Signature
from needlewright.core.formats.registry import register
from needlewright.core.kernels.packets import DATA_ENDS, PACKS_END, program_packets
from needlewright.core.sources.source import Source
from needlewright.core.structures.stream_end import cut_at_sector, cut_check
from needlewright.core.structures.view import Parts, View, broken_at, end_mark, structure
from needlewright.core.walks import Check, Facts, Kind, Outcome, Variant, Walk

BLOCK_BYTES = 4 << 20
LOOK_AHEAD_BYTES = 4 << 20
MIN_PACKS = 2
SCRAP = Variant("mpg-scrap", "mpg", Kind.SCRAP)  # the middle of a stream: it has no system header
LAST_PACK_BYTES = 1 << 18
MAX_GAP = 90_000 * 60  # of the clock, over damage
MAX_PACKET = 0xFFFF + 6  # bytes of a packet with its head: the last may be foreign inside
PACK, SYSTEM = b"\0\0\x01\xba", b"\0\0\x01\xbb"


def _follow(view: View, at: int, counts: np.ndarray) -> tuple[int, int]:
    """(place, why) where the packets from `at` end."""
    while True:
        data = np.frombuffer(view.source.read_at(at, min(BLOCK_BYTES, view.stop - at)), np.uint8)
        used, why = program_packets(data, 0, counts)
        at += used
        if why != DATA_ENDS or used == 0 or at >= view.stop:
            return at, why


def clock(data: bytes) -> int | None:
    """The system clock reference of a pack header, in units of 1/90,000 s."""
    if len(data) < 10:
        return None
    value = int.from_bytes(data[4:9], "big")
    if data[4] & 0xC4 == 0x44:
        return (value >> 35 & 7) << 30 | (value >> 19 & 0x7FFF) << 15 | value >> 3 & 0x7FFF
    return (value >> 33 & 7) << 30 | (value >> 17 & 0x7FFF) << 15 | value >> 1 & 0x7FFF


def _last_clock(view: View, stop: int) -> int | None:
    """The clock of the last pack before `stop`."""
    start = max(view.start, stop - LAST_PACK_BYTES)
    data = view.source.read_at(start, stop - start)
    at = data.rfind(PACK)
    return clock(data[at:]) if at >= 0 else None


def _sure_until(view: View, stop: int) -> int:
    """Bytes before this are the stream's own: up to the last pack, behind which another begins."""
    start = max(view.start, stop - MAX_PACKET)
    back = view.source.read_at(start, stop - start)
    at = back.rfind(PACK)
    return max(view.start, stop - len(back) + max(0, at))


def _resumes(view: View, at: int) -> int | None:
    """Where behind damage at `at` the same stream goes on, or None: its clock tells."""
    before = _last_clock(view, at)
    data = view.source.read_at(at, min(LOOK_AHEAD_BYTES, view.stop - at))
    place = 0
    while before is not None and (place := data.find(PACK, place + 1)) >= 0:
        trial = np.zeros(3, np.int64)
        program_packets(np.frombuffer(data, np.uint8), place, trial)
        now = clock(data[place : place + 10])
        if now is None or trial[0] == 0 or trial[1] + trial[2] == 0:
            continue
        if not 0 < now - before <= MAX_GAP:
            return None  # the first pack that follows is another stream's: another file begins
        if trial[0] >= MIN_PACKS:
            return at + place
    return None


def walk(source: Source, start: int, stop: int) -> Walk:
    """Follow the stream at `start`, never past `stop`; FormatError if none begins there."""
    view, parts = View(source, start, stop), Parts()
    counts = np.zeros(3, np.int64)
    size = 14 + (view.take(start + 13, 1)[0] & 7) if view.take(start + 4, 1)[0] & 0x40 else 12
    begins = view.take(start + size, 4) == SYSTEM
    if start % source.sector_size and not begins:
        raise FormatError("begins-inside-stream", offset=start)
    at, why = _follow(view, start, counts)
    problem: FormatError | None = None
    lost = 0
    while begins and why != PACKS_END and counts[0] >= MIN_PACKS and at < view.stop:
        resumed = _resumes(view, at)
        if resumed is None:
            break
        problem = problem or FormatError("no-packet", offset=at)
        lost += resumed - at
        at, why = _follow(view, resumed, counts)
    if counts[0] < MIN_PACKS or counts[1] + counts[2] < MIN_PACKS:
        raise FormatError("too-few-packets", offset=at)
    if problem is None and why == DATA_ENDS and view.peek(at, 3) == PACK[:3]:
        problem = FormatError("data-ends", offset=min(at, view.stop))
    parts.add("packets", start, at)
    broken = None
    if problem is not None:
        broken = broken_at(problem)
    share = min(1.0 if broken is None else 0.9999, 1 - lost / (at - start))
    cut = problem is None and why != PACKS_END and cut_at_sector(
        view, at, (PACK[:3],), even=True)
    packets = int(counts[1] + counts[2])
    samples = Check("samples", Outcome.FAIL if problem else Outcome.PASS,
                    "samples-until" if problem else "packets-in-order",
                    {"packets": packets, "samples": packets})
    return Walk(
        start, at, problem is None, broken, round(share, 4), Facts(), parts.before(at),
        checks=(structure(problem, start, len(parts)), samples,
                # The end code is optional: without one, the last packet's end has to do.
                cut_check() if cut else end_mark(problem is None, counted=why != PACKS_END)),
        verified=None if problem is None else _sure_until(view, problem.offset),
        variant=None if begins else SCRAP)


def accept(head: bytes) -> bool:
    """A pack header of MPEG-1 or MPEG-2."""
    return head[:4] == PACK and len(head) > 4 and (
        head[4] & 0xC4 == 0x44 or head[4] & 0xF1 == 0x21)


register(Format(
    name="mpg", kind=Kind.VIDEO, extension="mpg",
    signatures=(Signature(PACK + b"\x44", 0, b"\xff" * 4 + b"\xc4"),
                Signature(PACK + b"\x21", 0, b"\xff" * 4 + b"\xf1")),
    accept=accept, walk=walk, decoder=Decoder.CLIP, variants=(SCRAP,),
    aliases={"tod": "mpg", "mod": "mpg", "mpeg": "mpg", "vob": "mpg"},
    object_formats={"mpg": 0x300B},
))
