"""HEIC and AVIF: the file type box made anew, the index lent by another picture of the same camera,
tiles that do not decode left out (ISO/IEC 23008-12; ISO/IEC 14496-12, 4.3; AV1 Image File Format).

Where only the file type is lost it becomes exactly as long as it was, so that every place that the
index tells stays right. Without an index, the coded pictures are found in the data, where they say
that they begin; in which order several make up the picture is what another file says. One of AV1
says all of itself that an index must.
"""

from __future__ import annotations

import contextlib
import itertools
import struct
from collections.abc import Iterator
from dataclasses import replace

from needlewright.core.checks.asking import ask
from needlewright.core.checks.decoding import DecodeRequest, DecoderPool
from needlewright.core.decoders import Decoder, Task
from needlewright.core.errors import FormatError, SourceError
from needlewright.core.formats.exif import read_exif
from needlewright.core.mending.base import (
    Change,
    Mended,
    Mender,
    Patient,
    Reference,
    Unmendable,
)
from needlewright.core.mending.heif import av1, finding, making
from needlewright.core.mending.heif.items import CODINGS, Grid, Model, model_of
from needlewright.core.mending.heif.neutral import neutral
from needlewright.core.mending.heif.writing import front
from needlewright.core.mending.registry import register
from needlewright.core.mending.streams.pieces import writing
from needlewright.core.sources.memory import MemorySource
from needlewright.core.sources.source import Source

LOOK_BYTES = 1 << 17
LEAST = 16  # bytes of a file type box
MOST = 4096  # bytes in front of an index that may be made anew
MOST_BYTES = 1 << 28
MOST_CODED = 1024  # pictures that are decoded one by one
CODED = ((b"hvcC", b"heic", "heic"), (b"av1C", b"avif", "avif"))


def mend(patient: Patient) -> Iterator[Mended]:
    source = patient.source
    patient.breathe(0.0)
    head = source.read_at(0, min(LOOK_BYTES, source.size))
    at = _index_at(head, source.size)
    if at is None:
        yield from _with_lent_index(patient)
        return
    made, extension = _file_type(head, at)
    if made is not None:
        yield Mended(writing(source, [made, (at, source.size)]), extension,
                     (Change("header-made"),))
        return
    yield _without_damaged(patient)


def _index_at(head: bytes, size: int) -> int | None:
    """Where the index stands, if it does behind a file type box."""
    at = head.find(b"meta") - 4
    if not LEAST <= at <= MOST or at % 4:
        return None
    length = int.from_bytes(head[at : at + 4], "big")
    return at if 16 <= length <= size - at and b"iloc" in head[at : at + length] else None


def _file_type(head: bytes, at: int) -> tuple[bytes | None, str]:
    """(a file type box in front of the index, None where there is one; extension)."""
    size = int.from_bytes(head[at : at + 4], "big")
    coded = next((c for c in CODED if c[0] in head[at : at + size]), None)
    if coded is None:
        raise Unmendable("coding-unknown")
    _, brand, extension = coded
    brands = [b"mif1", brand, b"miaf"]
    room = (at - LEAST) // 4
    listed = b"".join((brands * (room // len(brands) + 1))[:room])
    made = struct.pack(">I4s4sI", at, b"ftyp", brand, 0) + listed
    there = head[:8] == made[:8] and head[8:12] in (brand, b"mif1")
    return (None if there else made), extension


# -- the index of another picture


def _with_lent_index(patient: Patient) -> Iterator[Mended]:
    if patient.source.size > MOST_BYTES:
        raise Unmendable("too-large")
    data = patient.source.read_at(0, patient.source.size)
    others, coded = finding.pictures(data, 4), av1.pictures(data)
    if sum(b - a for a, b in others) >= sum(c.stop - c.start for c in coded):
        coded = []
    alone = [c for c in coded if not c.sequence.grey] or coded
    if len(alone) == 1 and len(coded) <= 2:
        yield _described_by_itself(patient, data, alone[0], coded)
        return
    tried, usable = 0, 0
    for reference in patient.references:
        patient.breathe(0.2)
        with contextlib.suppress(FormatError, SourceError, Unmendable):
            tried += 1
            model = model_of(reference.source)
            found = _found(data, model)
            usable += 1
            yield _lent(patient, data, model, found, reference)
    if not coded and not others:
        raise Unmendable("index-lost")
    raise Unmendable("index-picture-missing" if not tried else
                     "index-picture-other" if usable else "reference-damaged")


def _found(data: bytes, model: Model) -> list[tuple[int, int]]:
    """(start, stop) of the pictures in `data`, coded as those of `model`."""
    width = model.width_of_lengths()
    return finding.pictures(data, width) if width else [
        (c.start, c.stop) for c in av1.pictures(data)]


def _described_by_itself(patient: Patient, data: bytes, picture: av1.Coded,
                         coded: list[av1.Coded]) -> Mended:
    """The one picture that is there, and what says how far it is transparent."""
    veil = next((c for c in coded if c is not picture and (c.sequence.width, c.sequence.height)
                 == (picture.sequence.width, picture.sequence.height)), None)
    about = finding.exif(data, [(c.start, c.stop) for c in coded])
    spans = [(c.start, c.stop) for c in (picture, veil) if c] + ([about] if about else [])
    low, high = min(a for a, _ in spans), max(b for _, b in spans)
    made = making.front(picture, veil, about, _orientation(data, about), low, high - low)
    return Mended(writing(patient.source, [made, (low, high)]), "avif",
                  (Change("index-by-data"),))


def _orientation(data: bytes, about: tuple[int, int] | None) -> int:
    """What a block of Exif data says; 0 for nothing."""
    if about is None:
        return 0
    block = data[about[0] : about[1]]
    at = 4 + int.from_bytes(block[:4], "big")
    return read_exif(block[at:].removeprefix(b"Exif\0\0")).orientation


def _lent(patient: Patient, data: bytes, model: Model, found: list[tuple[int, int]],
          reference: Reference) -> Mended:
    """Raises Unmendable where the data holds other items than `model` says."""
    grid = model.grid()
    wanted = [n for n in model.in_line() if model.kinds[n] in CODINGS]
    lost = len(wanted) - len(found)
    tiles = set(grid.tiles) if grid is not None else set()
    if not found or lost < 0 or not set(wanted[:lost]) <= tiles or lost >= max(1, len(tiles)):
        raise Unmendable("index-picture-other")
    places = dict(zip(wanted[lost:], found))
    changes = [Change("index-of-picture", {"reference": reference.name})]
    about = finding.exif(data, found)
    if about is not None:
        number = next((n for n in model.in_line() if model.kinds[n] == b"Exif"), None)
        if number is not None:
            places[number] = about
    orientation = _orientation(data, about)
    doubts = ("tiles-by-order",) if lost else ()
    return _laid_out(patient, model, grid, places, changes, orientation, doubts, reference)


def _laid_out(patient: Patient, model: Model, grid: Grid | None,
              places: dict[int, tuple[int, int]], changes: list[Change], orientation: int | None,
              doubts: tuple[str, ...] = (), reference: Reference | None = None) -> Mended:
    """The file with items at `places` of the patient's bytes."""
    source = patient.source
    low, high = min(a for a, _ in places.values()), max(b for _, b in places.values())
    missing = [] if grid is None else [t for t in grid.tiles if t not in places]
    share = 1.0 if grid is None else 1 - grid.share(missing)
    if missing and grid is not None:
        changes.append(Change("blocks-missing", {
            "areas": [grid.area(t) for t in missing], "share": round(1 - share, 4)}))
    shifted = {n: (a - low, b - low) for n, (a, b) in places.items()}
    grey, behind = {}, b""
    if missing and grid is not None:
        one = neutral(grid.tile, model.configuration(grid.tiles[0]), model.is_av1)
        grey, behind = dict.fromkeys(missing, one), one.data
        shifted.update(dict.fromkeys(missing, (high - low, high - low + len(one.data))))
    made = front(model, shifted, high - low + len(behind), orientation, grey)
    return Mended(writing(source, [made, (low, high), behind]),
                  "avif" if model.is_av1 else "heic", tuple(changes), round(share, 4), doubts,
                  reference)


# -- the own index


def _without_damaged(patient: Patient) -> Mended:
    """The picture without the tiles that do not decode, where its own index says which they are."""
    model = model_of(patient.source)
    grid = model.grid()
    if grid is None:
        raise Unmendable("nothing-found")
    line = model.in_line()
    places = {n: model.spans[n][0] for n in line
              if model.spans[n][0][1] <= patient.source.size}
    coded = [n for n in line if model.kinds[n] in CODINGS]
    if len(coded) > MOST_CODED:
        raise Unmendable("too-large")
    damaged = _undecodable(patient, model, coded, places)
    lost = [n for n in coded if n in damaged or n not in places]
    moved = _elsewhere(patient.source, model, lost)
    for item in lost:
        places.pop(item, None)
    places.update(moved)
    if not lost:
        raise Unmendable("nothing-found")
    if not any(t in places for t in grid.tiles):
        raise Unmendable("nothing-decodes")
    changes = [Change("tiles-put-back", {"parts": len(moved)})] if moved else []
    struck = [n for n in _struck(patient.source, model, coded, places) if n in grid.tiles]
    made = _laid_out(patient, model, grid, places, changes, None)
    lost_too = grid.share(struck)
    before = grid.share([n for n in grid.tiles if n in places and n not in moved]) - lost_too
    if not struck:
        return replace(made, share_before=round(before, 4))
    return replace(
        made, share=round(made.share - lost_too, 4), share_before=round(before, 4),
        doubts=(*made.doubts, "tiles-struck"), changes=(*made.changes, Change("blocks-doubted", {
            "areas": [grid.area(n) for n in struck], "share": round(lost_too, 4)})))


def _struck(source: Source, model: Model, coded: list[int],
            places: dict[int, tuple[int, int]]) -> list[int]:
    """Items that decode, though bytes were added to them or lost from them: what follows stands
    elsewhere than behind them. HEVC decodes much that is foreign."""
    found, shift = [], 0
    for item, following in itertools.pairwise(coded):
        stated = model.spans[following][0]
        if following in places:
            now = places[following][0] - stated[0]
            moved, shift = now != shift, now
        else:
            moved = not finding.may_begin(source.read_at(stated[0], LEAST), stated[1] - stated[0],
                                          model.width_of_lengths())
        if moved and item in places:
            found.append(item)
    return found


def _elsewhere(source: Source, model: Model, lost: list[int]) -> dict[int, tuple[int, int]]:
    """Where items lie now that do not stand where the index says, as bytes were added or lost in
    front of them: pictures of just their length, in their order."""
    if source.size > MOST_BYTES:
        return {}
    stated = {span for spans in model.spans.values() for span in spans}
    found = [s for s in _found(source.read_at(0, source.size), model) if s not in stated]
    places: dict[int, tuple[int, int]] = {}
    at = 0
    for item in lost:
        start, stop = model.spans[item][0]
        for index in range(at, len(found)):
            if found[index][1] - found[index][0] == stop - start:
                places[item], at = found[index], index + 1
                break
    return places


def _undecodable(patient: Patient, model: Model, coded: list[int],
                 places: dict[int, tuple[int, int]]) -> list[int]:
    """Those of the items `coded`, as they lie in the file, that a strict decoder refuses."""
    found = []
    with contextlib.closing(DecoderPool[int](1)) as pool:
        for number, item in enumerate(coded):
            patient.breathe(0.1 + 0.7 * number / len(coded))
            if item not in places:
                continue
            asked = _alone(patient.source, places[item]) if model.is_av1 else DecodeRequest(
                patient.source, ((0, patient.source.size),), Decoder.HEIF, 0, task=Task.STRETCH,
                seconds=number, until=number)
            if asked is None or not ask(pool, number, asked, patient.stop)[1].ok:
                found.append(item)
    return found


def _alone(source: Source, span: tuple[int, int]) -> DecodeRequest | None:
    """To decode one coded picture as a file of its own; None where it is none."""
    data = source.read_at(span[0], span[1] - span[0])
    one = next(iter(av1.pictures(data)), None)
    if one is None or one.start or one.stop != len(data):
        return None
    file = making.front(one, None, None, 0, 0, len(data)) + data
    pixels = one.sequence.width * one.sequence.height
    return DecodeRequest(MemorySource(file), ((0, len(file)),), "AVIF", pixels)


register(Mender("heif", frozenset(("heif", "heic", "avif")), mend))
