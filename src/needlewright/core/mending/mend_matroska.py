"""Matroska and WebM that were never closed, are cut off, or have foreign data between or inside
their clusters: the blocks that chain, in clusters with sizes that are right, and an index made of
them (RFC 9559 on EBML, RFC 8794).

Every block has its time, so nothing has to be put in the place of what is lost; pictures that need
lost ones are left out up to the next that stands alone.
"""

from __future__ import annotations

import re
import struct
from collections.abc import Iterator
from dataclasses import dataclass, field

from needlewright.core.errors import FormatError
from needlewright.core.formats.matroska import (
    ATTACHMENTS,
    BLOCK_GROUP,
    CHAPTERS,
    CLUSTER,
    CODEC,
    CRC,
    CUES,
    DURATION,
    EBML,
    IN_CLUSTER,
    INFO,
    SCALE,
    SEEK,
    SEGMENT,
    SIMPLE_BLOCK,
    TAGS,
    TIMESTAMP,
    TOP,
    TRACK,
    TRACK_NUMBER,
    TRACK_TYPE,
    TRACKS,
    VOID,
)
from needlewright.core.mending.base import Change, Mended, Mender, Patient, Reference, Unmendable
from needlewright.core.mending.registry import register
from needlewright.core.mending.streams.keys import is_overwritten
from needlewright.core.mending.streams.pieces import Piece, Pieces, left_out, writing
from needlewright.core.sources.source import Source
from needlewright.core.structures.ebml import Element, children, read_element
from needlewright.core.structures.view import View

LOOK_BYTES = 1 << 20
MOST_LOOKED_AT = 1 << 24
MAX_HEAD = 1 << 26
CHAIN = 3
MARK = re.compile(rb"\x1f\x43\xb6\x75|[\xa0\xa3]")
CODINGS = {b"V_MPEG4/ISO/AVC": b"AVC1", b"V_MPEGH/ISO/HEVC": b"HEVC", b"V_MJPEG": b"MJPG",
           b"V_MPEG1": b"MPG1", b"V_MPEG2": b"MPG2", b"V_MPEG4/ISO/ASP": b"MP4V"}
KEPT = frozenset((INFO, TRACKS, TAGS, CHAPTERS, ATTACHMENTS))
BLOCK, REFERENCE, CUE_POINT, CUE_TIME = 0xA1, 0xFB, 0xBB, 0xB3
CUE_POSITIONS, CUE_TRACK, CUE_CLUSTER = 0xB7, 0xF7, 0xF1
VIDEO = 1
MAX_LATER = 1 << 40  # units of time: no clip is longer


@dataclass(slots=True)
class _Head:
    """What stands before the clusters. `parts`: elements of the segment, by number."""

    ebml: bytes
    parts: dict[int, bytes] = field(default_factory=dict)
    tracks: dict[int, int] = field(default_factory=dict)  # number -> type
    codings: dict[int, bytes] = field(default_factory=dict)  # of tracks whose pictures are known
    scale: int = 1_000_000
    duration: float = 0.0
    stop: int = 0


@dataclass(slots=True)
class _Block:
    """A block that chains: its element, from `start` to `stop`; `time` in units of the scale."""

    start: int
    stop: int
    track: int
    time: int
    key: bool
    sound: bool  # nothing says that it was overwritten


def element(number: int, body: bytes, wide: bool = False) -> bytes:
    """An element with a size of 8 bytes where `wide`, else of as few as do."""
    id_bytes = number.to_bytes(-(-number.bit_length() // 8), "big")
    width = 8 if wide else next(w for w in range(1, 9) if len(body) < (1 << 7 * w) - 1)
    return id_bytes + (len(body) | 1 << 7 * width).to_bytes(width, "big") + body


def _opening(number: int, size: int) -> bytes:
    """The head of an element of `size` bytes."""
    return number.to_bytes(4, "big") + (size | 1 << 56).to_bytes(8, "big")


def _unsigned(value: int) -> bytes:
    return value.to_bytes(max(1, -(-value.bit_length() // 8)), "big")


def _head(source: Source) -> _Head | None:
    """What stands at the beginning of `source`; None where no tracks do."""
    view = View(source, 0, source.size)
    head: _Head | None = None
    try:
        first = read_element(view, 0)
        if first.number != EBML or first.stop > min(source.size, 1 << 20):
            return None
        head = _Head(view.take(0, first.stop))
        segment = read_element(view, first.stop)
        while segment.number == VOID:
            segment = read_element(view, segment.stop)
        if segment.number != SEGMENT:
            return None
        at = head.stop = segment.body
        while at < source.size:
            part = read_element(view, at)
            if part.number == CLUSTER or part.number not in TOP or part.stop > source.size:
                break
            if part.number in KEPT and part.stop - part.start <= MAX_HEAD:
                head.parts[part.number] = view.take(part.start, part.stop - part.start)
                _learn(head, view, part)
            at = head.stop = part.stop
    except FormatError:
        pass
    return head if head is not None and head.tracks else None


def _learn(head: _Head, view: View, part: Element) -> None:
    if part.number == INFO:
        for entry in children(view, part):
            raw = view.take(entry.body, min(8, entry.stop - entry.body))
            if entry.number == SCALE:
                head.scale = int.from_bytes(raw, "big") or 1_000_000
            elif entry.number == DURATION and len(raw) in (4, 8):
                head.duration = struct.unpack(">f" if len(raw) == 4 else ">d", raw)[0]
    elif part.number == TRACKS:
        for entry in children(view, part):
            if entry.number == TRACK:
                items = {item.number: view.take(item.body, min(32, item.stop - item.body))
                         for item in children(view, entry)
                         if item.number in (TRACK_NUMBER, TRACK_TYPE, CODEC)}
                number = int.from_bytes(items.get(TRACK_NUMBER, b"")[:8], "big")
                head.tracks[number] = int.from_bytes(items.get(TRACK_TYPE, b"")[:8], "big")
                head.codings[number] = CODINGS.get(items.get(CODEC, b"").rstrip(b"\0"), b"")


class _Chain:
    """The blocks of all clusters, one behind another: (block, whether something foreign stands
    before it, whether a cluster begins with it)."""

    def __init__(self, patient: Patient, head: _Head, start: int) -> None:
        self._patient, self._head = patient, head
        self._view = View(patient.source, 0, patient.source.size)
        self._at, self.time = start, 0  # the time of the cluster that this is in
        self._stop = 0  # of the cluster that this is in

    def __iter__(self) -> Iterator[tuple[_Block, bool, bool]]:
        at, size, gap, opens = self._at, self._view.stop, False, True
        while at < size:
            found = self._element(at)
            if found is None:
                self._patient.breathe(at / size * 0.6)
                at, gap, opens = self._again(at + 1), True, True
                continue
            at = found.stop
            if found.number == CLUSTER:
                self._enter(found)
                at, opens = found.body, True
            elif found.number == TIMESTAMP:
                self.time = self._view.big(found.body, min(8, found.stop - found.body))
            elif found.number in (SIMPLE_BLOCK, BLOCK_GROUP):
                block = self._block(found)
                if block is None:
                    gap = True
                    continue
                yield block, gap, opens
                gap = opens = False

    def _enter(self, cluster: Element) -> None:
        self._stop = self._view.stop if cluster.open_ended else cluster.stop

    def _element(self, at: int, chain: int = 1) -> Element | None:
        """The element at `at`, if it is one of ours behind which another follows."""
        try:
            found = read_element(self._view, at)
        except FormatError:
            return None
        top = found.number in TOP or found.number in (SEGMENT, EBML)
        if found.number == CLUSTER:
            return found if self._begins_cluster(found) else None
        if found.open_ended or found.stop > self._view.stop:
            return None
        if not top and found.number not in IN_CLUSTER:
            return None
        if found.number in (SIMPLE_BLOCK, BLOCK_GROUP) and self._block(found, False) is None:
            return None
        if found.stop < self._view.stop and not self._plausible(found.stop):
            return None
        if chain > 1 and found.stop < self._view.stop:
            behind = self._element(found.stop, chain - 1)
            return found if behind is not None else None
        return found

    def _plausible(self, at: int) -> bool:
        try:
            behind = read_element(self._view, at)
        except FormatError:
            return self._view.stop - at < 12  # the last one is cut off
        return behind.number in IN_CLUSTER or behind.number in TOP or behind.number == EBML

    def _begins_cluster(self, cluster: Element) -> bool:
        """Whether its time stands at its beginning, behind a checksum or room at most."""
        at = cluster.body
        for _ in range(3):
            try:
                child = read_element(self._view, at)
            except FormatError:
                return False
            if child.number == TIMESTAMP:
                return child.stop - child.body <= 8
            if child.number not in (CRC, VOID):
                return False
            at = child.stop
        return False

    def _again(self, at: int) -> int:
        """The next place from which clusters, or blocks of this cluster, chain; the end where
        none do."""
        size = self._view.stop
        while at < size:
            self._patient.breathe(at / size * 0.6)
            block = self._view.source.read_at(at, LOOK_BYTES + 16)
            for match in MARK.finditer(block):
                place = at + match.start()
                cluster = match[0][0] == 0x1F
                if not cluster and place >= self._stop:
                    continue  # its time is not known
                found = self._element(place, 1 if cluster else CHAIN)
                if match.start() < LOOK_BYTES and found is not None:
                    return place
            at += LOOK_BYTES
        return size

    def _block(self, outer: Element, look: bool = True) -> _Block | None:
        """The block in an element; None where it is none of a track that is known."""
        view, inner, key = self._view, outer, True
        try:
            if outer.number == BLOCK_GROUP:
                parts = {child.number: child for child in children(view, outer)}
                if BLOCK not in parts:
                    return None
                inner, key = parts[BLOCK], REFERENCE not in parts
            head = view.take(inner.body, min(11, inner.stop - inner.body))
        except FormatError:
            return None
        width = 9 - head[0].bit_length() if head and head[0] else 9
        if len(head) < width + 3:
            return None
        track = int.from_bytes(head[:width], "big") & ((1 << 7 * width) - 1)
        if track not in self._head.tracks:
            return None
        shift = int.from_bytes(head[width : width + 2], "big", signed=True)
        if outer.number == SIMPLE_BLOCK:
            key = bool(head[width + 2] & 0x80)
        sound = True
        coding = self._head.codings.get(track, b"")
        if look and coding:
            data = view.source.read_at(inner.body, min(MOST_LOOKED_AT, inner.stop - inner.body))
            sound = not is_overwritten(coding, data)
        return _Block(outer.start, outer.stop, track, self.time + shift, key, sound)


@dataclass(slots=True)
class _Made:
    """The new clusters."""

    pieces: Pieces = field(default_factory=Pieces)
    cues: list[tuple[int, int, int]] = field(default_factory=list)  # time, track, place
    kept: int = 0
    dropped: int = 0
    lost: float = 0.0  # units of time of pictures
    last: int = 0
    spans: list[tuple[float, float]] = field(default_factory=list)


def mend(patient: Patient) -> Iterator[Mended]:
    source = patient.source
    head, lent, start = _described(patient)
    made = _made(head, _Chain(patient, head, start))
    if not made.kept:
        raise Unmendable("samples-none")
    before = _front(head, made, lent)
    cues = _cues(made, len(before))
    opening = head.ebml + _opening(SEGMENT, len(before) + made.pieces.size + len(cues))
    changes: list[Change] = []
    if lent is not None:
        changes.append(Change("header-lent", {"reference": lent.name}))
    changes.append(Change("index-made", {"samples": made.kept}))
    changes += left_out(made.dropped, made.spans)
    total = max(made.last, head.duration if lent is None else 0, 1)
    cut = max(0.0, total - made.last)
    if cut * head.scale > 5e8:  # half a second
        changes.append(Change("rest-cut-off", {"share": round(cut / total, 4)}))
    else:
        cut = 0.0
    share = max(0.0, 1 - (made.lost + cut) / total)
    extension = "webm" if b"webm" in head.ebml else "mkv"
    if VIDEO not in head.tracks.values():
        extension = "mka"
    yield Mended(writing(source, [opening + before], made.pieces.pieces, [cues]), extension,
                 tuple(changes), share, ("unproven",) if lent is not None else (), lent)


def _described(patient: Patient) -> tuple[_Head, Reference | None, int]:
    own = _head(patient.source)
    if own is not None:
        return own, None, own.stop
    for reference in patient.references:
        head = _head(reference.source)
        if head is not None:
            return head, reference, 0
    raise Unmendable("index-reference-missing")


def _made(head: _Head, chain: _Chain) -> _Made:
    made = _Made()
    shown = {number: 0 for number, kind in head.tracks.items() if kind == VIDEO}
    waits: dict[int, int] = {}  # track -> time of its last picture before a gap
    cluster = Pieces()
    opened: int | None = None
    unit = head.scale / 1e9

    def close() -> None:
        if opened is not None and cluster.size:
            time = element(TIMESTAMP, _unsigned(opened))
            made.pieces.add(_opening(CLUSTER, len(time) + cluster.size) + time)
            for piece in cluster.pieces:
                made.pieces.add(piece)
            cluster.pieces, cluster.size = list[Piece](), 0

    time_of: dict[int, int] = {}
    for block, gap, opens in chain:
        if gap:
            waits.update({track: waits.get(track, time) for track, time in shown.items()})
            made.spans.append((max(shown.values(), default=0) * unit, block.time * unit))
        if opens:
            close()
            opened = chain.time
        if block.time > MAX_LATER:
            continue
        if block.track in shown:
            if not block.sound and block.track not in waits:
                waits[block.track] = shown[block.track]
                made.spans.append((shown[block.track] * unit, block.time * unit))
            if block.track in waits:
                if not block.key or not block.sound:
                    made.dropped += 1
                    continue
                begun = waits.pop(block.track)
                made.lost += max(0, block.time - begun)
                made.spans.append((begun * unit, block.time * unit))
            shown[block.track] = max(shown[block.track], block.time)
        if block.key and time_of.get(block.track) != opened and (
                block.track in shown or not shown):
            time_of[block.track] = opened or 0
            made.cues.append((block.time, block.track, made.pieces.size))
        cluster.add((block.start, block.stop))
        made.kept += 1
        made.last = max(made.last, block.time)
    close()
    for begun in waits.values():
        made.lost += max(0, made.last - begun)
        made.spans.append((begun * unit, made.last * unit))
    return made


def _front(head: _Head, made: _Made, lent: Reference | None) -> bytes:
    """What stands before the clusters, with the play time that there is."""
    info = bytearray(head.parts.get(INFO, b""))
    place = info.find(b"\x44\x89")
    if place >= 0 and info[place + 2] in (0x84, 0x88) and (lent is not None or not head.duration):
        code = ">f" if info[place + 2] == 0x84 else ">d"
        struct.pack_into(code, info, place + 3, float(made.last))
    own = (TRACKS,) if lent is not None else (TRACKS, TAGS, CHAPTERS, ATTACHMENTS)
    return bytes(info) + b"".join(head.parts.get(number, b"") for number in own)


def _cues(made: _Made, before: int) -> bytes:
    """The index: where the clusters lie, counted from the segment's content."""
    points = b"".join(
        element(CUE_POINT, element(CUE_TIME, _unsigned(max(0, time))) + element(
            CUE_POSITIONS, element(CUE_TRACK, _unsigned(track)) + element(
                CUE_CLUSTER, _unsigned(before + place))))
        for time, track, place in made.cues)
    return element(CUES, points) if points else b""


assert SEEK not in KEPT  # it would point to where things were
register(Mender("matroska", frozenset(("matroska", "mkv", "webm", "mka")), mend))
