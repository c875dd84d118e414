"""Clips and sound in ISO base media files: MP4, MOV, M4V, 3GP, M4A.

ISO/IEC 14496-12:2022, 14496-14, 3GPP TS 26.244, QuickTime File Format (2016). Big-endian. The index
is checked against the data: every chunk inside, every sample what its track says. Movie headers
that are compressed (`cmov`) are recognised and not read.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from functools import cache

import numpy as np
import numpy.typing as npt

from needlewright.core.decoders import Decoder
from needlewright.core.errors import FormatError
from needlewright.core.formats.base import Format, Signature
from needlewright.core.formats.registry import formats, register
from needlewright.core.sources.source import Source
from needlewright.core.structures.bmff import (
    Box,
    brands,
    child,
    top_level,
)
from needlewright.core.structures.bmff_samples import (
    Track,
    add_fragment,
    read_tracks,
    track_defaults,
)
from needlewright.core.structures.samples import good_samples, judged
from needlewright.core.structures.stream_end import cut_check, padded_with_zeros
from needlewright.core.structures.view import Parts, View, end_mark, structure
from needlewright.core.walks import Break, Check, Facts, Kind, Outcome, Variant, Walk

MP4 = Variant("mp4", "mp4", Kind.VIDEO, Decoder.CLIP)
MOV = Variant("mov", "mov", Kind.VIDEO, Decoder.CLIP)
M4V = Variant("m4v", "m4v", Kind.VIDEO, Decoder.CLIP)
GP3 = Variant("3gp", "3gp", Kind.VIDEO, Decoder.CLIP)
M4A = Variant("m4a", "m4a", Kind.AUDIO, Decoder.SOUND)
PICTURES = frozenset((b"jp2 ", b"jpx "))  # brands of pictures that no format of ours reads
OPENING = (b"moov", b"mdat", b"wide", b"free", b"skip", b"pnot")  # of files older than `ftyp`
EPOCH = datetime(1904, 1, 1, tzinfo=UTC)
YEARS = range(1971, 2107)
#: Codings whose decoders take foreign data for pictures.
# Codings whose decoders notice less than nine in ten foreign clusters.
SILENT = frozenset((b"vp08", b"vp09", b"av01", b"raw ", b"2vuy", b"v210", b"hvc1", b"hev1", b"dvh1",
                    b"dvhe"))
PLACED = frozenset((b"free", b"skip", b"wide", b"uuid", b"udta", b"meta", b"mfra", b"pnot",
                    b"PICT"))


@dataclass(slots=True)
class _State:
    """What a walk knows. `stop`: behind the last box that belongs to the file."""

    view: View
    stop: int
    ftyp: Box | None = None
    moov: Box | None = None
    data: list[Box] = field(default_factory=list)
    tracks: list[Track] = field(default_factory=list)
    fragmented: bool = False
    closed: bool = False  # the index of fragments, which stands at the end
    parts: Parts = field(default_factory=Parts)


def _gather(state: _State, start: int) -> None:
    """Take the boxes that follow one another and can belong to one file; FormatError where not."""
    view, defaults = state.view, dict[int, tuple[int, int]]()
    for box in top_level(view, start):
        if box.name == b"ftyp" and box.start != start:
            break  # the next file
        if state.moov is not None and not _belongs(state, box):
            break
        if box.name == b"moov":
            if box.stop > view.stop:
                raise FormatError("data-ends", offset=view.stop)
            state.moov = box
            state.tracks = read_tracks(view, box, view.start)
            defaults = track_defaults(view, box)
        elif box.name == b"moof":
            state.fragmented = True
            if state.moov is not None:
                add_fragment(view, box, state.tracks, defaults)
        elif box.name in (b"mdat", b"imda"):
            if box.open_ended:
                _settle(state)
            box = _closed(state, box)
            state.data.append(box)
        elif box.name == b"ftyp":
            state.ftyp = box
        state.closed = state.closed or box.name == b"mfra"
        state.stop = min(box.stop, view.stop)
        state.parts.add(_part_name(box), box.start, state.stop)
        if box.stop > view.stop:
            raise FormatError("data-ends", offset=view.stop)
    if state.moov is None:
        raise FormatError("clip-index-missing", offset=state.stop)


def _settle(state: _State) -> None:
    for track in state.tracks:
        track.settle()


def _belongs(state: _State, box: Box) -> bool:
    """Whether `box`, behind a complete index, can be part of the same file."""
    if box.name in PLACED or box.name in (b"moof", b"sidx", b"styp", b"ssix", b"prft", b"emsg"):
        return True
    if box.name == b"mdat":
        inside = any(((t.offsets >= box.body) & (t.offsets < box.stop)).any()
                     for t in state.tracks)
        return inside or state.fragmented or not state.data
    return box.name not in (b"moov", b"ftyp")


def _closed(state: _State, box: Box) -> Box:
    """An open-ended `mdat` closed at the last sample that the index puts into it."""
    if not box.open_ended:
        return box
    ends = [int((t.offsets + t.sizes).max()) for t in state.tracks if t.offsets.size]
    stop = max(ends, default=0)
    if not box.body < stop <= state.view.stop:
        raise FormatError("media-length-unstated", offset=box.body)
    return Box(box.name, box.start, box.body, stop)


def _part_name(box: Box) -> str:
    return {b"ftyp": "file type", b"moov": "index", b"moof": "fragment index",
            b"mdat": "media data"}.get(box.name, box.name.decode("latin-1").strip() or "box")


@dataclass(frozen=True, slots=True)
class _Samples:
    """How the samples fared. `first`: the first bad one in file order, if any: (track, index)."""

    total: int
    bad: int
    share: float
    first: tuple[Track, int] | None
    rest_bad: bool  # nothing good follows the first bad one
    judged: bool
    outside: bool
    sure: int | None  # the last that was judged good: of it only the beginning is known

    @property
    def offset(self) -> int:
        assert self.first is not None
        return int(self.first[0].offsets[self.first[1]])


def _look_at_samples(state: _State) -> _Samples:
    total = bad = 0
    shares: list[float] = []
    first: tuple[int, Track, int] | None = None
    last_good = -1
    outside = False
    for track in state.tracks:
        if track.offsets.size == 0:
            continue
        good = good_samples(state.view, track) & _in_data(state, track)
        outside = outside or bool((~_in_data(state, track)).any())
        total += good.size
        bad += int((~good).sum())
        if track.handler in (b"vide", b"soun"):
            shares.append(_time_share(track, good))
        wrong = np.flatnonzero(~good)
        if wrong.size:
            index = int(wrong[np.argmin(track.offsets[wrong])])
            place = int(track.offsets[index])
            if first is None or place < first[0]:
                first = (place, track, index)
        if good.any() and judged(track):
            last_good = max(last_good, int(track.offsets[good].max()))
    bound = 1 << 62 if first is None else first[0]
    sure = max((int(t.offsets[t.offsets < bound].max()) for t in state.tracks
                if judged(t) and (t.offsets < bound).any()),
               default=min((int(t.offsets.min()) for t in state.tracks if t.offsets.size),
                           default=None))
    return _Samples(
        total, bad, min(shares, default=1.0), None if first is None else first[1:],
        first is not None and last_good < first[0], any(judged(t) for t in state.tracks), outside,
        sure)


def _in_data(state: _State, track: Track) -> npt.NDArray[np.bool_]:
    inside = np.zeros(track.offsets.size, np.bool_)
    for box in state.data:
        inside |= (track.offsets >= box.body) & (
            track.offsets + track.sizes <= min(box.stop, state.view.stop))
    return inside


def _time_share(track: Track, good: npt.NDArray[np.bool_]) -> float:
    """Part of the play time whose samples are good."""
    if track.times.size == good.size + 1 and track.times[-1] > 0:
        return float(np.diff(track.times)[good].sum() / track.times[-1])
    return float(good.mean()) if good.size else 0.0


def _facts(state: _State) -> Facts:
    video = next((t for t in state.tracks if t.handler == b"vide"), None)
    duration = max((t.seconds for t in state.tracks if t.handler in (b"vide", b"soun")),
                   default=0.0)
    width, height = (video.width, video.height) if video else (None, None)
    camera = None
    if state.moov is not None:
        box = child(state.view, state.moov.body, state.moov.stop, b"udta", b"\xa9mod")
        if box is not None and 4 < box.stop - box.body < 256:
            camera = state.view.take(box.body + 4, box.stop - box.body - 4).decode(
                "utf-8", "replace").strip("\0 ") or None
    return Facts(width, height, _taken(state), camera, video.rotation if video else 1,
                 round(duration, 3) or None,
                 {"codings": ", ".join(sorted({t.coding.decode("latin-1").strip() for t in
                                               state.tracks if t.coding}))})


def _taken(state: _State) -> str | None:
    """The time of creation; writers disagree on its zone, so none is stated (8.2.2)."""
    if state.moov is None:
        return None
    header = child(state.view, state.moov.body, state.moov.stop, b"mvhd")
    if header is None:
        return None
    long = state.view.take(header.body, 1)[0] == 1
    seconds = state.view.big(header.body + 4, 8 if long else 4)
    if not seconds or seconds > 1 << 33:
        return None
    moment = EPOCH + timedelta(seconds=seconds)
    return moment.strftime("%Y-%m-%dT%H:%M:%S") if moment.year in YEARS else None


def _variant(state: _State) -> Variant:
    known = brands(state.view, state.ftyp) if state.ftyp is not None else ()
    major = known[0] if known else b"qt  "
    if state.tracks and not any(t.handler == b"vide" for t in state.tracks):
        return M4A
    if major == b"qt  ":
        return MOV
    if major[:3] in (b"3gp", b"3g2"):
        return GP3
    return M4V if major[:3] == b"M4V" else M4A if major[:3] in (b"M4A", b"M4B") else MP4


def walk(source: Source, start: int, stop: int) -> Walk:
    """Follow the clip at `start`, never past `stop`; FormatError if none begins there."""
    view = View(source, start, stop)
    state = _State(view, start)
    problem: FormatError | None = None
    try:
        _gather(state, start)
    except FormatError as error:
        problem = error
    _settle(state)
    if state.moov is None and not state.data:
        raise problem or FormatError("no-clip", offset=start)
    if state.ftyp is None and state.moov is None:
        raise FormatError("media-data-alone", offset=start)
    return _judge(state, start, problem)


def _judge(state: _State, start: int, problem: FormatError | None) -> Walk:
    samples = _look_at_samples(state)
    if state.moov is not None and samples.total == 0 and problem is None:
        problem = FormatError("index-lists-nothing", offset=state.moov.start)
    end, share, verified, broken = state.stop, samples.share, None, None
    if problem is not None:
        place = min(problem.offset, state.view.stop)
        broken = Break(place, "structure", place, None, problem.told)
        if state.moov is None:
            # Nothing says what the data is; what lies in it may as well be other files.
            end, share = max(state.stop, start + 8), _bytes_share(state)
            verified = min(_boxes_until_data(state, start), end)
    if samples.first is not None and (broken is None or samples.offset <= broken.offset):
        track, index = samples.first
        seconds = float(track.times[index]) / track.timescale if track.times.size > index else 0.0
        place = max(start, min(samples.offset, state.view.stop))
        broken = Break(place, "sample", place, None, {
            "sample": index, "seconds": round(seconds, 3)})
        verified = max(start, min(samples.offset if samples.sure is None else samples.sure, end))
        if samples.rest_bad and state.moov is not None and state.moov.start < samples.offset:
            end = min(end, max(samples.offset, state.moov.stop))
    elif broken is not None and state.moov is not None:
        verified = min(broken.offset, end)
    facts = _facts(state)
    checks = [
        structure(problem, start, len(state.parts)), _index_check(state, samples),
        _sample_check(samples, broken), end_mark(problem is None, counted=True)]
    if state.fragmented and not state.closed and broken is None and not padded_with_zeros(
            state.view, end):
        checks[-1] = cut_check()  # further fragments may lie elsewhere
        verified = None if samples.sure is None else max(start, min(samples.sure, end))
    silent = any(t.coding in SILENT for t in state.tracks if t.handler == b"vide")
    share = round(min(max(share, 0.0), 1.0 if broken is None else 0.9999), 4)
    return Walk(start, end, problem is None, broken, share, facts, state.parts.before(end),
                checks=tuple(checks), variant=_variant(state), verified=verified,
                unproven="coding-silent" if silent else "")


def _boxes_until_data(state: _State, start: int) -> int:
    """Where the boxes that lead to the media data end: reserved room in front of it is the clip's.
    """
    return state.data[0].body if state.ftyp is not None and state.data else start + 1


def _bytes_share(state: _State) -> float:
    claimed = sum(box.size for box in state.data)
    there = sum(min(box.stop, state.view.stop) - box.start for box in state.data)
    return 0.99 * there / claimed if claimed else 0.0


def _index_check(state: _State, samples: _Samples) -> Check:
    name = "index"
    if state.moov is None:
        return Check(name, Outcome.FAIL, "index-missing")
    if samples.outside:
        return Check(name, Outcome.FAIL, "index-outside", {"samples": samples.total})
    return Check(name, Outcome.PASS, "index-agrees",
                 {"samples": samples.total, "tracks": len(state.tracks)})


def _sample_check(samples: _Samples, broken: Break | None) -> Check:
    name = "samples"
    if samples.bad:
        values = dict(broken.values) if broken is not None and broken.why == "sample" else {}
        return Check(name, Outcome.FAIL, "samples-broken", {
            "bad": samples.bad, "samples": samples.total, **values}, content=True)
    if not samples.judged:
        return Check(name, Outcome.NOT_APPLICABLE, "samples-plain")
    return Check(name, Outcome.PASS, "samples-agree", {"samples": samples.total}, content=True)


@cache
def _others() -> frozenset[bytes]:
    """Major brands of files that have this structure and are no clips."""
    return frozenset(brand for form in formats().values() for brand in form.brands) | PICTURES


def accept(head: bytes) -> bool:
    """A `ftyp` of a clip, or a box that opened files before there was one, of a sane size."""
    size, name = int.from_bytes(head[:4], "big"), head[4:8]
    if name == b"ftyp":
        return 16 <= size <= 512 and size % 4 == 0 and head[8:12] not in _others()
    if name not in OPENING:
        return False
    inner = head[12:16]
    if name == b"moov":
        return size > 100 and inner in (b"mvhd", b"cmov", b"udta", b"iods", b"rmra")
    if name == b"wide":
        return size == 8 and inner in (b"mdat", b"wide", b"moov")
    return name == b"mdat" and (size == 1 or size > 4096)


register(Format(
    name="mp4", kind=Kind.VIDEO, extension="mp4",
    signatures=(Signature(b"ftyp", 4), Signature(b"moov", 4), Signature(b"wide", 4),
                Signature(b"mdat", 4)),
    accept=accept, walk=walk, decoder=Decoder.CLIP, variants=(MP4, MOV, M4V, GP3, M4A),
    aliases={"qt": "mov", "3g2": "3gp", "lrv": "mp4", "m4b": "m4a"},
    object_formats={"mov": 0x300D, "mp4": 0xB982, "3gp": 0xB984},
))

