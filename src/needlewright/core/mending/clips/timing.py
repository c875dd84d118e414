"""When each of the samples that were found is decoded and shown: at the usual step of a sibling,
in the order of display that the pictures state, with time held where samples are missing.
"""

from __future__ import annotations

import numpy as np

from needlewright.core.mending.clips.finding import Found, Samples, display_ranks
from needlewright.core.mending.clips.own_index import lost_spans
from needlewright.core.mending.clips.tracks import Longs, Model, lead_of
from needlewright.core.mending.clips.writing import NewTrack


def bytes_a_second(found: Found, video: Model | None, sound: Model | None) -> float:
    """How many bytes of the data a second of the clip takes."""
    size = sum(found.video.sizes) + sum(found.sound.sizes)
    lengths = [_duration(samples, model) / model.track.timescale
               for samples, model in ((found.video, video), (found.sound, sound))
               if model is not None and samples.offsets]
    return size / max(lengths) if lengths and max(lengths) > 0 else 0.0


def _duration(samples: Samples, model: Model) -> int:
    """In units of the track's timescale; of plain sound that is one a sample of all channels."""
    if model.chunks.size and model.track.frame_bytes:
        return sum(samples.sizes) // model.track.frame_bytes
    return len(samples.offsets) * model.step


def _held(samples: Samples, steps: Longs, model: Model, rate: float) -> list[tuple[float, float]]:
    """Add to `steps` the time that is missing in gaps; returns the seconds."""
    spans, scale = [], model.track.timescale
    for number, gap in enumerate(samples.gap):
        if gap and number and rate:
            held = round(gap / rate * scale / model.step) * model.step
            begin = float(steps[:number].sum()) / scale
            steps[number - 1] += held
            spans.append((begin, begin + held / scale))
    return spans


def pictures(model: Model, samples: Samples, rate: float) -> tuple[
        NewTrack, int, list[tuple[float, float]]]:
    """(track, samples dropped, seconds lost). Behind a damaged picture the next key picture is the
    first that is shown as it was."""
    ranks = display_ranks(samples, model.order.lsb_bits if model.order is not None else 0)
    keep, keys = np.array(samples.whole, np.bool_), np.array(samples.key, np.bool_)
    waits = bool(keys.any()) and not keys[0]
    for number in range(keep.size):
        waits = waits or not keep[number] or bool(samples.gap[number] and number)
        if keys[number] and keep[number]:
            waits = False
        keep[number] = keep[number] and not waits
    if not keep.any():
        keep[:] = True
    steps = np.full(keep.size, model.step, np.int64)
    spans = _held(samples, steps, model, rate)
    spans += lost_spans(steps, keep, model.track.timescale)
    kept = np.flatnonzero(keep)
    first = int(kept[0])
    owner = np.maximum(np.cumsum(keep) - 1, 0)
    held_steps = np.zeros(kept.size, np.int64)
    np.add.at(held_steps, owner, steps)
    decoded = np.concatenate(([0], np.cumsum(held_steps)[:-1]))
    times = np.concatenate(([0], np.cumsum(steps)))
    ahead = times[ranks[kept]] - times[int(ranks[first:].min())] - decoded
    lead = -(-max(0, -int(ahead.min())) // model.step) * model.step
    track = NewTrack(model, np.array(samples.offsets, np.int64)[keep],
                     np.array(samples.sizes, np.int64)[keep], held_steps, ahead + lead,
                     keys[keep] if keys.any() else None, lead)
    return track, int((~keep).sum()), spans


def sounds(model: Model, samples: Samples, rate: float) -> tuple[
        NewTrack, list[tuple[float, float]]]:
    """(track, seconds lost)."""
    if model.chunks.size and model.track.frame_bytes:
        return _plain(model, samples), []
    steps = np.full(len(samples.offsets), model.step, np.int64)
    spans = _held(samples, steps, model, rate)
    return NewTrack(model, np.array(samples.offsets, np.int64), np.array(samples.sizes, np.int64),
                    steps, lead=lead_of(model)), spans


def _plain(model: Model, samples: Samples) -> NewTrack:
    """Stretches of plain sound as samples of all channels each."""
    width = model.track.frame_bytes
    counts = np.array(samples.sizes, np.int64) // width
    within = np.arange(int(counts.sum())) - np.repeat(np.cumsum(counts) - counts, counts)
    offsets = np.repeat(np.array(samples.offsets, np.int64), counts) + within * width
    count = offsets.size
    return NewTrack(model, offsets, np.full(count, width, np.int64), np.ones(count, np.int64))
