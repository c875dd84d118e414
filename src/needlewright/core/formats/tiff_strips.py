"""The strips and tiles of a TIFF: does each hold as much as it must, in the way it is coded?

TIFF 6.0 sections 9 (PackBits) and 22 (JPEG, with Technical Note 2); Adobe's Deflate.
"""

from __future__ import annotations

import math

import numpy as np

from needlewright.core.errors import FormatError, SourceError
from needlewright.core.formats import jpeg
from needlewright.core.kernels.foreign import runs_make
from needlewright.core.sources.memory import MemorySource
from needlewright.core.structures.blank_runs import Samples
from needlewright.core.structures.inflating import Inflater
from needlewright.core.structures.sector_checks import blank_check, payload_check, samples_check
from needlewright.core.structures.tiff import Directory, Tiff
from needlewright.core.walks import Check, Outcome

PLAIN, OLD_JPEG, JPEG, DEFLATE, DEFLATE_OLD, PACKBITS = 1, 6, 7, 8, 32946, 32773
WIDTH, HEIGHT, BITS, CODING, PLANES, SAMPLES = 0x100, 0x101, 0x102, 0x103, 0x11C, 0x115
ROWS_PER_STRIP, TILE_WIDTH, TILE_HEIGHT, TABLES = 0x116, 0x142, 0x143, 0x15B
MAX_STRIP = 1 << 28
NAME = "coded data"


def strips_check(tiff: Tiff, directory: Directory) -> Check | None:
    """The check of one picture's coded data; None where nothing can be told about its coding."""
    spans = _spans(tiff, directory)
    coding = tiff.value(directory, CODING) or PLAIN
    if not spans:
        return None
    if coding == PLAIN or _is_plain(tiff, directory, spans):
        return _plain(tiff, directory, spans) or _gaps(tiff, directory, spans)
    if coding in (JPEG, OLD_JPEG):
        return _each(tiff, directory, spans, _jpeg_problem)
    if coding in (DEFLATE, DEFLATE_OLD):
        return _each(tiff, directory, spans, deflate_problem)
    if coding == PACKBITS:
        return _each(tiff, directory, spans, runs_problem)
    found = payload_check(tiff.view, spans)
    return found if found.outcome is Outcome.FAIL else None


def silent(tiff: Tiff, directory: Directory) -> bool:
    """Whether nothing shows all foreign data in a picture: plain samples, which another picture's
    continue well enough."""
    spans = _spans(tiff, directory)
    coding = tiff.value(directory, CODING) or PLAIN
    return bool(spans) and (coding == PLAIN or _is_plain(tiff, directory, spans))


def _spans(tiff: Tiff, directory: Directory) -> list[tuple[int, int]]:
    for at_tag, size_tag in ((0x111, 0x117), (0x144, 0x145), (0x201, 0x202)):
        starts, sizes = tiff.values(directory, at_tag), tiff.values(directory, size_tag)
        if starts and len(starts) == len(sizes):
            return [(tiff.origin + a, tiff.origin + a + n) for a, n in zip(starts, sizes)]
    return []


def _bits(tiff: Tiff, directory: Directory) -> list[int]:
    return tiff.values(directory, BITS) or [1]


def row_bytes(tiff: Tiff, directory: Directory) -> int:
    """Bytes of a row of a strip or tile, not compressed."""
    bits = _bits(tiff, directory)
    width = tiff.value(directory, TILE_WIDTH) or tiff.value(directory, WIDTH) or 0
    samples = 1 if tiff.value(directory, PLANES) == 2 else max(
        len(bits), tiff.value(directory, SAMPLES) or 1)
    return -(-width * bits[0] * samples // 8)


def rows_of(tiff: Tiff, directory: Directory, index: int) -> int:
    """Rows of strip or tile number `index`."""
    tall = tiff.value(directory, TILE_HEIGHT)
    if tall:
        return tall
    height = tiff.value(directory, HEIGHT) or 0
    each = min(tiff.value(directory, ROWS_PER_STRIP) or height, height) or 1
    per_plane = -(-height // each)
    return min(each, height - index % per_plane * each)


def _is_plain(tiff: Tiff, directory: Directory, spans: list[tuple[int, int]]) -> bool:
    """Data of a private coding that takes exactly two bytes a sample is not compressed."""
    height = tiff.value(directory, HEIGHT) or 0
    width = tiff.value(directory, WIDTH) or 0
    private = (tiff.value(directory, CODING) or 0) > 32772
    return private and sum(b - a for a, b in spans) == width * height * 2


def _plain(tiff: Tiff, directory: Directory, spans: list[tuple[int, int]]) -> Check | None:
    bits = _bits(tiff, directory)
    first, stop = spans[0][0], spans[-1][1]
    in_one_piece = stop - first == sum(b - a for a, b in spans)
    depth = 16 if _is_plain(tiff, directory, spans) else bits[0]
    if depth not in (8, 16) or not in_one_piece or TILE_WIDTH in directory.entries:
        return None
    wide = row_bytes(tiff, directory) if depth == bits[0] else (
        (tiff.value(directory, WIDTH) or 0) * 2)
    pixel = depth // 8 * len(bits)
    if tiff.value(directory, 0x106) == 32803:  # a mosaic: every other pixel is of one colour
        pixel, wide = pixel * 2, wide * 2
    return samples_check(tiff.view, first, stop, wide, pixel, depth // 8,
                         tiff.order == "big")


def _gaps(tiff: Tiff, directory: Directory, spans: list[tuple[int, int]]) -> Check | None:
    """The doubt about blank sectors among samples that nothing else looks at; None where all pass.
    """
    bits, wide = _bits(tiff, directory), row_bytes(tiff, directory)
    together = bits[0] * len(bits)  # bits that repeat: a pixel, or as many as fill whole bytes
    frame = math.lcm(max(1, together), 8) // 8
    for start, stop in spans:
        check = blank_check(tiff.view, Samples(start, min(stop, tiff.view.stop), wide, frame))
        if check.outcome is Outcome.DOUBT:
            return check
    return None


def _each(tiff: Tiff, directory: Directory, spans: list[tuple[int, int]], problem: object) -> Check:
    assert callable(problem)
    bad: list[tuple[int, int]] = []  # (number from 0, where it begins)
    for index, (start, stop) in enumerate(spans):
        if stop - start > MAX_STRIP or stop > tiff.view.stop or stop <= start:
            continue
        data = tiff.view.source.read_at(start, stop - start)
        if problem(tiff, directory, index, data):
            bad.append((index, start - tiff.view.start))
    if bad:
        return Check(NAME, Outcome.FAIL, "strip-broken", {
            "strip": bad[0][0] + 1, "strips": len(spans), "bad": len(bad), "offset": bad[0][1]},
            content=True)
    return Check(NAME, Outcome.PASS, "strips-agree", {"strips": len(spans)}, content=True)


def deflate_problem(tiff: Tiff, directory: Directory, index: int, data: bytes) -> bool:
    """Whether the strip does not inflate to its size and its own checksum."""
    need = row_bytes(tiff, directory) * rows_of(tiff, directory, index)
    inflater = Inflater(need)
    try:
        for _ in inflater.feed(data):
            pass
    except FormatError:
        return True
    return inflater.made != need or not inflater.ended


def runs_problem(tiff: Tiff, directory: Directory, index: int, data: bytes) -> bool:
    """Whether the strip does not unpack to its size."""
    need = row_bytes(tiff, directory) * rows_of(tiff, directory, index)
    return not runs_make(np.frombuffer(data, np.uint8), need)


def _jpeg_problem(tiff: Tiff, directory: Directory, index: int, data: bytes) -> bool:
    """Whether the strip, behind the tables that all share, is not a JPEG to its own end."""
    kind, count, where = directory.entries.get(TABLES, (0, 0, 0))
    whole = data
    if kind and count > 4 and data[:2] == b"\xff\xd8":
        tables = tiff.view.take(where, count)
        whole = tables[:-2] + data[2:] if tables[-2:] == b"\xff\xd9" else data
    if whole[:2] != b"\xff\xd8":
        return False  # the older way, whose tables lie elsewhere
    try:
        walk = jpeg.walk(MemorySource(whole), 0, len(whole))
    except (FormatError, SourceError):
        return True
    return walk.broken is not None or not walk.ended
