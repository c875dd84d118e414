"""FLV clips (Adobe Flash Video File Format Specification 10.1, annex E).

Big-endian. Each tag is followed by its own size, which settles where the chain breaks.
"""

from __future__ import annotations

import struct

from needlewright.core.decoders import Decoder
from needlewright.core.errors import FormatError
from needlewright.core.formats.base import Format, Signature
from needlewright.core.formats.registry import register
from needlewright.core.sources.source import Source
from needlewright.core.structures.view import Parts, View, end_mark, structure
from needlewright.core.walks import Break, Check, Facts, Kind, Outcome, Walk

MAX_TAGS = 20_000_000
AUDIO, VIDEO, SCRIPT = 8, 9, 18
MAX_SCRIPT = 1 << 20


def _number(script: bytes, name: bytes) -> float | None:
    """A number of the metadata object: its name, type 0, a double (AMF 0)."""
    at = script.find(struct.pack(">H", len(name)) + name + b"\0")
    if at < 0 or at + 3 + len(name) + 8 > len(script):
        return None
    return float(struct.unpack_from(">d", script, at + 3 + len(name))[0])


def _tag(view: View, at: int) -> tuple[int, int, int, int]:
    """(kind, body, place behind the tag and its size, time in ms) of the tag at `at`."""
    head = view.take(at, 11)
    kind, size = head[0] & 0x1F, int.from_bytes(head[1:4], "big")
    if kind not in (AUDIO, VIDEO, SCRIPT) or head[0] & 0xC0 or head[8:11] != bytes(3):
        raise FormatError("no-tag", offset=at)
    end = at + 11 + size
    if end + 4 > view.stop:
        raise FormatError("data-ends", offset=view.stop)
    if view.big(end, 4) not in (size + 11, size):  # some writers leave the header out
        raise FormatError("tag-size-unrepeated", offset=at)
    return kind, at + 11, end + 4, head[7] << 24 | int.from_bytes(head[4:7], "big")


def walk(source: Source, start: int, stop: int) -> Walk:
    """Follow the clip at `start`, never past `stop`; FormatError if none begins there."""
    view, parts = View(source, start, stop), Parts()
    at = start + view.big(start + 5, 4)
    if at != start + 9 or view.big(at, 4) != 0:
        raise FormatError("header-makes-no-sense", offset=start + 5)
    parts.add("header", start, at + 4)
    at += 4
    tags, last_ms, video, last_at = 0, 0, 0, at
    script = b""
    problem: FormatError | None = None
    while tags < MAX_TAGS and view.peek(at, 1) in (b"\x08", b"\x09", b"\x12"):
        try:
            kind, body, end, time_ms = _tag(view, at)
        except FormatError as error:
            # One byte in eighty looks like the start of a tag; only a few tags make a clip.
            problem = error if tags < 4 or _close(view, at, last_ms) else None
            break
        if kind == SCRIPT and not script:
            script = view.take(body, min(end - 4 - body, MAX_SCRIPT))
        parts.add({SCRIPT: "metadata"}.get(kind, "frames"), at, end)
        tags, last_ms, video = tags + 1, max(last_ms, time_ms), video + (kind == VIDEO)
        last_at, at = at, end
    if not tags:
        raise problem or FormatError("no-clip", offset=start)
    stated, length = _number(script, b"filesize"), _number(script, b"duration")
    if problem is None and stated and at - start < stated <= 1 << 62:
        problem = FormatError("frames-end-early", offset=at)
    seconds = length if length and 0 < length < 1e7 else last_ms / 1000
    broken, share = None, 1.0
    if problem is not None:
        share = min(0.9999, last_ms / 1000 / seconds) if seconds else 0.0
        broken = Break(problem.offset, "structure", problem.offset, None, {
            **problem.told, "sample": tags, "seconds": last_ms / 1000})
    width, height = _number(script, b"width"), _number(script, b"height")
    end = at if problem is None else max(at, min(problem.offset, view.stop))
    samples = Check("samples", Outcome.FAIL if problem else Outcome.PASS,
                    "samples-until" if problem else "samples-agree", {"samples": tags})
    return Walk(
        start, end, problem is None, broken, round(share, 4),
        Facts(int(width) if width and 0 < width < 1e5 else None,
              int(height) if height and 0 < height < 1e5 else None,
              duration_s=round(seconds, 3) or None),
        parts.before(end), checks=(structure(problem, start, len(parts)), samples,
                                   end_mark(problem is None, counted=True)),
        verified=last_at if problem else None)  # its size may be all that is left of the last tag


def _close(view: View, at: int, last_ms: int) -> bool:
    """Whether what stands at `at` is a tag that was cut off: its time continues the clip."""
    head = view.peek(at, 11)
    if len(head) < 11:
        return True
    time_ms = head[7] << 24 | int.from_bytes(head[4:7], "big")
    return abs(time_ms - last_ms) < 10_000 and head[8:11] == bytes(3)


register(Format(
    name="flv", kind=Kind.VIDEO, extension="flv", signatures=(Signature(b"FLV\x01"),),
    accept=lambda head: (head[:4] == b"FLV\x01" and head[4] in (1, 4, 5)
                         and head[5:9] == b"\0\0\0\x09"),
    walk=walk, decoder=Decoder.CLIP,
    joined="structured",
))
