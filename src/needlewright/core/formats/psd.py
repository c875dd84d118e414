"""Layered pictures, PSD and PSB (Adobe Photoshop File Formats Specification, 2019).

Big-endian: header, colour mode data, image resources, layers and masks, and the merged picture,
whose coded size follows from its row table or by inflating it.
"""

from __future__ import annotations

import numpy as np

from needlewright.core.errors import FormatError
from needlewright.core.formats.base import Format, Signature
from needlewright.core.formats.registry import register
from needlewright.core.kernels.foreign import runs_make
from needlewright.core.sources.source import Source
from needlewright.core.structures.inflating import Inflater
from needlewright.core.structures.sector_checks import samples_check
from needlewright.core.structures.view import (
    Parts,
    View,
    dimensions,
    end_mark,
    finish,
    structure,
)
from needlewright.core.walks import Check, Facts, Kind, Outcome, Walk

HEADER_BYTES = 26
DEPTHS = (1, 8, 16, 32)
MAX_CHANNELS = 56
RAW, RUNS, ZIP, ZIP_PREDICTED = range(4)
READ_BYTES = 1 << 18


def _inflated_end(view: View, at: int, want: int) -> int:
    """Where a zlib stream from `at` that makes `want` bytes ends; FormatError where it breaks."""
    inflater = Inflater(want)
    while not inflater.ended:
        block = view.peek(at, READ_BYTES)
        if not block:
            raise FormatError("data-ends", offset=at)
        try:
            for _ in inflater.feed(block):
                pass
        except FormatError as error:
            raise FormatError("picture-does-not-inflate", offset=at) from error
        if inflater.too_much:
            raise FormatError("more-picture-than-stated", offset=at)
        at += len(block) - inflater.unused
    return at


def _picture_end(view: View, at: int, channels: int, width: int, height: int, depth: int,
                 large: bool) -> int:
    coding = view.big(at, 2)
    row_bytes = -(-width * depth // 8)
    rows = channels * height
    if coding == RAW:
        return at + 2 + rows * row_bytes
    if coding == RUNS:
        width_bytes = 4 if large else 2
        if at + 2 + rows * width_bytes > view.stop:
            raise FormatError("data-ends", offset=view.stop)
        total = 0
        limit = row_bytes + row_bytes // 64 + 16  # runs grow a row by one byte in 128 at the worst
        place = at + 2
        for first in range(0, rows, READ_BYTES):
            count = min(READ_BYTES, rows - first)
            table = view.take(place, count * width_bytes)
            place += len(table)
            for i in range(0, len(table), width_bytes):
                size = int.from_bytes(table[i : i + width_bytes], "big")
                if size > limit:
                    raise FormatError("row-too-long", offset=place)
                total += size
        return place + total
    if coding in (ZIP, ZIP_PREDICTED):
        return _inflated_end(view, at + 2, rows * row_bytes)
    raise FormatError("coding-unknown", offset=at)


def _coded_check(view: View, at: int, shape: tuple[int, int, int, int, bool]) -> list[Check]:
    """Whether the merged picture's rows are as long as they must be, or continue each other."""
    channels, width, height, depth, large = shape
    coding, row_bytes = view.big(at, 2), -(-width * depth // 8)
    rows = channels * height
    if coding == RAW and depth in (8, 16):
        return [samples_check(view, at + 2, at + 2 + rows * row_bytes, row_bytes, depth // 8,
                              depth // 8, big_endian=True)]
    if coding == RUNS:
        wide = 4 if large else 2
        place = at + 2 + rows * wide
        bad: list[tuple[int, int]] = []  # (row, where it begins)
        for row in range(rows):
            size = view.big(at + 2 + row * wide, wide)
            if not runs_make(np.frombuffer(view.take(place, size), np.uint8), row_bytes):
                bad.append((row, place - view.start))
            place += size
        if bad:
            return [Check("coded data", Outcome.FAIL, "strip-broken", {
                "strip": bad[0][0] + 1, "strips": rows, "bad": len(bad), "offset": bad[0][1]},
                content=True)]
        return [Check("coded data", Outcome.PASS, "strips-agree", {"strips": rows}, content=True)]
    return []


def walk(source: Source, start: int, stop: int) -> Walk:
    """Follow the picture at `start`, never past `stop`; FormatError if none begins there."""
    view, parts = View(source, start, stop), Parts()
    large = view.big(start + 4, 2) == 2
    channels, height, width = (view.big(start + a, n) for a, n in ((12, 2), (14, 4), (18, 4)))
    depth = view.big(start + 22, 2)
    limit = 300_000 if large else 30_000
    if not (1 <= channels <= MAX_CHANNELS and 1 <= height <= limit and 1 <= width <= limit
            and depth in DEPTHS):
        raise FormatError("header-makes-no-sense", offset=start)
    parts.add("header", start, start + HEADER_BYTES)
    at, problem = start + HEADER_BYTES, None
    picture_at = sure = at
    share = 0.0  # of the merged picture
    try:
        for name, size_bytes in (("colours", 4), ("resources", 4), ("layers", 8 if large else 4)):
            size = view.big(at, size_bytes)
            if at + size_bytes + size > view.stop:
                raise FormatError("data-ends", offset=view.stop)
            if name == "resources" and size and view.take(at + 4, 4) != b"8BIM":
                raise FormatError("no-resources", offset=at)
            sure = at  # each length leads to the next section
            parts.add(name, at, at + size_bytes + size)
            at += size_bytes + size
        end = _picture_end(view, at, channels, width, height, depth, large)
        parts.add("picture", at, min(end, view.stop))
        picture_at = at
        if end > view.stop:
            at = view.stop
            share = (view.stop - picture_at) / (end - picture_at)
            raise FormatError("data-ends", offset=view.stop)
        at = end
    except FormatError as error:
        problem = error
    end = at if problem is None else max(at, problem.offset)
    extra = _coded_check(view, picture_at, (channels, width, height, depth, large)) if (
        problem is None) else []
    return finish(
        start, end, problem, Facts(width, height), parts,
        (structure(problem, start, len(parts)), end_mark(problem is None, counted=True),
         dimensions(width, height), *extra),
        share=share if problem else 1.0, verified=sure if problem else None,
        opaque=[(picture_at, end)],
        unproven="coding-silent" if problem is None and view.big(picture_at, 2) == RAW else "")


register(Format(
    name="psd", kind=Kind.PHOTO, extension="psd",
    signatures=(Signature(b"8BPS\0\x01\0\0\0\0\0\0"), Signature(b"8BPS\0\x02\0\0\0\0\0\0")),
    accept=lambda head: head[:4] == b"8BPS" and head[4:6] in (b"\0\x01", b"\0\x02")
    and head[6:12] == bytes(6),
    walk=walk, decoder="PSD",
    joined="around",
))
