"""A clip whose own index is there: followed again where only sizes or places are wrong, and as far
as the data still holds what it lists (ISO/IEC 14496-12, 8.7.5).
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from needlewright.core.errors import FormatError
from needlewright.core.mending.clips.tracks import (
    Longs,
    Model,
    ahead_of,
    keys_of,
    lead_of,
    models_of,
    moov_of,
)
from needlewright.core.mending.clips.writing import NewTrack
from needlewright.core.sources.source import Source
from needlewright.core.structures.bmff import Box
from needlewright.core.structures.samples import good_samples, judged
from needlewright.core.structures.view import View

LITTLE = 0.02  # share of samples below which an index is not that of the data
MOST_SPANS = 4096


@dataclass(slots=True)
class Own:
    """The index of a clip itself, with its place in the file."""

    moov: Box
    models: list[Model]


def own_index(source: Source) -> Own | None:
    """None where there is none that can be read and lists samples."""
    with suppress(FormatError):
        found = moov_of(source)
        if found is not None:
            models = models_of(*found)
            if any(m.track.offsets.size for m in models):
                return Own(found[1], models)
    return None


@dataclass(slots=True)
class Kept:
    """What is left of a clip by its own index. `lost`, `total`: samples; `spans`: seconds that are
    lost; `moved`: bytes by which the data lies elsewhere than the index says."""

    tracks: list[NewTrack]
    lost: int
    total: int
    spans: list[tuple[float, float]]
    share: float
    moved: int


def kept_by(source: Source, own: Own, start: int) -> Kept | None:
    """As much of the samples as the data still holds; None where the index does not lead to
    them."""
    places = [m.track.offsets for m in own.models if m.track.offsets.size]
    moves = [0, start - int(min(o.min() for o in places))] if places else [0]
    best: Kept | None = None
    for moved in dict.fromkeys(moves):
        kept = _kept(source, own, moved)
        if kept is not None and (best is None or kept.lost < best.lost):
            best = kept
    return best


def _kept(source: Source, own: Own, moved: int) -> Kept | None:
    view = View(source, 0, source.size)
    tracks, spans, lost, total, shown = [], list[tuple[float, float]](), 0, 0, False
    for model in own.models:
        track = model.track
        if not track.offsets.size or track.times.size != track.offsets.size + 1:
            continue
        here = track.offsets + moved
        inside = (here >= 8) & (here + track.sizes <= source.size)
        good = inside.copy()
        was, track.offsets = track.offsets, here
        try:
            if judged(track):
                good[inside] = good_samples(view, track)[inside]
                shown = shown or good.mean() > LITTLE
                if good.mean() < LITTLE:
                    return None
        finally:
            track.offsets = was
        total += good.size
        lost += int((~good).sum())
        if not good.any():
            continue
        spans += lost_spans(np.diff(track.times), good, track.timescale)
        tracks.append(_filtered(model, good, here))
    if not tracks or not shown:
        return None
    seconds = max(t.model.track.seconds for t in tracks)
    missing = sum(last - first for first, last in joined(spans, MOST_SPANS))
    share = max(0.0, 1 - missing / seconds) if seconds > 0 else 1.0
    return Kept(tracks, lost, total, spans, round(share, 4), moved)


def _filtered(model: Model, good: npt.NDArray[np.bool_], here: Longs) -> NewTrack:
    """The samples that are good up to the last of them; each of the others' time goes to the one
    before."""
    number = int(np.flatnonzero(good)[-1]) + 1
    track, keep = model.track, good[:number]
    steps = np.diff(track.times)[:number]
    owner = np.maximum(np.cumsum(keep) - 1, 0)
    held = np.zeros(int(keep.sum()), np.int64)
    np.add.at(held, owner, steps)
    ahead, keys = ahead_of(model.trak, good.size), keys_of(model.trak, good.size)
    return NewTrack(model, here[:number][keep], track.sizes[:number][keep], held,
                    None if ahead is None else ahead[:number][keep],
                    None if keys is None else keys[:number][keep], lead_of(model))


def lost_spans(steps: Longs, keep: npt.NDArray[np.bool_], timescale: int) -> list[
        tuple[float, float]]:
    """(start, stop) in seconds of samples that are not kept."""
    times = np.concatenate(([0], np.cumsum(steps))) / max(1, timescale)
    return [(float(times[i]), float(times[i + 1])) for i in np.flatnonzero(~keep)]


def joined(spans: list[tuple[float, float]], most: int) -> list[list[float]]:
    """The spans in order, those that nearly touch as one."""
    out: list[list[float]] = []
    for first, last in sorted(spans):
        if out and first <= out[-1][1] + 0.3:
            out[-1][1] = max(out[-1][1], round(last, 3))
        else:
            out.append([round(first, 3), round(last, 3)])
    return out[:most]


def moved_index(raw: bytes, by: int) -> bytes:
    """The index `raw`, a whole `moov` box, for data that lies `by` bytes farther on. FormatError
    where a place then does not fit."""
    out = bytearray(raw)
    for at, width in _places(raw, 8, len(raw)):
        form = ">I" if width == 4 else ">Q"
        value = struct.unpack_from(form, raw, at)[0] + by
        if not 0 <= value < 1 << 8 * width:
            raise FormatError("data-ends", offset=at)
        struct.pack_into(form, out, at, value)
    return bytes(out)


def _places(raw: bytes, start: int, stop: int) -> Iterator[tuple[int, int]]:
    """(byte, width) of every chunk offset (8.7.5)."""
    at = start
    while at + 8 <= stop:
        size, name = int.from_bytes(raw[at : at + 4], "big"), raw[at + 4 : at + 8]
        if size < 8 or at + size > stop:
            return
        if name in (b"trak", b"mdia", b"minf", b"stbl"):
            yield from _places(raw, at + 8, at + size)
        elif name in (b"stco", b"co64"):
            width = 4 if name == b"stco" else 8
            count = int.from_bytes(raw[at + 12 : at + 16], "big")
            for index in range(min(count, (size - 16) // width)):
                yield at + 16 + index * width, width
        at += size
