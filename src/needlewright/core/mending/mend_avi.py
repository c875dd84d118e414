"""AVI without an index, with a wrong one, never closed, or with foreign data between its chunks:
the chunks that chain, under a header with the right counts and an index made of them (RIFF AVI;
OpenDML AVI File Format Extensions 1.02).

An AVI has no times: a picture's place in the row is its time. Pictures that are there but cannot be
decoded, since those before them are lost, become empty chunks, which repeat the last one.
"""

from __future__ import annotations

import re
import struct
from collections.abc import Iterator
from dataclasses import dataclass, field

from needlewright.core.errors import FormatError
from needlewright.core.mending.base import Change, Mended, Mender, Patient, Reference, Unmendable
from needlewright.core.mending.registry import register
from needlewright.core.mending.streams.keys import HEAD_BYTES, is_key, is_overwritten
from needlewright.core.mending.streams.pieces import Pieces, left_out, writing
from needlewright.core.sources.source import Source
from needlewright.core.structures.riff import chunks, read_chunk
from needlewright.core.structures.view import View

MAX_HEADER = 1 << 20
LOOK_BYTES = 1 << 20
CHAIN = 3  # chunks that must follow each other for a new beginning to be believed
LIMIT = (1 << 32) - (1 << 20)  # what the sizes of one RIFF list can say
KEY = 0x10  # of an index entry: AVIIF_KEYFRAME
MARK = re.compile(rb"[0-9]{2}(?:dc|db|wb|pc|tx)")
MOST_LOOKED_AT = 1 << 24
PASSED = frozenset((b"JUNK", b"LIST", b"idx1", b"RIFF"))


@dataclass(slots=True)
class _Stream:
    """One stream of the header; `at` of its parts, bytes from the header's start."""

    kind: bytes
    coding: bytes
    scale: int
    rate: int
    sample_size: int
    length_at: int


@dataclass(slots=True)
class _Header:
    """The list `hdrl`, ready to be written: counts are filled in, other indexes are gone."""

    data: bytearray
    streams: list[_Stream] = field(default_factory=list)
    frames_at: int = 0
    stated: int = 0

    @property
    def video(self) -> int:
        return next((i for i, s in enumerate(self.streams) if s.kind == b"vids"), -1)


@dataclass(frozen=True, slots=True)
class _Found:
    """A chunk of a stream: its header at `at`, `size` bytes of content; `after_gap`: what stands
    before it is foreign."""

    stream: int
    name: bytes
    at: int
    size: int
    after_gap: bool


def _header(source: Source) -> _Header | None:
    """The header at the beginning of `source`; None where there is none that makes sense."""
    view = View(source, 0, min(source.size, MAX_HEADER))
    try:
        if view.peek(0, 4) != b"RIFF" or view.peek(8, 4) != b"AVI ":
            return None
        chunk = read_chunk(view, 12)
        while not (chunk.name == b"LIST" and view.peek(chunk.body, 4) == b"hdrl"):
            chunk = read_chunk(view, chunk.next)
        header = _Header(bytearray(view.take(chunk.start, chunk.next - chunk.start)))
        base = chunk.start
        for part in chunks(view, chunk.body + 4, chunk.stop):
            if part.name == b"avih":
                header.frames_at = part.body + 16 - base
                header.stated = view.little(part.body + 16, 4)
            elif part.name == b"LIST" and view.peek(part.body, 4) == b"strl":
                _stream(header, view, part.body + 4, part.stop, base)
            elif part.name == b"LIST" and view.peek(part.body, 4) == b"odml":
                header.stated = view.little(part.body + 12, 4)
                header.data[part.start - base : part.body - base - 4] = b"JUNK"
    except FormatError:
        return None
    return header if header.frames_at and header.streams else None


def _stream(header: _Header, view: View, start: int, stop: int, base: int) -> None:
    found: _Stream | None = None
    for part in chunks(view, start, stop):
        if part.name == b"strh":
            head = view.take(part.body, 48)
            scale, rate = struct.unpack_from("<II", head, 20)
            found = _Stream(head[:4], head[4:8], scale, rate, int.from_bytes(head[44:48], "little"),
                            part.body + 32 - base)
        elif part.name == b"strf" and found is not None and found.kind == b"vids":
            found.coding = view.take(part.body + 16, 4)
        elif part.name == b"indx":
            header.data[part.start - base : part.body - base - 4] = b"JUNK"
    if found is None:
        raise FormatError("no-chunk", offset=start)
    header.streams.append(found)


class _Chain:
    """The chunks of the streams, one behind another; what is foreign between them is passed."""

    def __init__(self, patient: Patient, header: _Header, start: int) -> None:
        self._patient, self._source = patient, patient.source
        self._count, self._at = len(header.streams), start

    def __iter__(self) -> Iterator[_Found]:
        at, size, gap = self._at, self._source.size, False
        while at + 8 <= size:
            head = self._source.read_at(at, 12)
            step = self._step(at, head)
            if step is None:
                self._patient.breathe(at / size * 0.6)
                at, gap = self._again(at + 2), True
                continue
            if head[:4] not in PASSED and head[:2] != b"ix":
                yield _Found(int(head[:2]), head[:4], at, step - 8, gap)
                gap = False
            at += step + (step & 1 if head[:4] != b"LIST" else 0)

    def _step(self, at: int, head: bytes, chain: int = 0) -> int | None:
        """Bytes to the end of what stands at `at`, without its pad; None where it is no chunk
        behind which another follows."""
        name, size = head[:4], int.from_bytes(head[4:8], "little")
        if len(head) < 8:
            return None
        if name == b"LIST" and head[8:12] in (b"rec ", b"movi"):
            return 12
        if name == b"RIFF" and head[8:12] == b"AVIX":
            return 12
        mine = MARK.fullmatch(name) is not None and int(name[:2]) < self._count
        if not mine and name not in (b"JUNK", b"idx1") and name[:2] != b"ix":
            return None
        stop = at + 8 + size
        if stop > self._source.size:
            return None
        behind = stop + (size & 1)
        if behind + 8 <= self._source.size:
            follows = self._source.read_at(behind, 4)
            if follows not in PASSED and follows[:2] != b"ix" and (
                    MARK.fullmatch(follows) is None or int(follows[:2]) >= self._count):
                return None
        if chain > 1:
            after = self._source.read_at(behind, 12)
            return 8 + size if len(after) < 8 or self._step(behind, after, chain - 1) else None
        return 8 + size

    def _again(self, at: int) -> int:
        """The next place from which chunks chain; the end where none do."""
        size = self._source.size
        while at < size:
            self._patient.breathe(at / size * 0.6)
            block = self._source.read_at(at, LOOK_BYTES + 16)
            for match in MARK.finditer(block):
                place = at + match.start()
                if match.start() < LOOK_BYTES and self._step(
                        place, self._source.read_at(place, 12), CHAIN) is not None:
                    return place
            at += LOOK_BYTES
        return size


@dataclass(slots=True)
class _Made:
    """The new list `movi` and what is known of it."""

    movi: Pieces = field(default_factory=Pieces)
    index: bytearray = field(default_factory=bytearray)
    counts: dict[int, int] = field(default_factory=dict)  # stream -> chunks
    sizes: dict[int, int] = field(default_factory=dict)  # stream -> bytes
    kept: int = 0  # pictures
    dropped: int = 0
    total: int = 0
    times: list[tuple[float, float]] = field(default_factory=list)


def mend(patient: Patient) -> Iterator[Mended]:
    source = patient.source
    header, lent, start = _described(patient)
    chain = _Chain(patient, header, start)
    made = _made(patient, header, chain)
    if not made.total:
        raise Unmendable("samples-none")
    size = 4 + 8 + 4 + len(header.data) + made.movi.size + 8 + len(made.index)
    if size > LIMIT:
        raise Unmendable("too-large")
    _fill_in(header, made)
    before = b"RIFF" + struct.pack("<I", size) + b"AVI " + bytes(header.data) + (
        b"LIST" + struct.pack("<I", made.movi.size + 4) + b"movi")
    behind = b"idx1" + struct.pack("<I", len(made.index)) + bytes(made.index)
    changes = [Change("index-made", {"samples": made.total})]
    if lent is not None:
        changes.insert(0, Change("header-lent", {"reference": lent.name}))
    changes += left_out(made.dropped, made.times)
    missing = max(0, header.stated - made.counts.get(header.video, 0))
    share = made.kept / max(1, made.kept + made.dropped + missing) if header.video >= 0 else 1.0
    if share < 1 and not made.times:
        changes.append(Change("rest-cut-off", {"share": round(1 - share, 4)}))
    yield Mended(writing(source, [before], made.movi.pieces, [behind]), "avi", tuple(changes),
                 share, ("unproven",) if lent is not None else (), lent)


def _described(patient: Patient) -> tuple[_Header, Reference | None, int]:
    """(header, who lent it, where the chunks begin)."""
    own = _header(patient.source)
    if own is not None:
        return own, None, 12 + len(own.data)
    for reference in patient.references:
        header = _header(reference.source)
        if header is not None:
            header.stated = 0
            return header, reference, 0
    raise Unmendable("index-reference-missing")


def _made(patient: Patient, header: _Header, chain: _Chain) -> _Made:
    made, video = _Made(), header.video
    coding = header.streams[video].coding if video >= 0 else b""
    pace = _pace(header)
    waits = False  # for a picture that stands alone
    gap_from = 0.0
    for found in chain:
        if found.after_gap and made.total:
            waits, gap_from = video >= 0, made.counts.get(video, 0) * pace
            made.times.append((gap_from, gap_from))
        size = found.size
        key: bool | None = True
        if found.stream == video and found.name[2:] in (b"dc", b"db"):
            data = patient.source.read_at(found.at + 8, min(size, MOST_LOOKED_AT))
            key = is_key(coding, data[:HEAD_BYTES]) if size else False
            if is_overwritten(coding, data):
                if not waits:
                    waits, gap_from = True, made.counts.get(video, 0) * pace
                    made.times.append((gap_from, gap_from))
                key = False
            if waits and key is False and size:
                size = 0
                made.dropped += 1
            elif waits and size:
                waits = False
                made.times[-1] = gap_from, made.counts.get(video, 0) * pace
            made.kept += size > 0
        _take(made, found, size, key is not False)
    if waits:
        made.times[-1] = gap_from, made.counts.get(video, 0) * pace
    return made


def _take(made: _Made, found: _Found, size: int, key: bool) -> None:
    made.index += struct.pack("<4sIII", found.name, KEY if key else 0, made.movi.size + 4, size)
    if size == found.size:
        made.movi.add((found.at, found.at + 8 + size))
        if size & 1:
            made.movi.add(b"\0")
    else:
        made.movi.add(found.name + struct.pack("<I", size))
    made.total += 1
    made.counts[found.stream] = made.counts.get(found.stream, 0) + 1
    made.sizes[found.stream] = made.sizes.get(found.stream, 0) + size


def _pace(header: _Header) -> float:
    """Seconds of one picture."""
    if header.video < 0:
        return 0.0
    stream = header.streams[header.video]
    return stream.scale / stream.rate if stream.rate and stream.scale else 0.04


def _fill_in(header: _Header, made: _Made) -> None:
    struct.pack_into("<I", header.data, header.frames_at, made.counts.get(header.video, 0))
    for number, stream in enumerate(header.streams):
        length = made.counts.get(number, 0)
        if stream.sample_size:
            length = made.sizes.get(number, 0) // stream.sample_size
        struct.pack_into("<I", header.data, stream.length_at, length)


register(Mender("avi", frozenset(("avi",)), mend))
