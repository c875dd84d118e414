"""HEIC, HEIF and AVIF pictures (ISO/IEC 23008-12; AVIF 1.1) in ISO base media files.

Big-endian. `meta` says where each item lies (`iloc`, 14496-12 8.11.3); image sequences have a movie
as well. A clip that a phone appends (`mpvd`) is part of the file.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from needlewright.core.decoders import Decoder
from needlewright.core.errors import FormatError
from needlewright.core.formats.base import Format, Signature
from needlewright.core.formats.exif import Exif, read_exif
from needlewright.core.formats.registry import register
from needlewright.core.sources.source import Source
from needlewright.core.structures.bmff import Box, brands, child, children, top_level
from needlewright.core.structures.heif_items import (
    MAX_ITEMS,
    item_kinds,
    item_spans,
    primary_item,
    properties,
    stated_size,
)
from needlewright.core.structures.sector_checks import payload_check
from needlewright.core.structures.view import (
    Parts,
    View,
    dimensions,
    end_mark,
    finish,
    structure,
)
from needlewright.core.walks import Check, Facts, Kind, Outcome, Variant, Walk

HEIC = Variant("heic", "heic", Kind.PHOTO, Decoder.HEIF)
HEIF = Variant("heif", "heif", Kind.PHOTO, Decoder.HEIF)
AVIF = Variant("avif", "avif", Kind.PHOTO, "AVIF")
BRANDS = (b"heic", b"heix", b"heim", b"heis", b"hevc", b"hevx", b"mif1", b"mif2", b"msf1",
          b"avif", b"avis", b"miaf")
MIN_PAYLOAD = 1024
CODED = (b"hvc1", b"hev1", b"lhv1", b"av01")  # items of coded pictures; others may be text
MAX_EXIF = 1 << 20
BELONGING = frozenset((b"mdat", b"free", b"skip", b"uuid", b"moov", b"mpvd", b"idat", b"etyp",
                        b"sefd"))


@dataclass(slots=True)
class _State:
    view: View
    stop: int
    ftyp: Box
    meta: Box | None = None
    data: list[Box] = field(default_factory=list)
    items: dict[int, list[tuple[int, int]]] = field(default_factory=dict)  # absolute spans
    parts: Parts = field(default_factory=Parts)


def _gather(state: _State) -> None:
    view = state.view
    for box in top_level(view, state.ftyp.stop):
        if box.name == b"meta":
            if state.meta is not None:
                break
            if box.stop > view.stop:
                raise FormatError("data-ends", offset=view.stop)
            state.meta = box
            state.items = item_spans(view, box)
        elif box.name not in BELONGING:
            break
        elif box.name == b"mdat":
            if box.open_ended:
                ends = [stop for spans in state.items.values() for _, stop in spans]
                stop = max(ends, default=0)
                if not box.body < stop <= view.stop:
                    raise FormatError("picture-data-length-unstated",
                                      offset=box.body)
                box = Box(box.name, box.start, box.body, stop)
            state.data.append(box)
        state.stop = min(box.stop, view.stop)
        state.parts.add(box.name.decode("latin-1").strip(), box.start, state.stop)
        if box.stop > view.stop:
            raise FormatError("data-ends", offset=view.stop)
    if state.meta is None:
        raise FormatError("picture-index-missing", offset=state.stop)
    for number, spans in state.items.items():
        for start, stop in spans:
            if not any(box.body <= start and stop <= box.stop for box in (*state.data, state.meta)):
                raise FormatError("item-outside", offset=state.stop, number=number)


def _payload(state: _State) -> list[tuple[int, int]]:
    """The stretches of coded data that items name, each byte once."""
    kinds = item_kinds(state.view, state.meta) if state.meta is not None else {}
    inside = sorted(s for number, spans in state.items.items() if kinds.get(number) in CODED
                    for s in spans if s[1] - s[0] > MIN_PAYLOAD)
    found: list[tuple[int, int]] = []
    for start, stop in inside:
        start = max(start, found[-1][1]) if found else start
        if stop > start:
            found.append((start, stop))
    return found


def _size(view: View, meta: Box) -> tuple[int | None, int | None]:
    """The size of the primary picture as it is shown: stated (`ispe`), cropped (`clap`, 14496-12
    12.1.4.1) and turned (`irot`, 23008-12 6.5.10). Without associations the largest stated one."""
    box = child(view, meta.body + 4, meta.stop, b"iprp", b"ipco")
    if box is None:
        return None, None
    chosen = properties(view, meta).get(primary_item(view, meta) or 0, [])
    size = next((stated_size(view, p) for p in chosen if p.name == b"ispe"), None)
    if size is None:
        every = list(children(view, box.body, box.stop))[:MAX_ITEMS]
        sizes = [stated_size(view, p) for p in every if p.name == b"ispe"]
        return max(sizes, key=lambda s: s[0] * s[1], default=(None, None))
    for entry in chosen:
        if entry.name == b"clap" and entry.stop - entry.body >= 16:
            wide, below, high, under = (view.big(entry.body + 4 * n, 4) for n in range(4))
            if below and under and wide >= below and high >= under:
                size = (min(size[0], wide // below), min(size[1], high // under))
        elif entry.name == b"irot" and view.take(entry.body, 1)[0] & 1:
            size = size[::-1]
    return size


def _exif(state: _State, kinds: dict[int, bytes]) -> Exif:
    for number, kind in kinds.items():
        if kind == b"Exif" and number in state.items:
            start, stop = state.items[number][0]
            if 8 < stop - start <= MAX_EXIF:
                block = state.view.peek(start, stop - start)
                skip = 4 + int.from_bytes(block[:4], "big")  # 23008-12, A.2.1
                return read_exif(block[skip:].removeprefix(b"Exif\0\0"))
    return Exif()


def walk(source: Source, start: int, stop: int) -> Walk:
    """Follow the picture at `start`, never past `stop`; FormatError if none begins there."""
    view = View(source, start, stop)
    ftyp = next(iter(top_level(view, start)), None)
    if ftyp is None or ftyp.name != b"ftyp" or ftyp.size > 512:
        raise FormatError("no-file-type", offset=start)
    state = _State(view, ftyp.stop, ftyp)
    state.parts.add("file type", start, ftyp.stop)
    problem: FormatError | None = None
    try:
        _gather(state)
    except FormatError as error:
        problem = error
    if state.meta is None:
        raise problem or FormatError("no-picture", offset=start)
    width, height, exif, items = None, None, Exif(), len(state.items)
    try:
        kinds = item_kinds(view, state.meta)
        width, height = _size(view, state.meta)
        exif = _exif(state, kinds)
    except FormatError as error:
        problem = problem or error
    known = brands(view, ftyp)
    variant = AVIF if {b"avif", b"avis"} & set(known) else (
        HEIC if {b"heic", b"heix", b"hevc", b"hevx"} & set(known) else HEIF)
    index = Check("index", Outcome.PASS, "items-inside", {"items": items}) if (
        problem is None) else Check("index", Outcome.FAIL, "items-outside", {"items": items})
    if problem is None:
        spans = _payload(state)
        index_checks = [index, payload_check(view, spans)]
    else:
        index_checks = [index]
    end = state.stop
    wanted = max((s for spans in state.items.values() for _, s in spans), default=end)
    share = 1.0 if problem is None else (
        (end - start) / (wanted - start) if wanted > end else 0.99)
    # Turning is done by the file's own properties, so EXIF's orientation must not turn it again.
    facts = Facts(width, height, exif.taken, exif.camera, 1, None, dict(exif.extra))
    return finish(
        start, end, problem, facts, state.parts,
        (structure(problem, start, len(state.parts)), *index_checks,
         end_mark(problem is None, counted=True), dimensions(width, height)),
        share=share, variant=variant, verified=state.meta.stop if problem else None,
        opaque=[(b.body, b.stop) for b in state.data], unproven="coding-silent")


def accept(head: bytes) -> bool:
    """A `ftyp` box of a picture."""
    size = int.from_bytes(head[:4], "big")
    return 16 <= size <= 512 and size % 4 == 0 and (
        head[4:8] == b"ftyp" and head[8:12] in BRANDS)


register(Format(
    name="heif", kind=Kind.PHOTO, extension="heif",
    signatures=tuple(Signature(b"ftyp" + brand, 4) for brand in BRANDS),
    accept=accept, walk=walk, decoder=Decoder.HEIF, variants=(HEIC, HEIF, AVIF),
    aliases={"heics": "heic", "hif": "heic"}, brands=BRANDS,
))
