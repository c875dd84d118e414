"""AVI clips by their index (RIFF AVI): `idx1` behind the data says where and how chunks begin.

Clips without one, or of several RIFF lists, are followed chunk by chunk (see `structured`).
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from needlewright.core.decoders import Decoder
from needlewright.core.errors import FormatError
from needlewright.core.formats.registry import formats
from needlewright.core.sources.pieces import PiecedSource
from needlewright.core.stitching.base import Bench, Broken, Extents, Joined, Joiner, register
from needlewright.core.stitching.chained.structured import join_structured
from needlewright.core.stitching.chained.structured_hand import structured_by_hand
from needlewright.core.stitching.clips.chunk_index import ENTRY, HEAD, ChunkIndex
from needlewright.core.stitching.clips.clip_runs import AROUND_S, Clip, Run, placed
from needlewright.core.stitching.clips.clip_seams import told
from needlewright.core.stitching.clips.index_hand import IndexHand
from needlewright.core.stitching.clips.sample_index import ENOUGH
from needlewright.core.stitching.hand import Hand
from needlewright.core.structures.riff import Chunk, read_chunk
from needlewright.core.structures.view import View

MAX_HEADERS = 64  # chunks in front of the frames
MAX_INDEX = 64 << 20
MAX_TRIED = 64  # places of an index
JPEG, LEAST_FRAME = b"\xff\xd8\xff", 128  # how a frame begins; bytes
MAX_FRAMES = 256  # that are looked at for one place
A_FRAME_S = 0.04  # where the header says nothing


@dataclass(frozen=True, slots=True)
class _Clip:
    """What the first piece says: `movi` and where the file ends, in its own bytes."""

    movi: Chunk
    stop: int
    frame_s: float

    @property
    def index_at(self) -> int:
        return self.movi.stop + (self.movi.stop - self.movi.body) % 2


def _headers(view: View) -> _Clip | None:
    """FormatError, or None, where the beginning is not that of a clip with stated sizes."""
    if view.take(0, 4) != b"RIFF" or view.take(8, 4) != b"AVI ":
        return None
    stop, at, frame_s = 8 + view.little(4, 4), 12, A_FRAME_S
    for _ in range(MAX_HEADERS):
        chunk = read_chunk(view, at)
        kind = view.peek(chunk.body, 4) if chunk.name == b"LIST" else b""
        if kind == b"hdrl" and view.peek(chunk.body + 4, 4) == b"avih":
            frame_s = view.little(chunk.body + 12, 4) / 1e6 or A_FRAME_S
        if kind == b"movi":
            inside = chunk.body < chunk.stop <= stop - HEAD
            return _Clip(chunk, stop, frame_s) if inside else None
        at = chunk.next
    return None


def _opened(broken: Broken, bench: Bench) -> tuple[Clip, int, int] | None:
    """(the clip with the run that holds its index, the cluster before which the rest lies, clusters
    of its headers)."""
    pool, unit = bench.pool, bench.pool.unit
    first = pool.number(broken.start)
    if pool.start(first) != broken.start or broken.start >= pool.source.size:
        return None
    room = pool.source.size - broken.start
    view = View(PiecedSource(pool.source, ((broken.start, room),)), 0, room)
    try:
        head = _headers(view)
    except FormatError:
        return None
    if head is None or head.stop > pool.source.size:
        return None
    known = -(-(head.movi.body + 4 + HEAD) // unit)
    if pool.run(first, known) < known:
        return None
    begins = view.peek(head.movi.body + 4, HEAD)
    cluster, inside = divmod(head.index_at, unit)
    numbers = np.array([n for n, at in pool.marks(b"idx1") if at == inside], np.int64)
    numbers = numbers[np.argsort(np.abs(numbers - first - cluster), kind="stable")]
    for number in numbers[:MAX_TRIED].tolist() if cluster >= known else []:
        bench.rest()
        index = _index_at(bench, head, number, begins)
        if index is None:
            continue
        last = -(-head.stop // unit) - 1
        if last - cluster + 1 > pool.run(number, last - cluster + 1):
            continue
        run = Run(cluster, last, number, cluster, last, ENOUGH)
        return Clip(_by_frames(bench, index), index, head.stop, [run]), cluster, known
    return None


def _index_at(bench: Bench, head: _Clip, number: int, begins: bytes) -> ChunkIndex | None:
    """The index in the pool's cluster `number`, where it is that of this clip: it ends where the
    file may, its first chunk begins as the clip's does, its last one where the frames end."""
    pool = bench.pool
    at = pool.start(number) + head.index_at % pool.unit
    size = int.from_bytes(pool.source.read_at(at + 4, 4), "little")
    if not 0 < size <= min(MAX_INDEX, head.stop - head.index_at - HEAD):
        return None
    raw = pool.source.read_at(at + HEAD, size // 16 * 16)
    entries = np.frombuffer(raw[: len(raw) // 16 * 16], ENTRY)
    entries = entries[entries["name"] != b"rec "]
    if not entries.size:
        return None
    where = head.movi.body + 4
    base = where - int(entries["offset"][0])
    first = entries["name"][0].ljust(4, b"\0") + entries["size"][0].tobytes()
    end = base + HEAD + int(entries["offset"][-1]) + int(entries["size"][-1])
    if first != begins or not 0 <= head.movi.stop - end <= 1 + 2 * HEAD:
        return None
    index = ChunkIndex(pool.unit, entries, base, head.frame_s)
    return index if index.offsets[0] == where else None


def _by_frames(bench: Bench, index: ChunkIndex) -> Bench:
    """The same; where the frames are JPEG pictures by themselves, our own walk of each is stricter
    than any decoder of clips."""
    asked, jpeg = bench.decodes, formats()["jpeg"]
    if asked is None:
        return bench

    def decodes(extents: Extents, start: float, stop: float, decoder: str = Decoder.CLIP) -> bool:
        thread = PiecedSource(bench.pool.source, extents)
        low, high = np.searchsorted(index.seconds, [start + AROUND_S - 2 * index.frame_s, stop])
        frames = 0
        for number in range(int(low), min(int(high) + 1, index.offsets.size)):
            if frames >= MAX_FRAMES:
                break
            begin, end = int(index.offsets[number]) + HEAD, int(
                index.offsets[number] + index.sizes[number])
            if end - begin < LEAST_FRAME or thread.read_at(begin, 3) != JPEG:
                continue
            bench.rest()
            try:
                walk = jpeg.walk(thread, begin, end)
            except FormatError:
                return False
            if walk.broken is not None or not walk.ended:
                return False
            frames += 1
        return frames > 0 or asked(extents, start, stop, decoder)

    return replace(bench, decodes=decodes)


def _join(broken: Broken, bench: Bench) -> Joined | None:
    found = _opened(broken, bench)
    if found is None:
        return join_structured(broken, bench)
    clip, stop, known = found
    clip.runs.insert(0, Run(0, known - 1, bench.pool.number(broken.start), 0, known - 1))
    clip.grow(clip.runs[0], stop)
    clip = placed(clip, stop)
    joined = told(clip) if len(clip.runs) > 1 else None
    return joined or join_structured(broken, bench)


def _by_hand(broken: Broken, bench: Bench) -> Hand | None:
    found = _opened(broken, bench)
    if found is None:
        return structured_by_hand(broken, bench)
    clip, stop, known = found
    first = bench.pool.number(broken.start)
    return IndexHand(clip, stop, tuple(range(first, first + known)))


register(Joiner("avi", frozenset(("avi",)), _join, by_hand=_by_hand))
