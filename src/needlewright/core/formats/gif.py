"""GIF files (GIF89a specification, appendices A-F).

Little-endian. Image data is LZW in chained sub-blocks; all of it is decoded, so that its end and
the row where it goes wrong are known. Plain-text extensions are stepped over.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import numpy as np

from needlewright.core.errors import FormatError
from needlewright.core.formats.base import Format, Signature
from needlewright.core.formats.registry import register
from needlewright.core.kernels.lzw import decode_lengths
from needlewright.core.sources.source import Source
from needlewright.core.structures.view import (
    Parts,
    View,
    broken_at,
    dimensions,
    end_mark,
    finish,
    structure,
)
from needlewright.core.walks import Check, Facts, Kind, Outcome, Walk

MAX_FRAMES = 20_000
MAX_SUB_BLOCKS = 2_000_000


@dataclass(slots=True)
class _State:
    at: int
    width: int = 0
    height: int = 0
    frames: int = 0
    rows_done: int = 0  # of the frame that is being read
    rows: int = 0
    parts: Parts = field(default_factory=Parts)


def _sub_blocks(view: View, at: int) -> tuple[int, list[bytes], FormatError | None]:
    """(place behind the chain of sub-blocks at `at`, their contents, where the chain breaks)."""
    kept: list[bytes] = []
    try:
        for _ in range(MAX_SUB_BLOCKS):
            size = view.take(at, 1)[0]
            if size == 0:
                return at + 1, kept, None
            kept.append(view.take(at + 1, size))
            at += 1 + size
    except FormatError as error:
        return at, kept, error
    return at, kept, FormatError("sub-blocks-without-end", offset=at)


def _image(view: View, state: _State) -> None:
    start = state.at
    head = view.take(start, 10)
    left, top, width, height = (int.from_bytes(head[i : i + 2], "little") for i in (1, 3, 5, 7))
    if not width or not height or left + width > 1 << 16 or top + height > 1 << 16:
        raise FormatError("frame-without-size", offset=start)
    at = start + 10
    if head[9] & 0x80:
        at += 3 << ((head[9] & 7) + 1)
    code_size = view.take(at, 1)[0]
    if not 1 <= code_size <= 11:
        raise FormatError("impossible-code-size", offset=at)
    state.rows, state.rows_done = height, 0
    end, pieces, problem = _sub_blocks(view, at + 1)
    data = np.frombuffer(b"".join(pieces), np.uint8)
    pixels, used, good = decode_lengths(data, code_size, width * height)
    if not good or pixels != width * height:
        state.rows_done = pixels // width
        # A byte of data lies behind one length byte for each block before it.
        place = min(at + 2 + used + used // 255, end - 1)
        raise problem or FormatError("picture-codes-wrong", offset=place)
    if problem is not None:
        raise problem
    state.frames += 1
    state.parts.add("frame", start, end)
    state.at = end


def _blocks(view: View, state: _State) -> None:
    head = view.take(state.at, 13)
    state.width = int.from_bytes(head[6:8], "little")
    state.height = int.from_bytes(head[8:10], "little")
    if not state.width or not state.height:
        raise FormatError("picture-without-size", offset=state.at + 6)
    start = state.at
    state.at += 13
    if head[10] & 0x80:
        state.at += 3 << ((head[10] & 7) + 1)
    view.take(state.at, 1)
    state.parts.add("header", start, state.at)
    for _ in range(MAX_FRAMES * 4):
        kind = view.take(state.at, 1)[0]
        if kind == 0x3B:
            if not state.frames:
                raise FormatError("ends-before-picture", offset=state.at)
            state.parts.add("end", state.at, state.at + 1)
            state.at += 1
            return
        if kind == 0x2C:
            _image(view, state)
        elif kind == 0x21:
            label = view.take(state.at + 1, 1)[0]
            if label not in (0x01, 0xF9, 0xFE, 0xFF):
                raise FormatError("unknown-extension", offset=state.at)
            end, _, problem = _sub_blocks(view, state.at + 2)
            if problem is not None:
                raise problem
            state.parts.add("extension", state.at, end)
            state.at = end
        else:
            raise FormatError("no-block", offset=state.at)
    raise FormatError("too-many-blocks", offset=state.at)


def walk(source: Source, start: int, stop: int) -> Walk:
    """Follow the GIF at `start`, never past `stop`; FormatError if no picture begins there."""
    view, state = View(source, start, stop), _State(start)
    problem: FormatError | None = None
    try:
        _blocks(view, state)
    except FormatError as error:
        problem = error
    if not state.width or (problem and problem.offset < start + 13):
        raise problem or FormatError("no-picture", offset=start)
    end = state.at if problem is None else problem.offset
    share, coded = 1.0, Check(
        "coded data", Outcome.PASS, "frames-complete", {"frames": state.frames}, content=True)
    broken_row = None
    if problem is not None:
        first = state.frames == 0
        broken_row = min(state.rows_done, state.height) if first else None
        share = state.rows_done / max(1, state.rows) if first else 0.99
        coded = Check("coded data", Outcome.FAIL, "frames-broken", {"frames": state.frames},
                      content=True)
    found = finish(
        start, end, problem, Facts(state.width, state.height), state.parts,
        (structure(problem, start, len(state.parts)), coded, end_mark(problem is None),
         dimensions(state.width, state.height)),
        share=share, verified=None if problem is None else _verified(state, end),
        guessed=problem is not None and state.frames > 0)
    if problem is None or broken_row is None:
        return found
    return replace(found, broken=broken_at(problem, broken_row))


def _verified(state: _State, end: int) -> int:
    return min(state.at, end)


register(Format(
    name="gif", kind=Kind.PHOTO, extension="gif",
    signatures=(Signature(b"GIF89a"), Signature(b"GIF87a")),
    accept=lambda head: head[:6] in (b"GIF89a", b"GIF87a"), walk=walk, decoder="GIF",
    joined="structured", object_formats={"gif": 0x3807},
))
