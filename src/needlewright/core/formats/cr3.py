"""Raw pictures in ISO base media files (`ftyp` brand `crx `), as some cameras write them.

Big-endian. A movie box holds metadata and one track a picture: the embedded JPEG, the small and the
full raw data, in `mdat`. What the private boxes mean is not read, only that all tracks lie inside.
"""

from __future__ import annotations

from needlewright.core.decoders import Decoder
from needlewright.core.errors import FormatError
from needlewright.core.formats.base import Format, Signature
from needlewright.core.formats.embedded import previews_check
from needlewright.core.formats.exif import Exif, read_exif
from needlewright.core.formats.registry import register
from needlewright.core.sources.source import Source
from needlewright.core.structures.bmff import Box, child, children, top_level
from needlewright.core.structures.bmff_samples import Track, read_tracks
from needlewright.core.structures.sector_checks import payload_check
from needlewright.core.structures.view import Parts, View, end_mark, finish, structure
from needlewright.core.walks import Check, Facts, Kind, Outcome, Walk

METADATA = (b"CMT1", b"CMT2")  # TIFF blocks: the main and the exposure directory
MAX_METADATA = 1 << 20


def _exif(view: View, moov: Box) -> Exif:
    """Camera and date from the TIFF blocks in the movie's private box."""
    joined = Exif()
    for outer in children(view, moov.body, moov.stop):
        if outer.name != b"uuid":
            continue
        for name in METADATA:
            box = child(view, outer.body + 16, outer.stop, name)
            if box is not None and box.stop - box.body <= MAX_METADATA:
                read = read_exif(view.take(box.body, box.stop - box.body))
                joined.make, joined.model = joined.make or read.make, joined.model or read.model
                joined.taken = joined.taken or read.taken
                joined.orientation = max(joined.orientation, read.orientation)
    return joined


def _preview(view: View, tracks: list[Track]) -> tuple[int, int] | None:
    """Span of the embedded JPEG: the first track that begins like one."""
    for track in tracks:
        if track.offsets.size:
            at, size = int(track.offsets[0]), int(track.sizes[0])
            if at + size <= view.stop and view.peek(at, 3) == b"\xff\xd8\xff":
                return at, at + size
    return None


def walk(source: Source, start: int, stop: int) -> Walk:
    """Follow the raw picture at `start`, never past `stop`; FormatError if none begins there."""
    view, parts = View(source, start, stop), Parts()
    tracks: list[Track] = []
    exif, end = Exif(), start
    data: list[Box] = []
    moov: Box | None = None
    problem: FormatError | None = None
    try:
        for box in top_level(view, start):
            if (box.name == b"ftyp" and box.start != start) or box.name in (b"moof", b"meta"):
                break
            if box.stop > view.stop or box.open_ended:
                parts.add(box.name.decode("latin-1").strip(), box.start, view.stop)
                end = view.stop
                raise FormatError("data-ends", offset=view.stop)
            if box.name == b"moov":
                moov = box
                exif, tracks = _exif(view, box), read_tracks(view, box, start)
            elif box.name == b"mdat":
                data.append(box)
            parts.add(box.name.decode("latin-1").strip(), box.start, box.stop)
            end = box.stop
        if moov is None or not tracks:
            raise FormatError("picture-index-missing", offset=end)
        _all_inside(tracks, data, end)
    except FormatError as error:
        problem = error
    if moov is None:
        raise problem or FormatError("no-picture", offset=start)
    largest = max(tracks, key=lambda t: t.width * t.height, default=Track(0))
    facts = Facts(largest.width or None, largest.height or None, exif.taken, exif.camera,
                  exif.orientation)
    index = Check("index", Outcome.FAIL if problem else Outcome.PASS,
                  "items-outside" if problem else "items-inside", {"items": len(tracks)})
    preview = _preview(view, tracks)
    inside = [previews_check(view, [preview]), payload_check(view, [
        (int(a), int(a + n)) for t in tracks for a, n in zip(t.offsets, t.sizes)])] if (
            problem is None and preview is not None) else []
    wanted = max((int((t.offsets + t.sizes).max()) for t in tracks if t.offsets.size), default=end)
    return finish(
        start, end, problem, facts, parts,
        (structure(problem, start, len(parts)), index, *inside,
         end_mark(problem is None, counted=True)),
        share=_share(start, end, wanted, problem),
        preview=preview, opaque=[
            (int(a), int(a + n)) for t in tracks for a, n in zip(t.offsets, t.sizes)
            if preview is None or int(a) != preview[0]], verified=moov.stop if problem else None)


def _share(start: int, end: int, wanted: int, problem: FormatError | None) -> float:
    if problem is None:
        return 1.0
    return (end - start) / (wanted - start) if wanted > end else 0.99


def _all_inside(tracks: list[Track], data: list[Box], end: int) -> None:
    for track in tracks:
        for at, size in zip(track.offsets.tolist(), track.sizes.tolist()):
            if not any(box.body <= at and at + size <= box.stop for box in data):
                raise FormatError("picture-outside", offset=min(end, max(at, 0)))


register(Format(
    name="cr3", kind=Kind.PHOTO, extension="cr3", signatures=(Signature(b"ftypcrx ", 4),),
    accept=lambda head: head[4:12] == b"ftypcrx ", walk=walk, decoder=Decoder.RAW,
    brands=(b"crx ",), joined="around",
))
