"""JPEG XL pictures: bare codestreams (ISO/IEC 18181-1) and files of boxes (18181-2)."""

from __future__ import annotations

from dataclasses import replace

from needlewright.core.decoders import Decoder
from needlewright.core.errors import FormatError
from needlewright.core.formats.base import Format, Signature
from needlewright.core.formats.exif import Exif, read_exif
from needlewright.core.formats.registry import register
from needlewright.core.sources.source import Source
from needlewright.core.structures.bmff import top_level
from needlewright.core.structures.jxl_codestream import Image, codestream_end, read_image
from needlewright.core.structures.sector_checks import payload_check
from needlewright.core.structures.view import (
    Parts,
    View,
    dimensions,
    end_mark,
    finish,
    structure,
)
from needlewright.core.walks import Facts, Kind, Walk

OPENING = b"\0\0\0\x0cJXL \r\n\x87\n"
BOXES = frozenset((b"JXL ", b"ftyp", b"jxlc", b"jxlp", b"jxll", b"jxli", b"jbrd", b"Exif", b"xml ",
                   b"brob", b"uuid", b"jumb", b"free", b"skip"))
CODED = (b"jxlc", b"jxlp")
LAST_PART = 1 << 31
MAX_EXIF = 1 << 20
MAX_SIDE = 65_535  # pixels, of what is believed on two bytes


class _Jxl:
    """One walk of a file of boxes or a bare codestream."""

    def __init__(self, view: View) -> None:
        self.view, self.parts, self.at = view, Parts(), view.start
        self.image: Image | None = None
        self.exif = Exif()
        self.complete = False
        self.dense: list[tuple[int, int]] = []  # coded data, in which nothing is blank
        self.sure = view.start + 2  # the boxes in front of this lead to another

    def bare(self) -> None:
        self.image, first = read_image(self.view, self.at)
        if not _plausible(self.image, 0):
            raise FormatError("no-such-picture", offset=self.at)
        self.parts.add("header", self.at, first)
        end, _ = codestream_end(self.view, self.image, first)
        self.parts.add("frames", first, end)
        self.dense.append((first, end))
        self.at, self.complete = end, True

    def boxes(self) -> None:
        view = self.view
        for box in top_level(view, self.at):
            if box.name not in BOXES or (box.name == b"JXL " and box.start != view.start):
                break
            self.sure = max(self.sure, box.start)
            if box.name in CODED:
                self._coded(box.name, box.body)
            stop = box.stop
            if box.open_ended:
                if box.name != b"jxlc" or self.image is None:
                    raise FormatError("picture-length-unstated", offset=box.start)
                _, first = read_image(view, box.body)
                stop, _ = codestream_end(view, self.image, first)
            if stop > view.stop:
                self.at = view.stop
                raise FormatError("data-ends", offset=view.stop)
            if box.name == b"Exif" and 12 < stop - box.body <= MAX_EXIF:
                self.exif = read_exif(view.take(box.body + 4, stop - box.body - 4))
            self.complete = self.complete or box.name == b"jxlc" or (
                box.name == b"jxlp" and view.big(box.body, 4) >= LAST_PART)
            if box.name in CODED:
                self.dense.append((box.body, stop))
            self.parts.add(box.name.decode("ascii").strip(), box.start, stop)
            self.at = stop
        if not self.complete:
            raise FormatError("no-end-picture", offset=self.at)

    def _coded(self, name: bytes, body: int) -> None:
        skip = 4 if name == b"jxlp" else 0
        if self.image is None and (skip == 0 or self.view.big(body, 4) & ~LAST_PART == 0):
            try:
                self.image, _ = read_image(self.view, body + skip)
            except FormatError:
                # What is not followed here may still be in order; a broken header shows later.
                self.image = None


def walk(source: Source, start: int, stop: int) -> Walk:
    """Follow the picture at `start`, never past `stop`; FormatError if none begins there."""
    jxl = _Jxl(View(source, start, stop))
    problem: FormatError | None = None
    try:
        if jxl.view.peek(start, 2) == b"\xff\x0a":
            jxl.bare()
        else:
            jxl.boxes()
    except FormatError as error:
        problem = error
    bare = jxl.view.peek(start, 2) == b"\xff\x0a"
    if problem is not None and (jxl.image is None or bare):
        raise problem  # two bytes that stand anywhere: without an end, nothing speaks for a file
    if bare and not _plausible(jxl.image, jxl.at - start):
        raise FormatError("no-such-picture", offset=start)
    end = jxl.at if problem is None else min(jxl.view.stop, max(jxl.at, problem.offset))
    width, height = (jxl.image.width, jxl.image.height) if jxl.image else (None, None)
    facts = Facts(width, height, jxl.exif.taken, jxl.exif.camera, 1, None, dict(jxl.exif.extra))
    checks = [structure(problem, start, len(jxl.parts)), end_mark(problem is None, counted=True)]
    if jxl.image is not None:
        checks.append(dimensions(width, height))
    if problem is None:
        checks.append(payload_check(jxl.view, jxl.dense))
    found = finish(start, end, problem, facts, jxl.parts, checks, share=0.5 if problem else 1.0,
                   guessed=problem is not None, verified=jxl.sure if problem or bare else None,
                   opaque=[(start + 1, end)])
    return replace(found, tentative=bare)


def _plausible(image: Image | None, size: int) -> bool:
    """Whether a bare codestream is of a size that its picture may have."""
    if image is None or not 8 <= min(image.width, image.height) <= max(
            image.width, image.height) <= MAX_SIDE:
        return False
    return size <= 1 << 16 or size <= image.width * image.height * 8


register(Format(
    name="jxl", kind=Kind.PHOTO, extension="jxl",
    signatures=(Signature(OPENING), Signature(b"\xff\x0a", weak=True)),
    accept=lambda head: head[:12] == OPENING or head[:2] == b"\xff\x0a", walk=walk,
    decoder=Decoder.JXL,
    brands=(b"jxl ",), joined="around",
))
