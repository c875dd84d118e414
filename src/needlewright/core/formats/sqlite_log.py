"""Write-ahead logs of SQLite databases (sqlite.org file format, section 4), which hold what was
written last.

Big-endian. Each frame is a page with a running checksum over all before it, so the log proves
itself; nothing tells its end but that. Behind the frames that count may stand some of an earlier
run, told by the number of that run.
"""

from __future__ import annotations

import struct

from needlewright.core.databases.logs import FRAME_HEADER, LOG_HEADER, LOG_MAGICS, log_sums
from needlewright.core.errors import FormatError
from needlewright.core.formats.base import Format, Signature
from needlewright.core.formats.registry import register
from needlewright.core.sources.source import Source
from needlewright.core.structures.view import Parts, View, end_mark, finish, structure
from needlewright.core.walks import Check, Facts, Kind, Outcome, Walk

VERSION = 3_007_000
SIGNATURES = tuple(Signature(struct.pack(">II", magic, VERSION)) for magic in LOG_MAGICS)
RUNS = 64  # that earlier frames may be older


def walk(source: Source, start: int, stop: int) -> Walk:
    """Follow the log at `start`, never past `stop`; FormatError if none begins there."""
    view, parts = View(source, start, stop), Parts()
    head = view.take(start, LOG_HEADER)
    magic, _, page_bytes, _, salt1, salt2, sum1, sum2 = struct.unpack(">8I", head)
    page_bytes = 65536 if page_bytes == 1 else page_bytes
    order = LOG_MAGICS.get(magic, "")
    if not order or not 512 <= page_bytes <= 65_536 or page_bytes & (page_bytes - 1):
        raise FormatError("header-makes-no-sense", offset=start)
    sums = log_sums(head[:24], order, 0, 0)
    if sums != (sum1, sum2):
        raise FormatError("header-makes-no-sense", offset=start + 24)
    parts.add("header", start, start + LOG_HEADER)
    at, frames, whole = start + LOG_HEADER, 0, True
    length = FRAME_HEADER + page_bytes
    while at + length <= view.stop:
        frame = view.take(at, length)
        number, size, one, two, told1, told2 = struct.unpack(">6I", frame[:FRAME_HEADER])
        now = log_sums(frame[:8] + frame[FRAME_HEADER:], order, *sums)
        if not number or (one, two) != (salt1, salt2) or now != (told1, told2):
            break
        sums, whole, at, frames = now, size > 0, at + length, frames + 1
    if not frames:
        raise FormatError("header-makes-no-sense", offset=at)
    parts.add("pages", start + LOG_HEADER, at)
    # What was written last is not finished, or the frame behind it is one of the same run.
    behind = view.peek(at, FRAME_HEADER)
    torn = behind[8:16] == head[16:24] or 0 < len(behind) < FRAME_HEADER
    problem = None if whole and not torn else FormatError("data-ends", offset=at)
    end = at
    while problem is None and end + length <= view.stop:
        number, _, one = struct.unpack(">3I", view.take(end, 12))
        if not 0 < number < 1 << 31 or not 0 < (salt1 - one) & 0xFFFFFFFF < RUNS:
            break
        end += length
    if end > at:
        parts.add("older pages", at, end)
    return finish(
        start, end, problem, Facts(extra={"pages": f"{frames:,} of {page_bytes:,} bytes"}), parts,
        (structure(problem, start, len(parts)), end_mark(problem is None, counted=True),
         Check("coded data", Outcome.PASS, "frames-agree", {"frames": frames, "samples": frames},
               content=True)),
        share=1.0 if problem is None else 0.99, verified=at)


register(Format(
    name="sqlite-log", kind=Kind.OTHER, extension="sqlite-wal", signatures=SIGNATURES,
    accept=lambda head: any(head.startswith(s.magic) for s in SIGNATURES), walk=walk,
))
