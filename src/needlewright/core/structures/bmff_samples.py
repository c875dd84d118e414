"""Where the samples of a track lie (ISO/IEC 14496-12, 8.5-8.7 and 8.8.7-8.8.8 for fragments)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from needlewright.core.errors import FormatError
from needlewright.core.structures.bmff import MAX_TABLE_BYTES, Box, child, children
from needlewright.core.structures.view import View

MAX_SAMPLES = 6_000_000  # of one track: more than a day of film at 60 frames a second
MAX_RUN = 1 << 18  # samples of one fragment
MAX_IDLE = 4096  # samples without a byte, one behind another
MAX_CLIP_BYTES = 1 << 40  # of samples that an index may list, whatever is left of them
BLOCK_ENTRIES = 1 << 13  # of a table, that are judged before more is read
#: Bytes of one sample of sound as the coding's name states it (QuickTime, sound descriptions).
PLAIN_SOUND = {b"sowt": 2, b"twos": 2, b"raw ": 1, b"in24": 3, b"in32": 4, b"fl32": 4, b"fl64": 8,
               b"alaw": 1, b"ulaw": 1}
MAX_TRACKS = 64
Longs = npt.NDArray[np.int64]


@dataclass(slots=True)
class Track:
    """One track. `offsets`, `sizes`: int64[samples], absolute bytes, in decoding order.

    `times`: int64[samples + 1] in units of `timescale` per second; `length_bytes`: of the NAL
    length fields, 0 where the coding has none.
    """

    number: int
    handler: bytes = b""
    coding: bytes = b""
    timescale: int = 1
    duration: int = 0
    width: int = 0
    height: int = 0
    length_bytes: int = 0
    rotation: int = 1  # as an EXIF orientation
    offsets: Longs = field(default_factory=lambda: np.zeros(0, np.int64))
    sizes: Longs = field(default_factory=lambda: np.zeros(0, np.int64))
    times: Longs = field(default_factory=lambda: np.zeros(1, np.int64))
    frame_bytes: int = 0  # of plain sound: one sample of all channels
    runs: list[tuple[Longs, Longs, Longs]] = field(default_factory=list)

    def settle(self) -> None:
        """Put what fragments brought (offsets, sizes, steps of time) behind the rest."""
        if self.runs:
            offsets, sizes, steps = zip(*self.runs)
            self.offsets = np.concatenate((self.offsets, *offsets))
            self.sizes = np.concatenate((self.sizes, *sizes))
            self.times = np.concatenate(
                (self.times, self.times[-1] + np.cumsum(np.concatenate(steps))))
            self.runs = []

    @property
    def seconds(self) -> float:
        return float(self.times[-1]) / self.timescale if self.timescale else 0.0


def _table(view: View, box: Box, header: int, count: int, width: int) -> npt.NDArray[np.uint8]:
    """`count` entries of `width` bytes behind `header` bytes of `box`, uint8[count, width]."""
    _fits(box, header, count, width)
    raw = np.frombuffer(view.take(box.body + header, count * width), np.uint8)
    return raw.reshape(count, width)


def _fits(box: Box, header: int, count: int, width: int) -> None:
    size = count * width
    if size > MAX_TABLE_BYTES or box.body + header + size > box.stop:
        raise FormatError("sample-table-too-long", offset=box.start)


def _judged_table(view: View, box: Box, count: int, dtype: str) -> Longs:
    """The sizes of `count` samples, read as far as they can be sizes of samples of this file.

    A box may claim the rest of the medium; what lies there is no table.
    """
    width = np.dtype(dtype).itemsize
    _fits(box, 12, count, width)
    room = max(MAX_CLIP_BYTES, view.stop - view.start)  # of a clip that was cut off, more is listed
    found, total = [np.zeros(0, np.int64)], 0
    for first in range(0, count, BLOCK_ENTRIES):
        number = min(BLOCK_ENTRIES, count - first)
        raw = view.take(box.body + 12 + first * width, number * width)
        part = np.frombuffer(raw, dtype).astype(np.int64)
        total += int(part.sum())
        if total > room or (number > MAX_IDLE and not part.any()):
            raise FormatError("sample-sizes-senseless", offset=box.start)
        found.append(part)
    return np.concatenate(found)


def _numbers(raw: npt.NDArray[np.uint8], dtype: str) -> Longs:
    columns = raw.shape[1] // np.dtype(dtype).itemsize
    return np.ascontiguousarray(raw).view(dtype).reshape(raw.shape[0], columns).astype(np.int64)


def read_tracks(view: View, moov: Box, origin: int) -> list[Track]:
    """The tracks of a `moov` box; `origin` is the file's start. FormatError where one is damaged.
    """
    found: list[Track] = []
    for box in children(view, moov.body, moov.stop):
        if box.name == b"trak" and len(found) < MAX_TRACKS:
            found.append(_track(view, box, origin))
    return found


def _track(view: View, trak: Box, origin: int) -> Track:
    header = child(view, trak.body, trak.stop, b"tkhd")
    track = Track(0)
    if header is not None:
        long = view.take(header.body, 1)[0] == 1
        track.number = view.big(header.body + (20 if long else 12), 4)
        matrix = header.body + (52 if long else 40)
        track.rotation = _orientation(view.take(matrix, 36))
        track.width = view.big(matrix + 36, 4) >> 16
        track.height = view.big(matrix + 40, 4) >> 16
    media = child(view, trak.body, trak.stop, b"mdia", b"mdhd")
    kind = child(view, trak.body, trak.stop, b"mdia", b"hdlr")
    if media is None or kind is None:
        raise FormatError("track-without-headers", offset=trak.start)
    long = view.take(media.body, 1)[0] == 1
    track.timescale = view.big(media.body + (20 if long else 12), 4)
    track.duration = view.big(media.body + (24 if long else 16), 8 if long else 4)
    track.handler = view.take(kind.body + 8, 4)
    table = child(view, trak.body, trak.stop, b"mdia", b"minf", b"stbl")
    if table is None:
        raise FormatError("track-without-sample-tables", offset=trak.start)
    _read_tables(view, table, track, origin)
    return track


def _orientation(matrix: bytes) -> int:
    """The EXIF orientation of a track matrix (8.3.2) that only turns."""
    turn: tuple[int, ...] = *(int.from_bytes(matrix[i : i + 4], "big", signed=True) >> 16
                 for i in (0, 4, 12, 16)),
    known: dict[tuple[int, ...], int] = {(0, 1, -1, 0): 6, (-1, 0, 0, -1): 3, (0, -1, 1, 0): 8}
    return known.get(turn, 1)


def _read_tables(view: View, stbl: Box, track: Track, origin: int) -> None:
    boxes = {box.name: box for box in children(view, stbl.body, stbl.stop)}
    if b"stsd" in boxes:
        _description(view, boxes[b"stsd"], track)
    same, count, sizes = _sizes(view, boxes, track)
    if count == 0:
        return  # a fragmented file keeps them in its fragments
    if b"stsc" not in boxes:
        raise FormatError("no-table-chunks", offset=stbl.start)
    chunks = _chunk_offsets(view, boxes, count) + origin
    per_chunk = _samples_of(view, boxes[b"stsc"], chunks.size, count)
    if same:
        # Plain sound counts every few bytes as a sample: here a chunk is one.
        track.offsets, track.sizes = chunks[: per_chunk.size], per_chunk * same
        track.times = np.concatenate(([0], np.cumsum(per_chunk))) * _step(view, boxes)
        return
    track.sizes, track.offsets = sizes, _place(per_chunk, chunks, sizes)
    if b"stts" in boxes:
        track.times = _times(view, boxes[b"stts"], sizes.size)


def _step(view: View, boxes: dict[bytes, Box]) -> int:
    """Units of time that one sample takes, where all take the same."""
    box = boxes.get(b"stts")
    return view.big(box.body + 12, 4) if box is not None and view.big(box.body + 4, 4) else 1


def _description(view: View, stsd: Box, track: Track) -> None:
    entry = next(children(view, stsd.body + 8, stsd.stop), None)
    if entry is None:
        return
    track.coding = entry.name
    if track.handler == b"soun" and entry.name in PLAIN_SOUND and entry.size >= 36:
        track.frame_bytes = PLAIN_SOUND[entry.name] * view.big(entry.body + 16, 2)
    elif track.handler == b"soun" and entry.name == b"ipcm" and entry.size >= 36:
        track.frame_bytes = view.big(entry.body + 16, 2) * view.big(entry.body + 18, 2) // 8
    elif track.handler == b"soun" and entry.name == b"lpcm" and entry.size >= 72 and (
            view.big(entry.body + 8, 2) == 2):
        track.frame_bytes = view.big(entry.body + 56, 4)
    if track.handler == b"vide" and entry.size >= 86:
        track.width = view.big(entry.body + 24, 2) or track.width
        track.height = view.big(entry.body + 26, 2) or track.height
        for name, at in ((b"avcC", 4), (b"hvcC", 21)):
            box = child(view, entry.body + 78, entry.stop, name)
            if box is not None and box.stop - box.body > at:
                track.length_bytes = (view.take(box.body + at, 1)[0] & 3) + 1


def _sizes(view: View, boxes: dict[bytes, Box], track: Track) -> tuple[int, int, Longs]:
    """(size of every sample or 0, number of samples, their sizes where they differ)."""
    nothing = np.zeros(0, np.int64)
    if b"stsz" in boxes:
        box = boxes[b"stsz"]
        same, count = view.big(box.body + 4, 4), view.big(box.body + 8, 4)
        if same:
            same = max(same, track.frame_bytes)
            # Nothing stands behind the count, so it is bounded by what a file can hold.
            if same * count > max(MAX_CLIP_BYTES, view.stop - view.start):
                raise FormatError("more-samples-than-bytes", offset=box.start)
            return same, count, nothing
        if count > MAX_SAMPLES:
            raise FormatError("too-many-samples", offset=box.start)
        return 0, count, _judged_table(view, box, count, ">u4")
    if b"stz2" in boxes:
        box = boxes[b"stz2"]
        bits, count = view.big(box.body + 4, 4) & 0xFF, view.big(box.body + 8, 4)
        if bits not in (8, 16) or count > MAX_SAMPLES:
            raise FormatError("sample-sizes-senseless", offset=box.start)
        return 0, count, _judged_table(view, box, count, ">u2" if bits == 16 else "u1")
    return 0, 0, nothing


def _chunk_offsets(view: View, boxes: dict[bytes, Box], samples: int) -> Longs:
    """Where the chunks of `samples` samples begin; no chunk is empty."""
    for name, width in ((b"stco", 4), (b"co64", 8)):
        if name in boxes:
            box = boxes[name]
            count = view.big(box.body + 4, 4)
            if count > samples:
                raise FormatError("chunks-and-samples-disagree", offset=box.start)
            offsets = _numbers(_table(view, box, 8, count, width), f">u{width}").ravel()
            if offsets.size and (offsets < 0).any():
                raise FormatError("chunk-past-file", offset=box.start)
            return offsets
    raise FormatError("no-table-chunk-offsets", offset=view.start)


def _samples_of(view: View, stsc: Box, chunks: int, samples: int) -> Longs:
    """int64[chunks in use]: how many of `samples` samples each chunk holds (8.7.4)."""
    count = view.big(stsc.body + 4, 4)
    if count > max(chunks, 1) + 1:
        raise FormatError("table-chunks-makes-no-sense", offset=stsc.start)
    runs = _numbers(_table(view, stsc, 8, count, 12), ">u4")
    if runs.shape[0] == 0 or runs[0, 0] != 1 or (np.diff(runs[:, 0]) <= 0).any():
        raise FormatError("table-chunks-makes-no-sense", offset=stsc.start)
    first = np.minimum(runs[:, 0] - 1, chunks)
    per_chunk = np.repeat(runs[:, 1], np.diff(np.append(first, chunks)))
    sums = np.cumsum(per_chunk)
    if not sums.size or sums[-1] < samples:
        raise FormatError("chunks-and-samples-disagree", offset=stsc.start)
    used = int(np.searchsorted(sums, samples)) + 1
    per_chunk = per_chunk[:used].copy()
    per_chunk[-1] -= int(sums[used - 1]) - samples
    return np.asarray(per_chunk, np.int64)


def _place(per_chunk: Longs, chunks: Longs, sizes: Longs) -> Longs:
    """Absolute offset of each sample: chunks hold runs of samples one behind another (8.7.4)."""
    chunk_of = np.repeat(np.arange(per_chunk.size), per_chunk)
    before = np.concatenate(([0], np.cumsum(sizes)[:-1]))
    starts = np.cumsum(per_chunk) - per_chunk
    starts = np.minimum(starts, max(0, sizes.size - 1))
    return np.asarray(chunks[chunk_of] + before - before[starts][chunk_of], np.int64)


def _times(view: View, stts: Box, samples: int) -> Longs:
    count = view.big(stts.body + 4, 4)
    if count > samples:
        return np.zeros(1, np.int64)
    runs = _numbers(_table(view, stts, 8, count, 8), ">u4")
    if runs.shape[0] == 0 or int(runs[:, 0].sum()) > MAX_SAMPLES:
        return np.zeros(1, np.int64)
    steps = np.repeat(runs[:, 1], runs[:, 0])[:samples]
    steps = np.pad(steps, (0, samples - steps.size), mode="edge") if steps.size else steps
    return np.concatenate(([0], np.cumsum(steps))).astype(np.int64)


@dataclass(frozen=True, slots=True)
class _Defaults:
    duration: int
    size: int


def track_defaults(view: View, moov: Box) -> dict[int, tuple[int, int]]:
    """Track number -> (default sample duration, default sample size) from `mvex` (8.8.3)."""
    mvex = child(view, moov.body, moov.stop, b"mvex")
    if mvex is None:
        return {}
    return {
        view.big(box.body + 4, 4): (view.big(box.body + 12, 4), view.big(box.body + 16, 4))
        for box in children(view, mvex.body, mvex.stop) if box.name == b"trex"}


def add_fragment(view: View, moof: Box, tracks: Sequence[Track],
                 defaults: dict[int, tuple[int, int]]) -> None:
    """Append the samples that a `moof` box describes to their tracks."""
    by_number = {track.number: track for track in tracks}
    for traf in children(view, moof.body, moof.stop):
        if traf.name != b"traf":
            continue
        header = child(view, traf.body, traf.stop, b"tfhd")
        if header is None:
            raise FormatError("fragment-without-header", offset=traf.start)
        flags, number = view.big(header.body + 1, 3), view.big(header.body + 4, 4)
        duration, size = defaults.get(number, (0, 0))
        at, anchor = header.body + 8, moof.start
        for bit, width in ((0x1, 8), (0x2, 4), (0x8, 4), (0x10, 4), (0x20, 4)):
            if flags & bit:
                value = view.big(at, width)
                at += width
                anchor = view.start + value if bit == 0x1 else anchor
                duration = value if bit == 0x8 else duration
                size = value if bit == 0x10 else size
        track = by_number.get(number)
        if track is None:
            raise FormatError("fragment-unknown-track", offset=traf.start)
        at = anchor
        for run in children(view, traf.body, traf.stop):
            if run.name == b"trun":
                at = _add_run(view, run, track, at, anchor, _Defaults(duration, size))


def _add_run(view: View, trun: Box, track: Track, base: int, anchor: int,
             defaults: _Defaults) -> int:
    """Append one run (8.8.8); the place behind its last sample."""
    flags, count = view.big(trun.body + 1, 3), view.big(trun.body + 4, 4)
    at = trun.body + 8
    if flags & 0x1:
        base = anchor + int.from_bytes(view.take(at, 4), "big", signed=True)
        at += 4
    at += 4 if flags & 0x4 else 0
    fields = [bit for bit in (0x100, 0x200, 0x400, 0x800) if flags & bit]
    if count > MAX_RUN or at + 4 * len(fields) * count > trun.stop:
        raise FormatError("run-longer-than-box", offset=trun.start)
    if 0x200 not in fields and not 0 < defaults.size * count <= view.stop - view.start and count:
        raise FormatError("more-samples-than-bytes", offset=trun.start)
    if sum(sizes.size for _, sizes, _ in track.runs) + count > MAX_SAMPLES:
        raise FormatError("too-many-samples", offset=trun.start)
    values = np.frombuffer(view.take(at, 4 * len(fields) * count), ">u4")
    values = values.reshape(count, len(fields)).astype(np.int64)
    column = {bit: values[:, i] for i, bit in enumerate(fields)}
    sizes = column.get(0x200, np.full(count, defaults.size, np.int64))
    steps = column.get(0x100, np.full(count, defaults.duration, np.int64))
    offsets = base + np.concatenate(([0], np.cumsum(sizes)[:-1])) if count else sizes
    track.runs.append((offsets.astype(np.int64), sizes, steps))
    return base + int(sizes.sum())
