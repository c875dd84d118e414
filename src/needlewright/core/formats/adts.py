"""AAC sound in ADTS frames (ISO/IEC 14496-3, 1.A.2.2; 13818-7 for the older profile bit)."""

from __future__ import annotations

import numpy as np

from needlewright.core.decoders import Decoder
from needlewright.core.errors import FormatError
from needlewright.core.formats.base import Format, Signature
from needlewright.core.formats.registry import register
from needlewright.core.kernels.sound_frames import ADTS
from needlewright.core.sources.source import Source
from needlewright.core.structures.frame_chain import follow_chain
from needlewright.core.structures.stream_end import cut_at_sector, cut_check
from needlewright.core.structures.tags import closing_tags_end, id3_end, torn_tag
from needlewright.core.structures.view import Parts, View, end_mark, finish, structure
from needlewright.core.walks import Check, Facts, Kind, Outcome, Walk

MIN_FRAMES = 12
MAX_FRAME = 8191  # bytes: 13 bits
HEADS = (b"\xff\xf1", b"\xff\xf9", b"\xff\xf0", b"\xff\xf8")


def _inside_stream(source: Source, start: int) -> bool:
    """Whether a frame of the same stream ends exactly where the one at `start` begins: then that is
    no beginning. Every frame looks like a first one."""
    back = min(start, MAX_FRAME)
    data = np.frombuffer(source.read_at(start - back, back + 4), np.uint8)
    if data.size < back + 4:
        return False
    head = data[back:]
    at = np.flatnonzero((data[: max(0, back - 6)] == head[0]) & (data[1 : max(1, back - 5)]
                                                                == head[1]))
    at = at[(data[at + 2] == head[2]) & (data[at + 3] & 0xFC == head[3] & 0xFC)]
    size = (data[at + 3].astype(np.int64) & 3) << 11 | data[at + 4].astype(np.int64) << 3 | (
        data[at + 5] >> 5)
    return bool((at + size == back).any())


def walk(source: Source, start: int, stop: int) -> Walk:
    """Follow the sound at `start`, never past `stop`; FormatError if none begins there."""
    view, parts = View(source, start, stop), Parts()
    first = id3_end(view, start)
    if first == start and start and _inside_stream(source, start):
        raise FormatError("begins-inside-stream", offset=start)
    chain = follow_chain(view, first, ADTS)
    if chain.frames < MIN_FRAMES:
        raise FormatError("too-few-frames", offset=chain.stop)
    parts.add("sound", first, chain.stop)
    end = closing_tags_end(view, chain.stop)
    problem = None
    if chain.damaged is not None:
        problem = FormatError("no-frame", offset=chain.damaged)
    samples = Check("samples", Outcome.FAIL if problem else Outcome.PASS,
                    "samples-until" if problem else "samples-agree", {"samples": chain.frames})
    cut = problem is None and (torn_tag(view, end) or (
        end == chain.stop and cut_at_sector(view, end, (view.take(first, 2),))))
    return finish(
        start, end, problem, Facts(duration_s=round(chain.seconds, 3) or None), parts,
        (structure(problem, start, len(parts)), samples,
         cut_check() if cut else end_mark(problem is None, counted=True)),
        share=1 - chain.lost / (chain.stop - chain.start),
        verified=None if problem is None and end > chain.stop else chain.sure_until)


def accept(head: bytes) -> bool:
    """Sync, layer 0, an existing sampling rate and a frame of a possible length."""
    size = (head[3] & 3) << 11 | head[4] << 3 | head[5] >> 5 if len(head) > 6 else 0
    return head[:2] in HEADS and (head[2] >> 2 & 15) < 13 and 9 <= size <= 8191


register(Format(
    name="aac", kind=Kind.AUDIO, extension="aac",
    signatures=tuple(Signature(magic, weak=True) for magic in HEADS),
    accept=accept, walk=walk, decoder=Decoder.SOUND,
))
