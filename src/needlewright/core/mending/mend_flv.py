"""FLV whose chain of tags is broken: tags found again by their sizes, which are told twice, without
pictures that need lost ones (Adobe Flash Video File Format Specification 10.1, annex E).

Each tag has its time, so that nothing has to be put in the place of what is lost.
"""

from __future__ import annotations

import re
import struct
from collections.abc import Iterator
from dataclasses import dataclass, field

from needlewright.core.mending.base import Change, Mended, Mender, Patient, Reference, Unmendable
from needlewright.core.mending.registry import register
from needlewright.core.mending.streams.keys import is_overwritten
from needlewright.core.mending.streams.pieces import Piece, Pieces, left_out, writing
from needlewright.core.sources.source import Source

HEAD = b"FLV\x01"
AUDIO, VIDEO, SCRIPT = 8, 9, 18
KEY, AVC, AAC = 1, 7, 10
TAG = re.compile(rb"[\x08\x09\x12]...[\x00-\xff]{4}\0\0\0", re.DOTALL)
BLOCK, OVERLAP = 1 << 20, 16
LONGEST = 1 << 24
SCRIPT_BYTES = 1 << 16
SEEN = 16  # bytes of a tag's body that are looked at
CODINGS = {2: b"FLV1", 7: b"H264", 9: b"MP4V"}
SIZE_NAME = b"\0\x08filesize\0"  # of the metadata (E.5); a number of 8 bytes follows
LENGTH_NAME = b"\0\x08duration\0"
CUT_S, MOST_S = 1.0, 1e7  # seconds that are missing at the end; that a clip may have


@dataclass(frozen=True, slots=True)
class _Tag:
    """A tag at `at`, up to `stop` with the size behind it; `time` in seconds."""

    at: int
    stop: int
    kind: int
    time: float
    head: bytes

    @property
    def is_setup(self) -> bool:
        """What decoders need before anything else (E.4.2.1, E.4.3.1)."""
        if len(self.head) < 2 or self.kind == SCRIPT:
            return False
        own = self.head[0] & 15 == AVC if self.kind == VIDEO else self.head[0] >> 4 == AAC
        return own and self.head[1] == 0

    @property
    def is_key(self) -> bool:
        return bool(self.head) and self.head[0] >> 4 == KEY


@dataclass(slots=True)
class _Kept:
    pieces: Pieces = field(default_factory=Pieces)
    count: int = 0
    dropped: int = 0
    gaps: int = 0
    spans: list[tuple[float, float]] = field(default_factory=list)
    setups: set[int] = field(default_factory=set)
    kinds: set[int] = field(default_factory=set)
    last: float = 0.0


def mend(patient: Patient) -> Iterator[Mended]:
    source = patient.source
    head = source.read_at(0, 13)
    sound_head = head[:4] == HEAD and head[5:9] == b"\0\0\0\x09"
    kept, changes = _Kept(), []
    _gather(patient, 13 if sound_head else 0, kept)
    if kept.count < 2 or not kept.kinds & {AUDIO, VIDEO}:
        raise Unmendable("samples-none")
    lent, reference = _setups(patient, kept)
    if not sound_head:
        changes.append(Change("header-made"))
    elif not kept.gaps and not kept.dropped:
        stated = _number(source, SIZE_NAME)
        if stated is None or stated == kept.pieces.size + 13:
            raise Unmendable("nothing-found")
        changes.append(Change("sizes-corrected", {"count": 1}))
    if reference is not None:
        changes.append(Change("index-lent", {"reference": reference.name}))
    changes.append(Change("packets-in-step", {"count": kept.count, "times": kept.gaps}))
    changes += left_out(kept.dropped, kept.spans)
    flags = (4 if AUDIO in kept.kinds else 0) | (1 if VIDEO in kept.kinds else 0)
    front = HEAD + bytes((flags,)) + b"\0\0\0\x09" + bytes(4)
    lost = sum(max(0.0, b - a) for a, b in kept.spans)
    share = max(0.0, 1 - lost / kept.last) if kept.last > 0 else 1.0
    length = _number(source, LENGTH_NAME) if sound_head else None
    if length and length < MOST_S and kept.last < length - CUT_S:
        changes.append(Change("rest-cut-off", {"share": round(1 - kept.last / length, 4)}))
        share *= kept.last / length
    pieces: list[Piece] = [front, *lent, *kept.pieces.pieces]
    size = len(front) + sum(len(tag) for tag in lent) + kept.pieces.size
    yield Mended(writing(source, _with_size(source, pieces, size)), "flv", tuple(changes),
                 round(share, 4), (), reference)


def _number(source: Source, name: bytes) -> float | None:
    """A number of the metadata at the beginning of the file (E.5)."""
    data = source.read_at(13, SCRIPT_BYTES)
    place = data.find(name)
    if data[:1] != bytes((SCRIPT,)) or not 0 <= place <= len(data) - 8 - len(name):
        return None
    return float(struct.unpack_from(">d", data, place + len(name))[0])


def _with_size(source: Source, pieces: list[Piece], size: int) -> list[Piece]:
    """The pieces; where the metadata states the size of the file, it is that of the new one."""
    for number, piece in enumerate(pieces):
        if isinstance(piece, tuple):
            data = source.read_at(piece[0], min(SCRIPT_BYTES, piece[1] - piece[0]))
            place = data.find(SIZE_NAME)
            if data[:1] == bytes((SCRIPT,)) and 0 <= place <= len(data) - 20:
                at = piece[0] + place + len(SIZE_NAME)
                return [*pieces[:number], (piece[0], at), struct.pack(">d", size),
                        (at + 8, piece[1]), *pieces[number + 1 :]]
            break
    return pieces


def _gather(patient: Patient, at: int, kept: _Kept) -> None:
    """Keep the tags from `at` on that are whole, and pictures only where they can be decoded."""
    source = patient.source
    waits: float | None = None  # since when pictures wait for one that stands alone
    lost_from = 0.0
    while at < source.size:
        patient.breathe(at / source.size * 0.8)
        tag = _tag(source, at)
        if tag is None:
            at = _next(patient, at + 1)
            kept.gaps += 1
            waits = lost_from if waits is None else waits
            continue
        at = tag.stop
        data = source.read_at(tag.at + 11, tag.stop - tag.at - 15) if tag.kind == VIDEO else b""
        torn = tag.kind == VIDEO and is_overwritten(CODINGS.get(tag.head[0] & 15, b""), data)
        if torn and waits is None:
            waits = tag.time
        if tag.kind == VIDEO and not tag.is_setup and waits is not None:
            if torn or not tag.is_key:
                kept.dropped += 1
                continue
            kept.spans.append((waits, tag.time))
            waits = None
        kept.pieces.add((tag.at, tag.stop))
        kept.count += 1
        kept.kinds.add(tag.kind)
        if tag.is_setup:
            kept.setups.add(tag.kind)
        kept.last = max(kept.last, tag.time)
        lost_from = tag.time
    if waits is not None and VIDEO in kept.kinds and kept.last > waits:
        kept.spans.append((waits, kept.last))


def _tag(source: Source, at: int) -> _Tag | None:
    """The tag at `at` whose size stands behind it as well; None where none is."""
    head = source.read_at(at, 11 + SEEN)
    if len(head) < 11 or head[0] not in (AUDIO, VIDEO, SCRIPT) or head[8:11] != bytes(3):
        return None
    size = int.from_bytes(head[1:4], "big")
    stop = at + 15 + size
    if not 0 < size <= LONGEST or stop > source.size or (
            int.from_bytes(source.read_at(stop - 4, 4), "big") not in (size, size + 11)):
        return None
    time = (head[7] << 24 | int.from_bytes(head[4:7], "big")) / 1000
    return _Tag(at, stop, head[0], time, head[11 : 11 + size])


def _next(patient: Patient, at: int) -> int:
    """The next place at which a tag stands, and another, or the end, behind it."""
    source = patient.source
    while at < source.size:
        patient.breathe(at / source.size * 0.8)
        block = source.read_at(at, BLOCK + OVERLAP)
        for match in TAG.finditer(block):
            tag = _tag(source, at + match.start())
            if tag is not None and (tag.stop >= source.size - 15 or _tag(source, tag.stop)):
                return tag.at
        at += BLOCK
    return source.size


def _setups(patient: Patient, kept: _Kept) -> tuple[list[bytes], Reference | None]:
    """The tags that say how pictures and sound are coded, of a sibling, where they are lost."""
    if not kept.gaps or kept.setups >= kept.kinds & {AUDIO, VIDEO}:
        return [], None
    for reference in patient.references:
        at = 13
        found: list[bytes] = []
        while at < reference.source.size and len(found) < 2:
            tag = _tag(reference.source, at)
            if tag is None or tag.time > 5:
                break
            if tag.is_setup and tag.kind not in kept.setups:
                found.append(reference.source.read_at(tag.at, tag.stop - tag.at))
            at = tag.stop
        if found and reference.source.read_at(0, 4) == HEAD:
            return found, reference
    return [], None


register(Mender("flv", frozenset(("flv",)), mend))
