"""What an index says of how its tracks are coded: taken from a sibling, or from what is left of a
clip's own (ISO/IEC 14496-12, 8.3 to 8.6; 14496-15, 5.3.3 and 8.3.3; 14496-3, 1.6.2.1).
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from needlewright.core.errors import FormatError
from needlewright.core.kernels.aac_frames import RATES
from needlewright.core.kernels.clip_walk import AVC, HEVC, JPEGS
from needlewright.core.sources.memory import MemorySource
from needlewright.core.sources.source import Source
from needlewright.core.structures.bmff import Box, child, children, top_level
from needlewright.core.structures.bmff_samples import PLAIN_SOUND, Track, read_tracks
from needlewright.core.structures.parameter_sets import Order, order_of_avc, order_of_hevc
from needlewright.core.structures.view import View

VIDEO, SOUND = b"vide", b"soun"
AVC_NAMES, HEVC_NAMES = frozenset((b"avc1", b"avc3")), frozenset((b"hvc1", b"hev1"))
JPEG_NAMES = frozenset((b"jpeg", b"mjpa", b"mjpb"))
MAX_MOOV = 1 << 27
MOST_CHUNKS = 12  # sizes of stretches of plain sound
DESCRIPTORS = {3: 3, 4: 13}  # tag -> bytes in front of the inner ones


Longs = npt.NDArray[np.int64]


@dataclass(slots=True)
class Model:
    """One track as an index describes it. `trak`: its box, header included; `step`: usual duration
    of a sample, in its timescale; `coding`: AVC, HEVC or 0; `width`: bytes of a NAL length;
    `channels`, `rate`: of AAC (an index into RATES), 0 channels for other sound; `chunks`: of plain
    sound, the bytes that stand between pictures."""

    track: Track
    trak: bytes
    step: int
    coding: int = 0
    width: int = 4
    order: Order | None = None
    channels: int = 0
    rate: int = 0
    chunks: Longs = field(default_factory=lambda: np.zeros(0, np.int64))


def moov_of(source: Source) -> tuple[View, Box] | None:
    """The first `moov` of a file that stands whole; wherever it is, where the boxes do not lead to
    one."""
    view = View(source, 0, source.size)
    for box in top_level(view, 0):
        if box.name == b"moov" and box.stop <= view.stop and box.size <= MAX_MOOV:
            return view, box
    return _scanned(source, view)


def _scanned(source: Source, view: View) -> tuple[View, Box] | None:
    at, step = 0, 1 << 22
    while at < source.size:
        block = source.read_at(at, min(step + 16, source.size - at))
        place = block.find(b"moov")
        while place >= 0:
            start = at + place - 4
            if start >= 0 and view.peek(start + 12, 4) == b"mvhd":
                size = int.from_bytes(view.peek(start, 4), "big")
                if 108 < size <= min(MAX_MOOV, source.size - start):
                    return view, Box(b"moov", start, start + 8, start + size)
            place = block.find(b"moov", place + 1)
        at += step
    return None


class _Longer(Source):
    """A source that claims to go on for long: an index may list what was cut off."""

    def __init__(self, source: Source) -> None:
        self._source = source

    @property
    def size(self) -> int:
        return self._source.size + (1 << 44)

    def read_into(self, offset: int, target: memoryview) -> int:
        return self._source.read_into(offset, target)


def models_of(view: View, moov: Box) -> list[Model]:
    """All tracks of pictures and sound; FormatError where the index is damaged."""
    whole = _Longer(view.source)
    tracks = read_tracks(View(whole, 0, whole.size), moov, 0)
    boxes = [b for b in children(view, moov.body, moov.stop) if b.name == b"trak"]
    found = []
    for track, box in zip(tracks, boxes):
        if track.handler not in (VIDEO, SOUND):
            continue
        model = Model(track, view.take(box.start, box.size), _usual_step(track))
        _describe(model)
        found.append(model)
    return found


def _usual_step(track: Track) -> int:
    steps = np.diff(track.times)
    steps = steps[steps > 0]
    return int(np.median(steps)) if steps.size else max(1, track.timescale // 25)


def _describe(model: Model) -> None:
    """What the sample description says (8.5.2)."""
    entry = entry_of(model.trak)
    name = entry[4:8]
    if name in AVC_NAMES:
        record = _inner(entry, 86, b"avcC")
        if record is None or len(record) < 8:
            raise FormatError("clip-index-missing", offset=0)
        size = int.from_bytes(record[6:8], "big")
        model.coding, model.width = AVC, (record[4] & 3) + 1
        model.order = order_of_avc(record[8 : 8 + size])
    elif name in HEVC_NAMES:
        record = _inner(entry, 86, b"hvcC")
        if record is None or len(record) < 23:
            raise FormatError("clip-index-missing", offset=0)
        sets = _arrays(record)
        model.coding, model.width = HEVC, (record[21] & 3) + 1
        if sets.get(33) and sets.get(34):
            model.order = order_of_hevc(sets[33], sets[34])
    elif name in JPEG_NAMES:
        model.coding, model.width = JPEGS, 0
    elif name in PLAIN_SOUND or name == b"lpcm" or name == b"ipcm":
        model.chunks = plain_chunks(model)
    elif name == b"mp4a":
        version = int.from_bytes(entry[16:18], "big")
        start = 36 + (16 if version == 1 else 36 if version == 2 else 0)
        record = _inner(entry, start, b"esds") or _inner(_inner(entry, start, b"wave") or b"", 0,
                                                         b"esds")
        if record is not None:
            model.rate, model.channels = _aac(record[4:])


def entry_of(trak: bytes) -> bytes:
    """The first entry of the sample description of a track."""
    view = View(MemorySource(trak), 0, len(trak))
    box = child(view, 8, len(trak), b"mdia", b"minf", b"stbl", b"stsd")
    if box is None or box.stop - box.body < 16:
        raise FormatError("clip-index-missing", offset=0)
    body = trak[box.body + 8 : box.stop]
    size = int.from_bytes(body[:4], "big")
    if not 16 <= size <= len(body):
        raise FormatError("clip-index-missing", offset=0)
    return body[:size]


def _inner(entry: bytes, start: int, name: bytes) -> bytes | None:
    """The body of the box `name` among those from `start` on."""
    at = start
    while at + 8 <= len(entry):
        size = int.from_bytes(entry[at : at + 4], "big")
        if size < 8 or at + size > len(entry):
            return None
        if entry[at + 4 : at + 8] == name:
            return entry[at + 8 : at + size]
        at += size
    return None


def _arrays(record: bytes) -> dict[int, bytes]:
    """NAL type -> the first unit of it in an hvcC."""
    found: dict[int, bytes] = {}
    at = 23
    for _ in range(record[22]):
        if at + 3 > len(record):
            break
        kind, count = record[at] & 0x3F, int.from_bytes(record[at + 1 : at + 3], "big")
        at += 3
        for _n in range(count):
            size = int.from_bytes(record[at : at + 2], "big")
            found.setdefault(kind, record[at + 2 : at + 2 + size])
            at += 2 + size
    return found


def _aac(descriptors: bytes) -> tuple[int, int]:
    """(rate, channels) of the AudioSpecificConfig; (0, 0) for what is no AAC of low complexity."""
    at = 0
    while at + 2 < len(descriptors):
        tag = descriptors[at]
        at += 1
        size = 0
        while at < len(descriptors):
            size = size << 7 | descriptors[at] & 0x7F
            at += 1
            if not descriptors[at - 1] & 0x80:
                break
        if tag in DESCRIPTORS:
            at += DESCRIPTORS[tag]
            continue
        if tag == 5 and size >= 2:
            word = int.from_bytes(descriptors[at : at + 8].ljust(8, b"\0"), "big")
            kind, rate = word >> 59, word >> 55 & 15
            channels = word >> 51 & 15
            if kind in (2, 5, 29) and rate < len(RATES) and 1 <= channels <= 7:
                return rate, channels if channels < 7 else 8
            return 0, 0
        at += size
    return 0, 0




def _inside(trak: bytes, *path: bytes) -> bytes:
    """The body of a box of a track, behind version and flags; nothing where it is not there."""
    view = View(MemorySource(trak), 0, len(trak))
    box = child(view, 8, len(trak), *path)
    return b"" if box is None else trak[box.body + 4 : box.stop]


TABLE = (b"mdia", b"minf", b"stbl")


def ahead_of(trak: bytes, count: int) -> Longs | None:
    """Composition less decoding time of `count` samples (8.6.1.3); None where they are one."""
    body = _inside(trak, *TABLE, b"ctts")
    if len(body) < 12:
        return None
    runs = np.frombuffer(body[4 : 4 + (len(body) - 4) // 8 * 8], ">u4").reshape(-1, 2)
    counts = np.minimum(runs[:, 0].astype(np.int64), count)
    offsets = runs[:, 1].astype(np.uint32).view(np.int32).astype(np.int64)
    if counts.sum() > 4 * count + 64:
        return None
    spread = np.repeat(offsets, counts)[:count]
    return np.pad(spread, (0, count - spread.size))


def keys_of(trak: bytes, count: int) -> npt.NDArray[np.bool_] | None:
    """Which of `count` samples can be decoded alone (8.6.2); None where all can."""
    body = _inside(trak, *TABLE, b"stss")
    if len(body) < 8:
        return None
    numbers = np.frombuffer(body[4 : 4 + (len(body) - 4) // 4 * 4], ">u4").astype(np.int64) - 1
    keys = np.zeros(count, np.bool_)
    keys[numbers[(numbers >= 0) & (numbers < count)]] = True
    return keys


def lead_of(model: Model) -> int:
    """The time in front of what is shown first, as an edit list of one entry says it (8.6.6)."""
    body = _inside(model.trak, b"edts", b"elst")
    if len(body) < 16 or int.from_bytes(body[:4], "big") != 1:
        return 0
    long = len(body) >= 24
    lead = int.from_bytes(body[12:20] if long else body[8:12], "big", signed=True)
    return lead if 0 < lead < 4 * model.track.timescale else 0


def plain_chunks(model: Model) -> Longs:
    """Bytes of the stretches in which plain sound lies between pictures, the commonest first;
    int64[n]."""
    track = model.track
    if not track.frame_bytes or not track.offsets.size:
        return np.zeros(0, np.int64)
    ends = track.offsets + track.sizes
    starts = np.concatenate(([0], np.flatnonzero(track.offsets[1:] != ends[:-1]) + 1))
    stops = np.concatenate((starts[1:], [track.offsets.size])) - 1
    sizes, counts = np.unique(ends[stops] - track.offsets[starts], return_counts=True)
    return sizes[np.argsort(-counts, kind="stable")][:MOST_CHUNKS].astype(np.int64)
