"""MP4, MOV and their like: an index made anew, from what is left of it or with a sibling's description.

The samples stay where they lie in the data; what is between them belongs to nothing and stays as well, where
no player looks. How they are coded comes from the clip's own index, else from a sibling.
"""

from __future__ import annotations

import struct
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from typing import BinaryIO

import numpy as np
import numpy.typing as npt

from needlewright.core.errors import FormatError
from needlewright.core.mending.base import Change, Mended, Mender, Patient, Reference, Unmendable
from needlewright.core.mending.clips.finding import Finder, Found, Samples, display_ranks
from needlewright.core.mending.clips.tracks import SOUND, VIDEO, Model, models_of, moov_of
from needlewright.core.mending.clips.writing import NewTrack, box, moov
from needlewright.core.mending.registry import register
from needlewright.core.sources.source import Source
from needlewright.core.structures.bmff import Box, top_level
from needlewright.core.structures.samples import good_samples
from needlewright.core.structures.view import View

COPY_BYTES = 1 << 22
TRIAL_BYTES = 8 << 20  # in which the description of a sibling must find samples
LEAST = 3  # samples below which nothing was found
MOST_TOLD = 40
MOVIE_SCALE = 1000
Longs = npt.NDArray[np.int64]


@dataclass(slots=True)
class _Described:
    """How the tracks of a clip are coded, and who says so."""

    models: list[Model]
    reference: Reference | None
    own: bool

    def first(self, handler: bytes) -> Model | None:
        return next((m for m in self.models if m.track.handler == handler), None)


def mend(patient: Patient) -> Mended:
    source = patient.source
    patient.breathe(0.0)
    start, stop, head = _data_of(source)
    own = _own(source)
    if own is not None:
        mended = _by_own_index(patient, own, start, stop)
        if mended is not None:
            return mended
    described = _described(patient, own, start, stop)
    video, sound = described.first(VIDEO), described.first(SOUND)
    video = video if video is not None and video.coding else None
    sound = sound if sound is not None and sound.channels else None
    if video is None and sound is None:
        raise Unmendable("coding-unknown")
    found = Finder(source, start, stop, video, sound, lambda s: patient.breathe(0.05 + 0.8 * s)).run()
    if len(found.video.offsets) + len(found.sound.offsets) < LEAST:
        raise Unmendable("samples-none")
    return _made(patient, described, video, sound, found, head, start, stop)


def _data_of(source: Source) -> tuple[int, int, bytes]:
    """(start, stop of the media data, the box of the file type)."""
    view = View(source, 0, source.size)
    head, start = b"", 0
    last_stop = 0
    for found in top_level(view, 0):
        if found.name == b"ftyp" and found.size <= 4096:
            head = view.peek(found.start, found.size)
        if found.name == b"mdat":
            start = found.body
            if view.peek(start, 8)[4:] == b"mdat":  # a wide box in front, whose size was never written
                start += 8
            return start, _stop_of(source, view, found, start), head
        last_stop = min(found.stop, source.size)
    place = _find(source, b"mdat", 0)
    if place is not None:
        return place + 4, source.size, head
    return last_stop if head else 0, source.size, head


def _stop_of(source: Source, view: View, mdat: Box, start: int) -> int:
    """Where the data ends: as its box says if something known follows there, else at the file's end."""
    if mdat.open_ended or mdat.stop > source.size or mdat.stop <= start:
        return source.size
    behind = next(iter(top_level(view, mdat.stop)), None)
    return mdat.stop if behind is not None and behind.name in (b"moov", b"free", b"skip", b"udta",
                                                              b"uuid", b"meta") else source.size


def _find(source: Source, mark: bytes, at: int) -> int | None:
    limit = min(source.size, at + (1 << 22))
    place = source.read_at(at, limit - at).find(mark)
    return None if place < 0 else at + place


def _own(source: Source) -> list[Model] | None:
    with suppress(FormatError):
        found = moov_of(source)
        if found is not None:
            models = models_of(*found)
            if any(m.track.offsets.size for m in models):
                return models
    return None


def _by_own_index(patient: Patient, own: list[Model], start: int, stop: int) -> Mended | None:
    """A clip whose own index is there: as much of it as the data still holds, where it still points there."""
    source = patient.source
    view = View(source, 0, source.size)
    kept: list[NewTrack] = []
    lost, total = 0, 0
    spans: list[tuple[float, float]] = []
    for model in own:
        track = model.track
        if not track.offsets.size or track.times.size != track.offsets.size + 1:
            continue
        patient.breathe(0.1)
        inside = (track.offsets >= 8) & (track.offsets + track.sizes <= source.size)
        good = inside.copy()
        good[inside] = good_samples(view, track)[inside]
        total += good.size
        lost += int((~good).sum())
        if good.mean() < 0.02:
            return None
        number = int(np.flatnonzero(good)[-1]) + 1
        keep = good[:number]
        steps = np.diff(track.times)[:number]
        spans += _lost_spans(steps, keep, track.timescale)
        if track.times.size > number + 1:
            spans.append((float(track.times[number]) / track.timescale, track.seconds))
        kept.append(_filtered(model, keep, steps))
    if not kept or lost == 0 or lost > 0.98 * total:
        return None
    seconds = max((t.model.track.seconds for t in kept), default=0.0)
    there = min((float(t.steps.sum()) / t.model.track.timescale for t in kept), default=0.0)
    share = round(min(1.0, there / seconds) if seconds else 1.0, 4)
    change = Change("samples-dropped", {"samples": lost, "seconds": _joined(spans)})
    doubts = () if lost == 0 else ("parts-lost",)
    return Mended(_writer(source, start, stop, b"", kept), _extension(patient),
                  (change, Change("index-made", {"samples": total - lost})), share, doubts)


def _filtered(model: Model, keep: npt.NDArray[np.bool_], steps: Longs) -> NewTrack:
    """The samples that are good, each of the others' time given to the one before."""
    number = keep.size
    track = model.track
    owner = np.maximum(np.cumsum(keep) - 1, 0)
    held = np.zeros(int(keep.sum()), np.int64)
    np.add.at(held, owner, steps)
    return NewTrack(model, track.offsets[:number][keep], track.sizes[:number][keep], held)


def _lost_spans(steps: Longs, keep: npt.NDArray[np.bool_], timescale: int) -> list[
        tuple[float, float]]:
    times = np.concatenate(([0], np.cumsum(steps))) / max(1, timescale)
    return [(float(times[i]), float(times[i + 1])) for i in np.flatnonzero(~keep)[:4096]]


def _joined(spans: list[tuple[float, float]]) -> list[list[float]]:
    out: list[list[float]] = []
    for first, last in sorted(spans):
        if out and first <= out[-1][1] + 0.3:
            out[-1][1] = max(out[-1][1], round(last, 2))
        else:
            out.append([round(first, 2), round(last, 2)])
    return out[:MOST_TOLD]


def _described(patient: Patient, own: list[Model] | None, start: int, stop: int) -> _Described:
    """The description with which samples are found; Unmendable where none does."""
    if own is not None:
        return _Described(own, None, True)
    tried = 0
    best: tuple[int, _Described] | None = None
    for reference in patient.references:
        with suppress(FormatError):
            found = moov_of(reference.source)
            if found is None:
                continue
            described = _Described(models_of(*found), reference, False)
            tried += 1
            patient.breathe(0.02)
            count = _samples_with(patient.source, described, start, stop)
            if count >= LEAST and (best is None or count > best[0]):
                best = count, described
    if best is not None:
        return best[1]
    if not patient.references:
        raise Unmendable("index-reference-missing")
    raise Unmendable("index-reference-other" if tried else "reference-damaged")


def _samples_with(source: Source, described: _Described, start: int, stop: int) -> int:
    """How much of the first few MB is samples as described, in thousandths of a percent; 0 for little."""
    video, sound = described.first(VIDEO), described.first(SOUND)
    video = video if video is not None and video.coding else None
    sound = sound if sound is not None and sound.channels else None
    if video is None and sound is None:
        return 0
    end = min(stop, start + TRIAL_BYTES)
    found = Finder(source, start, end, video, sound, lambda share: None).run()
    size = sum(found.video.sizes) + sum(found.sound.sizes)
    wanted = (video is None or found.video.offsets) and (sound is None or found.sound.offsets or
                                                         video is not None)
    return int(100_000 * size / max(1, end - start)) if wanted and size > 0.2 * (end - start) else 0


def _made(patient: Patient, described: _Described, video: Model | None, sound: Model | None,
          found: Found, head: bytes, start: int, stop: int) -> Mended:
    tracks, changes, spans = [], [], list[tuple[float, float]]()
    dropped = 0
    rate = _bytes_a_second(found, video, sound)
    if video is not None and found.video.offsets:
        track, count, lost = _pictures(video, found.video, rate)
        dropped += count
        spans += lost
        tracks.append(track)
    if sound is not None and found.sound.offsets:
        track, lost = _sounds(sound, found.sound, rate)
        spans += lost
        tracks.append(track)
    if not tracks:
        raise Unmendable("samples-none")
    samples = sum(t.offsets.size for t in tracks)
    changes.append(Change("index-made", {"samples": samples}))
    if described.reference is not None:
        changes.append(Change("index-lent", {"reference": described.reference.name}))
    gaps = sum(1 for g in (*found.video.gap, *found.sound.gap) if g)
    if dropped or gaps:
        changes.append(Change("samples-dropped", {"samples": dropped, "seconds": _joined(spans)}))
    seconds = max(t.duration / t.model.track.timescale for t in tracks)
    missing = sum(last - first for first, last in _joined(spans))
    share = round(max(0.0, 1 - missing / seconds) if seconds > 0 else 0.0, 4)
    doubts = ("parts-lost",) if dropped or gaps else ()
    return Mended(_writer(patient.source, start, stop, head, tracks), _extension(patient),
                  tuple(changes), share, doubts, described.reference)


def _bytes_a_second(found: Found, video: Model | None, sound: Model | None) -> float:
    size = sum(found.video.sizes) + sum(found.sound.sizes)
    lengths = [len(samples.offsets) * model.step / model.track.timescale
               for samples, model in ((found.video, video), (found.sound, sound))
               if model is not None and samples.offsets]
    return size / max(lengths) if lengths and max(lengths) > 0 else 0.0


def _pictures(model: Model, samples: Samples, rate: float) -> tuple[
        NewTrack, int, list[tuple[float, float]]]:
    """(track, samples dropped, seconds lost). Behind a damaged picture the next key picture is the first that
    is shown as it was."""
    ranks = display_ranks(samples, model.order.lsb_bits if model.order is not None else 0)
    keep = np.array(samples.whole, np.bool_)
    keys = np.array(samples.key, np.bool_)
    waits = not keys[0] if keys.any() else False
    for number in range(keep.size):
        if not keep[number] or samples.gap[number] and number:
            waits = True
        if keys[number] and keep[number]:
            waits = False
        if waits:
            keep[number] = False
    if not keep.any():
        keep[:] = True
    steps = np.full(keep.size, model.step, np.int64)
    spans = []
    scale = model.track.timescale
    for number, gap in enumerate(samples.gap):
        if gap and number and rate:
            held = round(gap / rate * scale / model.step) * model.step
            steps[number - 1] += held
            begin = float(steps[:number].sum() - held) / scale
            spans.append((begin, begin + held / scale))
    spans += _lost_spans(steps, keep, scale)
    first = int(np.flatnonzero(keep)[0])
    owner = np.maximum(np.cumsum(keep) - 1, 0)
    held_steps = np.zeros(int(keep.sum()), np.int64)
    np.add.at(held_steps, owner, steps)
    kept = np.flatnonzero(keep)
    # Times of display: as many steps as pictures that are shown before, whether they are there or not.
    decode = np.concatenate(([0], np.cumsum(held_steps)[:-1]))
    all_times = np.concatenate(([0], np.cumsum(steps)))
    shown = all_times[ranks[kept]] - (all_times[ranks[first:]].min() if first else 0)
    ahead = shown - decode
    lead = int(max(0, -ahead.min()))
    lead = -(-lead // model.step) * model.step
    track = NewTrack(model, np.array(samples.offsets, np.int64)[keep],
                     np.array(samples.sizes, np.int64)[keep], held_steps, ahead + lead,
                     keys[keep] if keys.any() else None, lead)
    return track, int((~keep).sum()), spans


def _sounds(model: Model, samples: Samples, rate: float) -> tuple[
        NewTrack, list[tuple[float, float]]]:
    steps = np.full(len(samples.offsets), model.step, np.int64)
    spans = []
    scale = model.track.timescale
    for number, gap in enumerate(samples.gap):
        if gap and number and rate:
            held = round(gap / rate * scale / model.step) * model.step
            steps[number - 1] += held
            begin = float(steps[:number].sum() - held) / scale
            spans.append((begin, begin + held / scale))
    track = NewTrack(model, np.array(samples.offsets, np.int64), np.array(samples.sizes, np.int64),
                     steps, lead=_lead_of(model))
    return track, spans


def _lead_of(model: Model) -> int:
    """The time in front of the sound that is shown, as the edit list says it (8.6.6)."""
    raw = model.trak
    at = raw.find(b"elst")
    if at < 0 or len(raw) < at + 28:
        return 0
    version, count = raw[at + 4], int.from_bytes(raw[at + 8 : at + 12], "big")
    if count != 1:
        return 0
    where = at + 12 + (8 if version == 1 else 4)
    lead = int.from_bytes(raw[where : where + (8 if version == 1 else 4)], "big", signed=True)
    return lead if 0 < lead < model.track.timescale else 0


def _extension(patient: Patient) -> str:
    suffix = patient.name.rpartition(".")[2].lower()
    return suffix if suffix in ("mp4", "mov", "m4v", "3gp", "m4a", "qt") else "mp4"


def _writer(source: Source, start: int, stop: int, head: bytes,
            tracks: list[NewTrack]) -> Callable[[BinaryIO], None]:
    """The file type, the data as it is, and the index behind it."""
    if not head:
        head = box(b"ftyp", b"isom", struct.pack(">I", 512), b"isom", b"mp42")
        kept = source.read_at(0, min(4096, source.size))
        if kept[4:8] == b"ftyp" and 16 <= int.from_bytes(kept[:4], "big") <= 512:
            head = kept[: int.from_bytes(kept[:4], "big")]

    def write(out: BinaryIO) -> None:
        out.write(head)
        out.write(struct.pack(">I4sQ", 1, b"mdat", stop - start + 16))
        moved = len(head) + 16 - start
        at = start
        while at < stop:
            block = source.read_at(at, min(COPY_BYTES, stop - at))
            if not block:
                break
            out.write(block)
            at += len(block)
        for track in tracks:
            track.offsets = track.offsets + moved
        try:
            out.write(moov(tracks, MOVIE_SCALE))
        finally:
            for track in tracks:
                track.offsets = track.offsets - moved
    return write


register(Mender("clip", frozenset(("mp4", "mov", "m4v", "3gp", "m4a")), mend))
