"""MP4, MOV and their like: an index made anew, from what is left of it or with a sibling's
description.

The samples stay where they lie in the data; what is between them belongs to nothing and stays as
well, where no player looks. How they are coded comes from the clip's own index, else from a
sibling, else from what its data itself repeats.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import dataclass
from typing import BinaryIO

from needlewright.core.errors import FormatError
from needlewright.core.mending.base import Change, Mended, Mender, Patient, Reference, Unmendable
from needlewright.core.mending.clips import own_sets
from needlewright.core.mending.clips.finding import Finder, Found
from needlewright.core.mending.clips.own_index import (
    Kept,
    Own,
    joined,
    kept_by,
    moved_index,
    own_index,
)
from needlewright.core.mending.clips.timing import bytes_a_second, pictures, sounds
from needlewright.core.mending.clips.tracks import SOUND, VIDEO, Model, models_of, moov_of
from needlewright.core.mending.clips.writing import NewTrack, moov
from needlewright.core.mending.registry import register
from needlewright.core.mending.streams.pieces import copy
from needlewright.core.sources.source import Source
from needlewright.core.structures.bmff import Box, top_level
from needlewright.core.structures.bmff_writing import box
from needlewright.core.structures.view import View

TRIAL_BYTES = 8 << 20  # in which the description of a sibling must find samples
LEAST = 3  # samples below which nothing was found
MOST_TOLD = 40
MOST_SIBLINGS = 4  # whose descriptions are tried to the end
MOVIE_SCALE = 1000
UNKNOWN = 0.01  # of the data that is no samples
BEHIND = frozenset((b"moov", b"free", b"skip", b"udta", b"uuid", b"meta"))


@dataclass(frozen=True, slots=True)
class _Data:
    """Where the media data lies; `claimed`: where its box says that it ends, None where it says
    nothing; `head`: the box of the file type."""

    start: int
    stop: int
    claimed: int | None
    head: bytes


@dataclass(slots=True)
class _Described:
    """How the tracks of a clip are coded, and who says so."""

    models: list[Model]
    reference: Reference | None
    by_data: bool = False
    guessed: bool = False  # how fast it plays

    @property
    def video(self) -> Model | None:
        return next((m for m in self.models if m.track.handler == VIDEO and m.coding), None)

    @property
    def sound(self) -> Model | None:
        return next((m for m in self.models if m.track.handler == SOUND
                     and (m.channels or (m.chunks.size and self.video is not None))), None)


def mend(patient: Patient) -> Iterator[Mended]:
    """The clip by its own index, then with samples found anew."""
    source = patient.source
    patient.breathe(0.0)
    own = own_index(source)
    data = _data_of(source, own)
    if own is not None:
        kept = kept_by(source, own, data.start)
        if kept is not None:
            yield _by_own_index(patient, own, kept, data)
    failed: Unmendable | None = None
    for described in _described(patient, own, data):
        try:
            yield _found_anew(patient, described, data)
        except Unmendable as error:
            failed = error
    if failed is not None:
        raise failed


def _data_of(source: Source, own: Own | None) -> _Data:
    view = View(source, 0, source.size)
    head = b""
    limit = source.size
    for found in top_level(view, 0):
        if found.name == b"ftyp" and found.size <= 4096:
            head = view.peek(found.start, found.size)
        if found.name == b"mdat":
            start = found.body
            if view.peek(start, 8)[4:] == b"mdat":  # room was left for a longer size, never written
                start += 8
            if own is not None and own.moov.start > start:
                limit = own.moov.start
            claimed = None if found.open_ended or found.size <= 16 else found.stop
            return _Data(start, _stop_of(view, found, start, limit), claimed, head)
    start = len(head)
    block = source.read_at(start, min(1 << 22, source.size - start))
    place = block.find(b"mdat")
    if place >= 0:
        start += place + 4
    if own is not None and own.moov.start > start:
        limit = own.moov.start
    return _Data(start, limit, None, head)


def _stop_of(view: View, mdat: Box, start: int, limit: int) -> int:
    """Where the data ends: as its box says if something known follows there, else as far as it
    may."""
    if mdat.open_ended or mdat.stop > limit or mdat.stop <= start:
        return limit
    if mdat.stop == view.stop:
        return mdat.stop
    behind = next(iter(top_level(view, mdat.stop)), None)
    return mdat.stop if behind is not None and behind.name in BEHIND else limit


def _by_own_index(patient: Patient, own: Own, kept: Kept, data: _Data) -> Mended:
    source = patient.source
    if kept.lost == 0:
        raw = source.read_at(own.moov.start, own.moov.stop - own.moov.start)
        count = 1 + (sum(t.offsets.size for t in kept.tracks) if kept.moved else 0)
        return Mended(_writer(source, data, lambda by: moved_index(raw, by + kept.moved)),
                      _extension(patient), (Change("sizes-corrected", {"count": count}),))
    changes = (Change("samples-dropped", {"samples": kept.lost,
                                          "seconds": joined(kept.spans, MOST_TOLD)}),
               Change("index-made", {"samples": kept.total - kept.lost}))
    return Mended(_writer(source, data, _new_index(kept.tracks)), _extension(patient), changes,
                  kept.share)


def _described(patient: Patient, own: Own | None, data: _Data) -> Iterator[_Described]:
    """Descriptions with which samples are found, the likeliest first; Unmendable where none
    does."""
    if own is not None:
        yield _Described(own.models, None)
        return
    tried = 0
    fitting: list[tuple[int, int, _Described]] = []
    suffix = patient.name.rpartition(".")[2].lower()
    for number, reference in enumerate(patient.references):
        with suppress(FormatError):
            found = moov_of(reference.source)
            if found is None:
                continue
            described = _Described(models_of(*found), reference)
            tried += 1
            patient.breathe(0.02)
            count = _samples_with(patient.source, described, data)
            same = reference.name.lower().endswith(f".{suffix}")
            if count:
                fitting.append((count + (10 if same else 0), -number, described))
    if not fitting:
        by_data = own_sets.described(patient.source, data.start, data.stop,
                                     lambda share: patient.breathe(0.02))
        if by_data is not None:
            yield _Described(by_data.models, None, True, by_data.guessed)
            return
        if not patient.references:
            raise Unmendable("index-reference-missing")
        raise Unmendable("index-reference-other" if tried else "reference-damaged")
    fitting.sort(key=lambda item: item[:2], reverse=True)
    for _, _, described in fitting[:MOST_SIBLINGS]:
        yield described


def _samples_with(source: Source, described: _Described, data: _Data) -> int:
    """How much of the first few MB is samples as described, in thousandths; 0 for little."""
    video, sound = described.video, described.sound
    if video is None and sound is None:
        return 0
    end = min(data.stop, data.start + TRIAL_BYTES)
    found = Finder(source, data.start, end, video, sound, lambda share: None).run()
    size = sum(found.video.sizes) + sum(found.sound.sizes)
    if (video is not None and not found.video.offsets) or size < 0.2 * (end - data.start):
        return 0
    return int(1000 * size / max(1, end - data.start))


def _found_anew(patient: Patient, described: _Described, data: _Data) -> Mended:
    video, sound = described.video, described.sound
    if video is None and sound is None:
        raise Unmendable("coding-unknown")
    found = Finder(patient.source, data.start, data.stop, video, sound,
                   lambda share: patient.breathe(0.05 + 0.8 * share)).run()
    if len(found.video.offsets) + len(found.sound.offsets) < LEAST:
        raise Unmendable("samples-none")
    if _has_unknown(described, found, data):
        found.video.gap = [0] * len(found.video.gap)  # it stands between pictures, for no time
    return _made(patient, described, found, data)


def _has_unknown(described: _Described, found: Found, data: _Data) -> bool:
    """Whether much of the data is neither pictures nor sound that the data itself describes: sound
    of another coding."""
    return described.by_data and described.sound is None and (
        found.passed > UNKNOWN * (data.stop - data.start))


def _made(patient: Patient, described: _Described, found: Found, data: _Data) -> Mended:
    video, sound = described.video, described.sound
    tracks: list[NewTrack] = []
    spans: list[tuple[float, float]] = []
    dropped = 0
    rate = bytes_a_second(found, video, sound)
    if video is not None and found.video.offsets:
        track, dropped, lost = pictures(video, found.video, rate)
        spans += lost
        tracks.append(track)
    if sound is not None and found.sound.offsets:
        track, lost = sounds(sound, found.sound, rate)
        spans += lost
        tracks.append(track)
    changes = [Change("index-made", {"samples": sum(t.offsets.size for t in tracks)})]
    if described.by_data:
        changes.append(Change("described-by-data"))
    if described.reference is not None:
        changes.append(Change("index-lent", {"reference": described.reference.name}))
    seconds = max(t.duration / t.model.track.timescale for t in tracks)
    lost_spans = joined(spans, MOST_TOLD)
    if dropped or lost_spans:
        changes.append(Change("samples-dropped", {"samples": dropped, "seconds": lost_spans}))
    missing = sum(last - first for first, last in lost_spans)
    share = max(0.0, 1 - missing / seconds) if seconds > 0 else 0.0
    if data.claimed is not None and data.claimed > patient.source.size:
        there = (data.stop - data.start) / max(1, data.claimed - data.start)
        changes.append(Change("rest-cut-off", {"share": round(1 - there, 4)}))
        share *= there
    doubts = []
    if described.guessed:
        doubts.append("pace-guessed")
    if _has_unknown(described, found, data):
        doubts.append("sound-unknown")
    return Mended(_writer(patient.source, data, _new_index(tracks)), _extension(patient),
                  tuple(changes), round(share, 4), tuple(doubts), described.reference)


def _extension(patient: Patient) -> str:
    suffix = patient.name.rpartition(".")[2].lower()
    return suffix if suffix in ("mp4", "mov", "m4v", "3gp", "m4a") else "mp4"


def _new_index(tracks: list[NewTrack]) -> Callable[[int], bytes]:
    """The index for data that lies so many bytes farther on."""
    def made(by: int) -> bytes:
        return moov([NewTrack(t.model, t.offsets + by, t.sizes, t.steps, t.ahead, t.keys, t.lead)
                     for t in tracks], MOVIE_SCALE)
    return made


def _writer(source: Source, data: _Data, index: Callable[[int], bytes]) -> Callable[
        [BinaryIO], None]:
    """The file type, the data as it is, and the index behind it."""
    head = data.head or box(b"ftyp", b"isom", struct.pack(">I", 512), b"isom", b"mp42")

    def write(out: BinaryIO) -> None:
        out.write(head)
        out.write(struct.pack(">I4sQ", 1, b"mdat", data.stop - data.start + 16))
        copy(source, data.start, data.stop, out)
        out.write(index(len(head) + 16 - data.start))
    return write


register(Mender("clip", frozenset(("mp4", "mov", "m4v", "3gp", "m4a")), mend))
