"""JPEG files (ITU-T T.81, JFIF 1.02, Exif 2.32, CIPA DC-007).

The walk follows every marker segment and decodes the coded data, so a thumbnail's end mark never
ends the photo, and a picture that the camera appended is part of the file.
"""

from __future__ import annotations

import contextlib
import struct

import numpy as np
import numpy.typing as npt

from needlewright.core.errors import FormatError, SourceError
from needlewright.core.formats import jpeg_segments as seg
from needlewright.core.formats.base import Format, Signature
from needlewright.core.formats.jpeg_appended import appended_clip
from needlewright.core.formats.jpeg_damage import Damage, find_damage
from needlewright.core.formats.jpeg_scans import (
    MAX_PIXELS,
    DecodedScan,
    Grids,
    can_decode,
    decode_scan,
    make_grids,
)
from needlewright.core.formats.registry import register
from needlewright.core.kernels.jpeg_bits import scan_end
from needlewright.core.sources.source import Source
from needlewright.core.sources.windows import BlockReader
from needlewright.core.structures.view import end_mark, structure
from needlewright.core.walks import Break, Check, Facts, Kind, Outcome, Part, Walk

READ_BYTES = 1 << 18
ROOM_BYTES = 1 << 25  # asked for at once; only what is read into takes memory
MAX_SCAN_BYTES = 1 << 28
MAX_APPENDED = 8
THUMBNAIL_SIDE = 320  # pixels; a bare JPEG up to this size, without any APPn, is a thumbnail
CHUNK_HEAD, MAX_FRAME_PADDING = 8, 64  # bytes of a clip's chunk in front of a frame, and behind it


class _Walker:
    """One walk from `start`, never past `stop`; `nested` for pictures inside a picture."""

    def __init__(self, source: Source, start: int, stop: int) -> None:
        self.source, self.start, self.stop = source, start, stop
        self.reader = BlockReader(source)
        self.headers = seg.Headers()
        self.grids: Grids | None = None
        self.scans: list[DecodedScan] = []
        self.parts: list[Part] = []
        self.damage: Damage | None = None
        self.suspect: Damage | None = None
        self.unchecked = False
        self.at = start
        self.ended = False
        self.sure = start  # bytes before this are borne out by what follows them

    def take(self, length: int) -> bytes:
        if self.at + length > self.stop:
            raise FormatError("data-ends", offset=self.at)
        block = self.reader.read(self.at, length)
        if len(block) != length:
            raise FormatError("data-ends", offset=self.at)
        return block

    def run(self) -> None:
        """Follow segments and scans to EOI; FormatError where the structure breaks."""
        if self.take(2) != b"\xff\xd8":
            raise FormatError("no-start-mark", offset=self.at)
        self.at += 2
        header_start = self.start
        for _ in range(seg.MAX_SEGMENTS):
            place = self.at
            while self.take(2) == b"\xff\xff":  # fill bytes may precede any marker
                self.at += 1
            lead, marker = self.take(2)
            if lead != 0xFF or (marker < seg.FIRST_MARKER and marker != 0x01):
                raise FormatError("no-marker", offset=place)
            if self.scans and marker not in seg.AFTER_SCAN and not (
                    seg.APP0 <= marker <= seg.APP15):
                raise FormatError("marker-misplaced", offset=place)
            self.at += 2
            self.sure = place  # a segment's length is right where the next marker follows it
            if marker == seg.EOI:
                if not self.scans and not self.unchecked:
                    raise FormatError("ends-before-picture", offset=place)
                self.parts.append(Part("end", place, self.at))
                self.ended = True
                return
            if marker == seg.SOI or 0xD0 <= marker <= 0xD7 or marker == 0x01:
                raise FormatError("marker-misplaced", offset=place)
            (length,) = struct.unpack(">H", self.take(2))
            if length < 2:
                raise FormatError("segment-too-short", offset=self.at)
            self.take(length)
            body = self.reader.read(self.at + 2, length - 2)
            if marker == seg.SOS:
                scan = seg.read_scan(self.headers, body, self.at + 2)
                self.at += length
                if header_start < self.at:
                    self._name_header(header_start, self.at)
                self._scan(scan)
                header_start = self.at
                if self.damage is not None:
                    return
                continue
            seg.read_segment(self.headers, marker, body, self.at + 2, self.start)
            self.at += length
        raise FormatError("too-many-segments", offset=self.at)

    def _name_header(self, start: int, stop: int) -> None:
        exif = self.headers.exif
        if self.scans or exif is None:
            self.parts.append(Part("tables", start, stop))
            return
        thumb = exif.thumbnail
        if thumb is None:
            self.parts.append(Part("header", start, stop))
            return
        thumb_start = self.headers.exif_at + thumb[0]
        self.parts.append(Part("EXIF", start, thumb_start))
        self.parts.append(Part("thumbnail", thumb_start, thumb_start + thumb[1]))
        self.parts.append(Part("tables", thumb_start + thumb[1], stop))

    def _scan(self, header: seg.ScanHeader) -> None:
        raw = self._coded_bytes()
        data_start, self.at = self.at, self.at + raw.size
        self.parts.append(Part("coded data", data_start, self.at))
        if not can_decode(self.headers, header):
            self.unchecked = True
            return
        if self.grids is None:
            assert self.headers.frame is not None
            self.grids = make_grids(self.headers.frame)
        self.scans.append(decode_scan(self.headers, header, self.grids, raw))
        found = find_damage(
            self.headers, self.grids, self.scans, raw, data_start - self.start,
            self.source.sector_size, self._closed(), self.at >= self.stop)
        if len(self.scans) > 1:
            self.scans[-2] = self.scans[-2].without_data()
        if found is not None and found.certain:
            self.damage = found
        elif found is not None and self.suspect is None:
            self.suspect = found

    def _longest_scan(self) -> int:
        """More bytes than any encoder spends on the frame: over two for each coefficient."""
        frame = self.headers.frame
        if frame is None:
            return READ_BYTES
        blocks = sum(c.horizontal * c.vertical for c in frame.components)
        return READ_BYTES + frame.mcus_per_row * max(1, frame.mcu_rows) * blocks * 160

    def _closed(self) -> bool:
        """Whether a marker that may follow a scan stands here."""
        mark = self.reader.read(self.at, 2)
        return len(mark) == 2 and mark[0] == 0xFF and mark[1] in seg.AFTER_SCAN

    def _coded_bytes(self) -> npt.NDArray[np.uint8]:
        """The bytes from here to the next marker, to blank space or to the end of the source."""
        limit = min(self.stop - self.at, MAX_SCAN_BYTES, self._longest_scan())
        room = np.empty(min(limit, ROOM_BYTES), np.uint8)
        have = 0
        while have < limit:
            if have == room.size:
                room = np.concatenate((room, np.empty(min(limit - have, have), np.uint8)))
            stop = min(have + READ_BYTES, room.size)
            read = self.source.read_into(self.at + have, room.data[have:stop])
            block = room[have : have + read]
            looked, have = max(0, have - 1), have + read
            if not read:
                break
            if read >= 4096 and block[0] == block[-1] and (block == block[0]).all() and (
                    not self.source.lost_within(self.at + have - read, self.at + have)):
                break  # nothing but blank space for a whole block, and not for want of reading
            end = scan_end(room[:have], looked)
            if end < have:
                return room[:end]
        return room[:have]


def _appended(walker: _Walker) -> tuple[int, list[Part]]:
    """End of the file with the pictures that the camera appended behind the end mark."""
    end, parts = walker.at, []
    listed = sorted(walker.headers.appended)[:MAX_APPENDED]
    for offset, size in listed:
        if offset < end or offset - end > (1 << 20) or offset + size > walker.stop or size < 4:
            continue
        if walker.source.read_at(offset, 3) != b"\xff\xd8\xff":
            continue
        parts.append(Part("appended picture", offset, offset + size))
        end = offset + size
    # Some cameras append a preview without listing it. A file of its own starts at a sector.
    loose = not listed and end % walker.source.sector_size != 0
    if loose and walker.source.read_at(end, 3) == b"\xff\xd8\xff":
        inner = _Walker(walker.source, end, min(walker.stop, end + (1 << 24)))
        try:
            inner.run()
        except FormatError:
            return end, parts
        if inner.ended:
            parts.append(Part("appended picture", end, inner.at))
            end = inner.at
    more = appended_clip(walker.source, end, walker.stop, walker.headers.has_clip)
    return (more[-1].stop if more else end), parts + more


def _coded_check(walker: _Walker) -> Check:
    name = "coded data"
    damage = walker.damage
    if damage is not None:
        return Check(name, Outcome.FAIL, "coded-broken", {
            "why": damage.why, "row": damage.row, "rows": _rows(walker),
            "scan": len(walker.scans), "scans": None}, content=True)
    if walker.unchecked or not walker.scans:
        return Check(name, Outcome.NOT_MADE, "coded-unknown", content=True)
    blocks = sum(s.plan.mcus * len(s.plan.block_component) for s in walker.scans)
    return Check(name, Outcome.PASS, "coded-complete", {"blocks": blocks}, content=True)


def _rows(walker: _Walker) -> int | None:
    return walker.headers.frame.height if walker.headers.frame else None


def _dimension_check(frame: seg.Frame | None, size: int, ended: bool) -> Check:
    name = "dimensions"
    if frame is None or frame.height == 0:
        return Check(name, Outcome.FAIL, "dimensions-missing")
    values = {"width": frame.width, "height": frame.height}
    mcus = frame.mcus_per_row * frame.mcu_rows
    # Two bits a block is the least that Huffman coding can need, but for progressive runs.
    too_thin = ended and frame.marker in seg.SEQUENTIAL and size * 8 < mcus * 2
    if frame.width * frame.height > MAX_PIXELS or too_thin:
        return Check(name, Outcome.FAIL, "dimensions-implausible", values)
    return Check(name, Outcome.PASS, "dimensions-plausible", values)


def _header_check(walker: _Walker) -> Check:
    """Whether what the headers carry is still theirs.

    Lengths let a walk step over a header whose content was overwritten, and the picture then
    decodes; what can be looked at inside is, above all the embedded thumbnail.
    """
    doubts = list(walker.headers.doubts)
    exif = walker.headers.exif
    if exif is not None and exif.thumbnail is not None and (
            _whole_thumbnail(walker) == walker.start):
        doubts.insert(0, "thumbnail")
    if doubts:
        return Check("headers", Outcome.DOUBT, "headers-foreign", {"part": doubts[0]})
    return Check("headers", Outcome.PASS, "headers-own")


def _facts(walker: _Walker) -> Facts:
    frame, exif = walker.headers.frame, walker.headers.exif
    width, height = (frame.width, frame.height) if frame else (None, None)
    if exif is None:
        return Facts(width, height)
    return Facts(width, height, exif.taken, exif.camera, exif.orientation, None,
                 dict(exif.extra))


def _preview(walker: _Walker) -> tuple[int, int] | None:
    """Span of the EXIF thumbnail where it lies before the damage and starts like a JPEG."""
    exif = walker.headers.exif
    if exif is None or exif.thumbnail is None:
        return None
    start = walker.headers.exif_at + exif.thumbnail[0]
    stop = start + exif.thumbnail[1]
    if walker.source.read_at(start, 2) != b"\xff\xd8":
        return None
    return start, stop


def walk(source: Source, start: int, stop: int) -> Walk:
    """Follow the JPEG at `start`, never past `stop`; FormatError if no picture begins there."""
    walker = _Walker(source, start, stop)
    problem: FormatError | None = None
    try:
        walker.run()
    except FormatError as error:
        problem = error
    if walker.headers.frame is None and walker.headers.exif is None:
        raise problem or FormatError("no-picture", offset=start)
    checks: list[Check] = []
    broken: Break | None = None
    share, end = 1.0, walker.at
    if walker.damage is not None:
        damage = walker.damage
        broken = Break(start + damage.offset, damage.why, start + damage.noticed_at, damage.row)
        share = damage.share
        # What could not be read is blank as well; the file goes on behind it.
        unread = source.lost_within(broken.offset, broken.offset + 1)
        end = _end_mark(source, walker.at, stop) if unread or not damage.cut else broken.offset
    elif problem is not None:
        broken = Break(problem.offset, "structure", problem.offset, values=problem.told)
        share = _share_of_scans(walker)
        end = max(start + 2, problem.offset)
    extra: list[Part] = []
    if walker.ended:
        end, extra = _appended(walker)
        if walker.headers.has_clip and not any(p.name == "appended clip" for p in extra):
            edited = walker.headers.edited  # editors keep the announcement and drop the clip
            checks.append(Check("appended clip", Outcome.NOT_APPLICABLE, "clip-dropped")
                          if edited else Check("appended clip", Outcome.DOUBT, "clip-missing"))
    checks.append(structure(problem, start, len(walker.parts)))
    checks.append(_header_check(walker))
    checks.append(_coded_check(walker))
    checks.append(end_mark(walker.ended))
    checks.append(_dimension_check(walker.headers.frame, end - start, walker.ended))
    frame = walker.headers.frame
    bare = (
        not walker.headers.has_own_marker and frame is not None
        and max(frame.width, frame.height) <= THUMBNAIL_SIDE
    ) or _frame_of_a_clip(source, start, end)
    suspect = walker.suspect
    return Walk(
        start, end, walker.ended, broken, share, _facts(walker),
        tuple(p for p in (*walker.parts, *extra) if p.start < end), _preview(walker), bare,
        None if suspect is None else Break(
            start + suspect.offset, suspect.why, start + suspect.noticed_at, suspect.row,
            {"share": suspect.share}),
        tuple(checks),
        clip=next(((p.start, p.stop) for p in extra if p.name == "appended clip"), None),
        verified=_verified(walker, broken, end), edited=walker.headers.edited,
    )


def _verified(walker: _Walker, broken: Break | None, end: int) -> int | None:
    """How far a broken picture bears itself out: up to the damage in its coded data, else up to
    the last marker that follows its segment, or to the end of a thumbnail that decodes."""
    if broken is None:
        return None
    if walker.damage is not None:
        return min(broken.offset, end)
    thumbnail = _whole_thumbnail(walker)
    return min(max(walker.sure, thumbnail), end)


def _whole_thumbnail(walker: _Walker) -> int:
    """The byte behind the embedded thumbnail where it decodes to its own end; else the start."""
    span = _preview(walker)
    if span is None:
        return walker.start
    inner = _Walker(walker.source, *span)
    with contextlib.suppress(FormatError):
        inner.run()
    return inner.at if inner.ended else walker.start


def _frame_of_a_clip(source: Source, start: int, end: int) -> bool:
    """Whether the head of an AVI chunk stands in front, with this picture's length (RIFF AVI)."""
    head = b""
    if start >= CHUNK_HEAD:
        with contextlib.suppress(SourceError):  # what stands in front need not be readable
            head = source.read_at(start - CHUNK_HEAD, CHUNK_HEAD)
    size = int.from_bytes(head[4:], "little")
    return len(head) == CHUNK_HEAD and head[:2].isdigit() and head[2:4] in (b"dc", b"db") and (
        0 <= size - (end - start) <= MAX_FRAME_PADDING)


def _end_mark(source: Source, at: int, stop: int) -> int:
    """First byte behind the end mark where one stands at `at`, else `at`."""
    return at + 2 if at + 2 <= stop and source.read_at(at, 2) == b"\xff\xd9" else at


def _share_of_scans(walker: _Walker) -> float:
    if not walker.scans or walker.headers.frame is None:
        return 0.0
    if walker.headers.frame.marker == seg.PROGRESSIVE:
        # Every scan so far is complete and how many were to come is unknown: the spectrum that
        # came is the measure, the DC scan alone counting for a tenth.
        best = max(s.header.band[1] for s in walker.scans)
        return 0.9 if best == 63 else 0.1 + 0.5 * best / 63
    covered = {member[0] for s in walker.scans for member in s.header.members}
    return 1.0 if len(covered) == len(walker.headers.frame.components) else 0.5


def accept(head: bytes) -> bool:
    """SOI followed by a segment that may open a file (T.81 B.2.1), fill bytes in front of it."""
    opening = (0xC0, 0xC1, 0xC2, seg.DHT, seg.DQT, seg.DRI, seg.COM)
    rest = head[2:].lstrip(b"\xff")
    return head[:3] == b"\xff\xd8\xff" and len(rest) > 0 and (
        rest[0] in opening or 0xE0 <= rest[0] <= 0xEF)


register(Format(
    name="jpeg", kind=Kind.PHOTO, extension="jpg",
    signatures=(Signature(b"\xff\xd8\xff"),), accept=accept, walk=walk, decoder="JPEG",
    aliases={"jpeg": "jpg", "jpe": "jpg", "jfif": "jpg", "thm": "jpg"},
    object_formats={"jpg": 0x3801},
))
