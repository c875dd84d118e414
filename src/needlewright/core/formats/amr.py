"""AMR and AMR-WB speech files (RFC 4867, section 5), as phones record notes and calls.

One channel only. Nothing states the length: the file ends where no frame header follows.
"""

from __future__ import annotations

from needlewright.core.decoders import Decoder
from needlewright.core.errors import FormatError
from needlewright.core.formats.base import Format, Signature
from needlewright.core.formats.registry import register
from needlewright.core.kernels.sound_frames import AMR, AMR_WB
from needlewright.core.sources.source import Source
from needlewright.core.structures.frame_chain import follow_chain
from needlewright.core.structures.view import Parts, View, end_mark, finish, structure
from needlewright.core.walks import Check, Facts, Kind, Outcome, Walk

NARROW, WIDE = b"#!AMR\n", b"#!AMR-WB\n"
MIN_FRAMES = 3


def walk(source: Source, start: int, stop: int) -> Walk:
    """Follow the speech at `start`, never past `stop`; FormatError if none begins there."""
    view, parts = View(source, start, stop), Parts()
    wide = view.peek(start, len(WIDE)) == WIDE
    first = start + len(WIDE if wide else NARROW)
    chain = follow_chain(view, first, AMR_WB if wide else AMR)
    if chain.frames < MIN_FRAMES:
        raise FormatError("too-few-frames", offset=chain.stop)
    parts.add("header", start, first)
    parts.add("speech", first, chain.stop)
    return finish(
        start, chain.stop, None, Facts(duration_s=round(chain.seconds, 3)), parts,
        (structure(None, start, len(parts)),
         Check("samples", Outcome.PASS, "samples-agree", {"samples": chain.frames}),
         end_mark(True, counted=True)), verified=chain.sure_until, unproven="coding-silent")


register(Format(
    name="amr", kind=Kind.AUDIO, extension="amr",
    signatures=(Signature(NARROW), Signature(WIDE)),
    accept=lambda head: head.startswith((NARROW, WIDE)), walk=walk, decoder=Decoder.SOUND,
))
