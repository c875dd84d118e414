"""The camera's own preview, where nothing better is left of a picture: a JPEG within the file that
is whole, byte for byte, at its true size.

Raw files, HEIC and TIFF carry one, of full size as a rule; many cameras put a large one behind a
JPEG (CIPA DC-007).
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from needlewright.core.errors import FormatError
from needlewright.core.formats.registry import formats
from needlewright.core.mending.base import Change, Mended, Mender, Patient, Unmendable
from needlewright.core.mending.registry import register
from needlewright.core.mending.streams.pieces import writing
from needlewright.core.sources.pieces import PiecedSource

MARK = b"\xff\xd8\xff"
LOOK_BYTES = 1 << 20
MOST_TRIED = 64  # places at which a JPEG may begin
LEAST_SIDE = 128  # pixels; smaller ones show nothing
MOST_BYTES = 1 << 31


@dataclass(frozen=True, slots=True)
class _Preview:
    start: int
    stop: int
    width: int
    height: int

    @property
    def area(self) -> int:
        return self.width * self.height


def mend(patient: Patient) -> Iterator[Mended]:
    own = patient.walk.facts if patient.walk is not None else None
    area = (own.width or 0) * (own.height or 0) if own is not None else 0
    best = max(_previews(patient), key=lambda p: (p.area, -p.start), default=None)
    if best is None or min(best.width, best.height) < LEAST_SIDE:
        raise Unmendable("nothing-decodes")
    share = min(1.0, best.area / area) if area else 1.0
    yield Mended(writing(patient.source, [(best.start, best.stop)]), "jpg",
                 (Change("preview-taken", {"width": best.width, "height": best.height}),),
                 round(share, 4), ("preview",))


def _previews(patient: Patient) -> Iterator[_Preview]:
    """The JPEGs within the file that are whole; not the file itself."""
    source, walk, tried = patient.source, formats()["jpeg"].walk, 0
    if source.size > MOST_BYTES:
        raise Unmendable("too-large")
    at = 1
    while at < source.size and tried < MOST_TRIED:
        patient.breathe(0.9)
        block = source.read_at(at, LOOK_BYTES + 2)
        place = block.find(MARK)
        if place < 0:
            at += LOOK_BYTES
            continue
        start = at + place
        at, tried = start + 1, tried + 1
        inside = PiecedSource(source, ((start, source.size - start),))
        try:
            found = walk(inside, 0, inside.size)
        except FormatError:
            continue
        if found.broken is None and found.ended and found.facts.width and found.facts.height:
            yield _Preview(start, start + found.stop, found.facts.width, found.facts.height)
            at = start + found.stop


register(Mender("preview", frozenset((
    "jpeg", "tiff", "dng", "cr3", "heif", "heic", "avif", "psd", "raw")), mend,
                resort=True))
