"""AIFF and AIFF-C sound (Audio Interchange File Format 1.3; AIFF-C draft of 1991).

Big-endian IFF chunks. Linear samples carry nothing to check but how they continue each other.
"""

from __future__ import annotations

from needlewright.core.decoders import Decoder
from needlewright.core.errors import FormatError
from needlewright.core.formats.base import Format, Signature
from needlewright.core.formats.registry import register
from needlewright.core.sources.source import Source
from needlewright.core.structures.riff import chunks
from needlewright.core.structures.sector_checks import samples_check
from needlewright.core.structures.view import Parts, View, end_mark, finish, structure
from needlewright.core.walks import Facts, Kind, Walk


def _extended(raw: bytes) -> float:
    """An 80-bit IEEE 754 extended number."""
    exponent = int.from_bytes(raw[:2], "big") & 0x7FFF
    mantissa = int.from_bytes(raw[2:], "big")
    if not 16383 <= exponent <= 16383 + 40:
        return 0.0
    return mantissa * 2.0 ** (exponent - 16383 - 63)


def walk(source: Source, start: int, stop: int) -> Walk:
    """Follow the sound at `start`, never past `stop`; FormatError if none begins there."""
    view, parts = View(source, start, stop), Parts()
    stated = start + 8 + view.big(start + 4, 4)
    linear = view.take(start + 8, 4) == b"AIFF"
    little = False
    channels = frames = bits = 0
    rate = 0.0
    data: tuple[int, int] | None = None
    problem: FormatError | None = None
    at = start + 12
    try:
        for chunk in chunks(view, at, stated, big_endian=True):
            if chunk.name == b"COMM":
                channels, frames = view.big(chunk.body, 2), view.big(chunk.body + 2, 4)
                bits, rate = view.big(chunk.body + 6, 2), _extended(view.take(chunk.body + 8, 10))
                if not linear and chunk.stop - chunk.body >= 22:
                    coding = view.take(chunk.body + 18, 4)
                    little = coding == b"sowt"
                    linear = little or coding in (b"NONE", b"twos")
            elif chunk.name == b"SSND":
                data = (chunk.body + 8, chunk.stop)
            parts.add(chunk.name.decode("ascii").strip(), chunk.start, min(chunk.next, view.stop))
            at = min(chunk.next, stated, view.stop)
        if data is None or not channels:
            raise FormatError("no-sound-data", offset=at)
    except FormatError as error:
        problem = error
    if not channels and data is None:
        raise problem or FormatError("no-sound", offset=start)
    end = stated if problem is None else problem.offset
    checks = [structure(problem, start, len(parts)), end_mark(problem is None, counted=True)]
    share = 1.0
    if data is not None:
        there = max(0, min(data[1], end) - data[0])
        share = there / max(1, data[1] - data[0])
        if linear and bits in (8, 16, 24, 32) and there:
            checks.append(samples_check(
                view, data[0], data[0] + there, 0, channels * bits // 8, bits // 8, not little))
    duration = round(frames / rate, 3) if rate else None
    return finish(start, end, problem, Facts(duration_s=duration), parts, checks, share=share,
                  verified=at if problem else None, opaque=[data] if data else (),
                  unproven="coding-silent" if linear else "")


register(Format(
    name="aiff", kind=Kind.AUDIO, extension="aif",
    signatures=tuple(
        Signature(b"FORM" + bytes(4) + name, 0, b"\xff" * 4 + bytes(4) + b"\xff" * 4)
        for name in (b"AIFF", b"AIFC")),
    accept=lambda head: head[:4] == b"FORM" and head[8:12] in (b"AIFF", b"AIFC"),
    walk=walk, decoder=Decoder.SOUND,
    aliases={"aiff": "aif", "aifc": "aif"}, joined="around",
))
