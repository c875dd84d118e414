"""An index written anew for samples that lie where they lie (ISO/IEC 14496-12, 8.1 to 8.7)."""

from __future__ import annotations

import struct
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from needlewright.core.mending.clips.tracks import Model
from needlewright.core.sources.memory import MemorySource
from needlewright.core.structures.bmff import Box, child, children
from needlewright.core.structures.bmff_writing import box, full
from needlewright.core.structures.view import View

Longs = npt.NDArray[np.int64]
DROPPED = frozenset((b"udta", b"meta", b"tref", b"edts", b"uuid"))  # of another clip, or made anew
LONGEST = (1 << 32) - 1  # that a table can tell
TABLES = frozenset((b"stts", b"ctts", b"stsc", b"stsz", b"stz2", b"stco", b"co64", b"stss", b"stps",
                    b"sdtp", b"sgpd", b"sbgp", b"cslg", b"subs", b"saiz", b"saio", b"padb"))


@dataclass(slots=True)
class NewTrack:
    """What is written of one track. `offsets`, `sizes`: int64[n], bytes of the new file, in the
    order of decoding; `steps`: duration of each; `ahead`: composition time less decoding time;
    `keys`: which can be decoded alone, None for all; `lead`: time in front of the first that is
    shown."""

    model: Model
    offsets: Longs
    sizes: Longs
    steps: Longs
    ahead: Longs | None = None
    keys: npt.NDArray[np.bool_] | None = None
    lead: int = 0

    @property
    def duration(self) -> int:
        """From the first that is shown to the end of the last."""
        if self.ahead is None or not self.steps.size:
            return int(self.steps.sum()) - self.lead
        shown = np.cumsum(self.steps) + self.ahead
        return int(shown.max()) - self.lead


def moov(tracks: Sequence[NewTrack], timescale: int) -> bytes:
    """The whole index; times of creation are not known, and are none."""
    longest = max(t.duration * timescale // t.model.track.timescale for t in tracks)
    parts = [full(b"mvhd", struct.pack(">QQIQ", 0, 0, timescale, longest),
                  struct.pack(">IHH8x", 0x10000, 0x100, 0),
                  struct.pack(">9I", 0x10000, 0, 0, 0, 0x10000, 0, 0, 0, 0x4000_0000), bytes(24),
                  struct.pack(">I", len(tracks) + 1), version=1)]
    for number, track in enumerate(tracks, 1):
        parts.append(_trak(track, number, timescale))
    return box(b"moov", *parts)


def _trak(track: NewTrack, number: int, timescale: int) -> bytes:
    raw = track.model.trak
    view = View(MemorySource(raw), 0, len(raw))
    length = track.duration * timescale // track.model.track.timescale
    header = child(view, 8, len(raw), b"tkhd")
    assert header is not None
    long = raw[header.body] == 1
    rest = raw[header.body + (36 if long else 24) : header.stop]
    flags = int.from_bytes(raw[header.body + 1 : header.body + 4], "big") | 1
    parts = [full(b"tkhd", struct.pack(">QQI4xQ", 0, 0, number, length), rest, version=1,
                  flags=flags)]
    if track.lead:
        parts.append(box(b"edts", full(b"elst", struct.pack(
            ">IQqHH", 1, length, track.lead, 1, 0), version=1)))
    for inner in children(view, 8, len(raw)):
        if inner.name == b"mdia":
            parts.append(_media(track, view, inner, raw))
        elif inner.name != b"tkhd" and inner.name not in DROPPED:
            parts.append(raw[inner.start : inner.stop])
    return box(b"trak", *parts)


def _media(track: NewTrack, view: View, media: Box, raw: bytes) -> bytes:
    parts = []
    for inner in children(view, media.body, media.stop):
        if inner.name == b"mdhd":
            long = raw[inner.body] == 1
            language = raw[inner.body + (32 if long else 20) : inner.stop]
            parts.append(full(b"mdhd", struct.pack(
                ">QQIQ", 0, 0, track.model.track.timescale, int(track.steps.sum())), language,
                version=1))
        elif inner.name == b"minf":
            parts.append(_information(track, view, inner, raw))
        elif inner.name not in DROPPED:
            parts.append(raw[inner.start : inner.stop])
    return box(b"mdia", *parts)


def _information(track: NewTrack, view: View, outer: Box, raw: bytes) -> bytes:
    parts = []
    for inner in children(view, outer.body, outer.stop):
        if inner.name == b"stbl":
            kept = [raw[b.start : b.stop] for b in children(view, inner.body, inner.stop)
                    if b.name not in TABLES]
            parts.append(box(b"stbl", *kept, *_tables(track)))
        else:
            parts.append(raw[inner.start : inner.stop])
    return box(b"minf", *parts)


def _runs(values: Iterable[int]) -> list[tuple[int, int]]:
    """(count, value) of equal ones in a row."""
    found: list[list[int]] = []
    for value in values:
        if found and found[-1][1] == value:
            found[-1][0] += 1
        else:
            found.append([1, value])
    return [(count, value) for count, value in found]


def _tables(track: NewTrack) -> list[bytes]:
    offsets, sizes = track.offsets, track.sizes
    steps = _runs(np.clip(track.steps, 0, LONGEST).tolist())
    out = [full(b"stts", struct.pack(">I", len(steps)), *(struct.pack(">II", *r) for r in steps))]
    if track.ahead is not None and track.ahead.any():
        ahead = _runs(np.clip(track.ahead, 0, LONGEST).tolist())
        out.append(full(b"ctts", struct.pack(">I", len(ahead)),
                        *(struct.pack(">II", *r) for r in ahead)))
    if track.keys is not None and not track.keys.all():
        numbers = np.flatnonzero(track.keys) + 1
        out.append(full(b"stss", struct.pack(">I", numbers.size),
                        numbers.astype(">u4").tobytes()))
    # A chunk is what stands in one line.
    begins = np.concatenate(([0], np.flatnonzero(offsets[1:] != offsets[:-1] + sizes[:-1]) + 1))
    counts = np.diff(np.concatenate((begins, [offsets.size])))
    chunks, number = [], 1
    for count, value in _runs(counts.tolist()):
        chunks.append(struct.pack(">III", number, value, 1))
        number += count
    out.append(full(b"stsc", struct.pack(">I", len(chunks)), *chunks))
    out.append(full(b"stsz", struct.pack(">II", 0, sizes.size), sizes.astype(">u4").tobytes()))
    out.append(full(b"co64", struct.pack(">I", begins.size),
                    offsets[begins].astype(">u8").tobytes()))
    return out
