"""TIFF pictures and the raw families that are built on it (TIFF 6.0, TIFF/EP, DNG 1.7).

Either byte order, BigTIFF too. The end is the furthest byte that any directory refers to. Families
are told apart by the way their raw data is coded, or by their own byte-order mark.
"""

from __future__ import annotations

from needlewright.core.decoders import Decoder
from needlewright.core.errors import FormatError
from needlewright.core.formats.base import Format, Signature
from needlewright.core.formats.embedded import previews_check
from needlewright.core.formats.exif import read_exif
from needlewright.core.formats.registry import register
from needlewright.core.formats.tiff_strips import silent, strips_check
from needlewright.core.sources.source import Source
from needlewright.core.structures.tiff import (
    ORDERS,
    Directory,
    Tiff,
    open_tiff,
    padded_end,
    previews,
    read_all,
)
from needlewright.core.structures.view import (
    Parts,
    View,
    dimensions,
    end_mark,
    finish,
    structure,
)
from needlewright.core.walks import Check, Facts, Kind, Outcome, Variant, Walk

WIDTH, HEIGHT, BITS, COMPRESSION, PHOTOMETRIC = 0x100, 0x101, 0x102, 0x103, 0x106
DNG_VERSION = 0xC612
CFA, LINEAR_RAW = 32803, 34892  # photometric interpretations (TIFF/EP, DNG)
TIFF = Variant("tiff", "tif", Kind.PHOTO, "TIFF")
DNG = Variant("dng", "dng", Kind.PHOTO, Decoder.RAW)
CR2 = Variant("cr2", "cr2", Kind.PHOTO, Decoder.RAW)
ORF = Variant("orf", "orf", Kind.PHOTO, Decoder.RAW)
RW2 = Variant("rw2", "rw2", Kind.PHOTO, Decoder.RAW)
BY_CODING = {  # private ways of coding, each used by one family
    34713: Variant("nef", "nef", Kind.PHOTO, Decoder.RAW),
    32767: Variant("arw", "arw", Kind.PHOTO, Decoder.RAW),
    65535: Variant("pef", "pef", Kind.PHOTO, Decoder.RAW),
    32769: Variant("srw", "srw", Kind.PHOTO, Decoder.RAW),
    32770: Variant("srw", "srw", Kind.PHOTO, Decoder.RAW),
    32772: Variant("srw", "srw", Kind.PHOTO, Decoder.RAW),
    65000: Variant("dcr", "dcr", Kind.PHOTO, Decoder.RAW),
}
EXIF_BYTES = 1 << 18  # how much of the file's head is looked at for its facts


def _variant(tiff: Tiff) -> Variant:
    mark = tiff.view.take(tiff.origin, 4)
    if mark in (b"IIRO", b"IIRS", b"MMOR"):
        return ORF
    if mark == b"IIU\0":
        return RW2
    if tiff.view.peek(tiff.origin + 8, 4) == b"CR\x02\0":
        return CR2
    raw = False
    for directory in tiff.directories:
        if DNG_VERSION in directory.entries:
            return DNG
        coding = tiff.value(directory, COMPRESSION)
        if coding in BY_CODING:
            return BY_CODING[coding]
        raw = raw or tiff.value(directory, PHOTOMETRIC) in (CFA, LINEAR_RAW)
    return Variant("tiff", "tif", Kind.PHOTO, Decoder.RAW) if raw else TIFF


def _pictures(tiff: Tiff) -> list[Directory]:
    return [d for d in tiff.directories if WIDTH in d.entries and HEIGHT in d.entries]


def _size(tiff: Tiff, variant: Variant) -> tuple[int | None, int | None]:
    """Of the first picture; of the largest in raw files, whose first is a preview."""
    sizes = [(tiff.value(d, WIDTH) or 0, tiff.value(d, HEIGHT) or 0) for d in _pictures(tiff)]
    if not sizes:
        return None, None
    return sizes[0] if variant is TIFF else max(sizes, key=lambda s: s[0] * s[1])


def _directories_in_front(tiff: Tiff) -> int:
    """The byte behind the directories that stand in front of all picture data: what leads to them
    is the file's own. Between pictures and a directory behind them other files may lie."""
    first = min(begin for begin, _ in tiff.spans)
    entry = 20 if tiff.large else 12
    return max((d.at + entry * len(d.entries) for d in tiff.directories if d.at < first),
               default=tiff.origin + 8)


def _first_missing(tiff: Tiff) -> FormatError | None:
    short = [start for start, stop in tiff.spans if stop > tiff.view.stop]
    return FormatError("data-ends", offset=tiff.view.stop) if short else None


def _too_thin(tiff: Tiff) -> FormatError | None:
    """Picture data that cannot be all, where it is not compressed."""
    for directory in _pictures(tiff):
        if tiff.value(directory, COMPRESSION) not in (None, 1):
            continue
        bits = sum(tiff.values(directory, BITS)) or 1
        need = (tiff.value(directory, WIDTH) or 0) * bits // 8 * (
            tiff.value(directory, HEIGHT) or 0)
        have = sum(tiff.values(directory, 0x117) or tiff.values(directory, 0x145))
        if have and have < need:
            return FormatError("too-little-picture-data", offset=directory.at)
    return None


def _coded_checks(tiff: Tiff) -> list[Check]:
    """What the coded data of the pictures shows: the worst of them all, or the first."""
    made = [c for d in _pictures(tiff) if (c := strips_check(tiff, d)) is not None]
    made.sort(key=lambda c: (c.outcome is Outcome.PASS, c.outcome is Outcome.DOUBT, not c.content))
    return made[:1]


def walk(source: Source, start: int, stop: int) -> Walk:
    """Follow the picture at `start`, never past `stop`; FormatError if none begins there."""
    view, parts = View(source, start, stop), Parts()
    tiff = open_tiff(view, start)
    problem: FormatError | None = None
    try:
        read_all(tiff)
    except FormatError as error:
        problem = error
    if not _pictures(tiff) or not tiff.spans:
        raise problem or FormatError("no-picture", offset=start)
    problem = problem or _first_missing(tiff) or _too_thin(tiff)
    variant = _variant(tiff)
    width, height = _size(tiff, variant)
    end = min(padded_end(tiff), view.stop)
    for at, until in sorted(tiff.spans):
        parts.add("picture data", at, min(until, view.stop))
    checks = [structure(problem, start, len(tiff.directories)),
              end_mark(problem is None, counted=True), dimensions(width, height)]
    if problem is None:
        checks += _coded_checks(tiff)
    if problem is None and variant.decoder == Decoder.RAW:
        checks.append(previews_check(view, previews(tiff)))
    exif = read_exif(view.peek(start, EXIF_BYTES))
    largest = max(previews(tiff), key=lambda s: s[1] - s[0], default=None)
    there = sum(max(0, min(b, end) - a) for a, b in tiff.spans)
    total = sum(b - a for a, b in tiff.spans)
    if problem is None:
        checks.insert(1, Check("index", Outcome.PASS, "items-inside", {"items": len(tiff.spans)}))
    # The decoder of raw files shows their preview, so it is no witness for plain TIFF.
    return finish(
        start, end, problem,
        Facts(width, height, exif.taken, exif.camera, exif.orientation, None, dict(exif.extra)),
        parts, checks, share=there / max(1, total), variant=variant,
        preview=largest if variant.decoder == Decoder.RAW else None,
        verified=_directories_in_front(tiff) if problem else None,
        opaque=sorted(set(tiff.spans) - set(previews(tiff))),
        unproven="coding-silent" if problem is None and any(
            silent(tiff, d) for d in _pictures(tiff)) else "")


register(Format(
    name="tiff", kind=Kind.PHOTO, extension="tif",
    signatures=tuple(Signature(mark) for mark in ORDERS),
    accept=lambda head: head[:4] in ORDERS and len(head) >= 16, walk=walk, decoder="TIFF",
    variants=(TIFF, DNG, CR2, ORF, RW2, *dict.fromkeys(BY_CODING.values())),
    aliases={"tiff": "tif"}, joined="around", object_formats={"tif": 0x380D},
))
