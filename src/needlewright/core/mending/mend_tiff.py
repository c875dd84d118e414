"""TIFF and the raw families built on it: a header that is lost points to the first directory again;
strips and tiles that are lost become neutral, those that decode stay (TIFF 6.0).
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

from needlewright.core.errors import FormatError
from needlewright.core.formats import tiff_strips
from needlewright.core.mending import plain_rows
from needlewright.core.mending.base import Change, Mended, Mender, Patient, Unmendable
from needlewright.core.mending.registry import register
from needlewright.core.mending.streams.pieces import Piece, writing
from needlewright.core.mending.tiff import lending, moving, strips
from needlewright.core.mending.tiff.finding import Place, directories
from needlewright.core.sources.memory import MemorySource
from needlewright.core.sources.source import Source
from needlewright.core.structures.tiff import ORDERS, Directory, Tiff, open_tiff, read_all
from needlewright.core.structures.view import View

HEAD = 8
MAX_STRIP = 1 << 26
MOST_MADE = 1 << 27  # bytes of neutral strips
MAX_BYTES = (1 << 32) - (1 << 24)  # offsets have 32 bits
PREDICTOR, PHOTOMETRIC, PALETTE = 0x13D, 0x106, 3
WITHIN = (0x111, 0x117), (0x144, 0x145)
MOST_TOLD = 40
RAW = frozenset(("tiff", "dng", "cr2", "orf", "rw2", "nef", "arw", "pef", "srw", "dcr"))


@dataclass(slots=True)
class _Made:
    """What is written anew: `over` bytes at their places; `behind` the end. `lost`: rows."""

    over: list[tuple[int, bytes]] = field(default_factory=list)
    behind: bytearray = field(default_factory=bytearray)
    lost: list[tuple[int, int]] = field(default_factory=list)
    rows: int = 0
    width: int = 0
    share: float = 1.0


def mend(patient: Patient) -> Iterator[Mended]:
    source = patient.source
    if not HEAD < source.size <= MAX_BYTES:
        raise Unmendable("too-large" if source.size > MAX_BYTES else "nothing-decodes")
    changes: list[Change] = []
    made = _Made()
    tiff = _read(source)
    moved, reference = False, None
    if tiff is None:
        found = directories(source)
        if source.size > MAX_STRIP * 4:
            raise Unmendable("too-large" if found else "index-lost")
        data = source.read_at(0, source.size)
        put = moving.put_back(data, found, _read, _decodes) if found else None
        if not found:
            lent, reference = lending.lent(data, patient.references)
            source = MemorySource(lent)
            changes.append(Change("index-of-picture", {"reference": reference.name}))
        elif put is not None:
            source, moved = MemorySource(put[0]), True
            changes.append(Change("put-back", {"bytes": abs(put[2]), "at": put[1]}))
        else:
            head = _head_for(data[:4], found[0])
            source = MemorySource(head + data[HEAD:])
            changes.append(Change("header-made"))
        tiff = _read(source)
    if tiff is None:
        raise Unmendable("index-lost")
    for directory in tiff.directories:
        patient.breathe(0.5)
        _fill(tiff, directory, source.size, made)
    if made.lost:
        changes.append(Change("rows-missing", {
            "rows": sum(b - a for a, b in made.lost), "total": made.rows,
            "areas": [[a, 0, b, made.width] for a, b in made.lost[:MOST_TOLD]]}))
    if not changes:
        raise Unmendable("nothing-found")
    # What is not compressed shows only roughly where it was damaged.
    doubts = ("unproven",) if moved and not made.lost else ()
    yield Mended(writing(source, _pieces(source.size, made)), _extension(patient), tuple(changes),
                 round(made.share, 4), doubts, reference,
                 share_before=put[1] / source.size if moved and put is not None else None)


def _read(source: Source) -> Tiff | None:
    """The structure, as far as it can be read; None where not even a picture is."""
    try:
        tiff = open_tiff(View(source, 0, source.size), 0)
    except FormatError:
        return None
    with contextlib.suppress(FormatError):  # what was read is kept
        read_all(tiff)
    pictures = [d for d in tiff.directories if 0x100 in d.entries and 0x101 in d.entries]
    return tiff if pictures and not tiff.large else None


def _head_for(stated: bytes, best: Place) -> bytes:
    """The eight bytes that lead to the first directory; with the mark `stated` if that fits."""
    little = best.order == "<"
    fits = stated in ORDERS and ORDERS[stated] == ("little" if little else "big", False)
    mark = stated if fits else b"II*\0" if little else b"MM\0*"
    return mark + best.at.to_bytes(4, "little" if little else "big")


def _extension(patient: Patient) -> str:
    suffix = patient.name.lower().rpartition(".")[2]
    return suffix if suffix in RAW - {"tiff"} else "tif"


def _fill(tiff: Tiff, directory: Directory, size: int, made: _Made) -> None:
    """Replace what a picture lacks by neutral strips."""
    coding = tiff.value(directory, tiff_strips.CODING) or strips.PLAIN
    tags = next((pair for pair in WITHIN if pair[0] in directory.entries), None)
    if tags is None or coding not in strips.KNOWN:
        return
    try:
        starts, sizes = tiff.values(directory, tags[0]), tiff.values(directory, tags[1])
        row_bytes = tiff_strips.row_bytes(tiff, directory)
    except FormatError:
        return
    if not row_bytes or len(starts) != len(sizes):
        return
    bits = tiff.values(directory, tiff_strips.BITS) or [1]
    grey = bits[0] in (8, 16) and tiff.value(directory, PHOTOMETRIC) != PALETTE
    predicted = tiff.value(directory, PREDICTOR) == 2 and bits[0] == 8
    pixel = max(1, len(bits) * bits[0] // 8)
    height = tiff.value(directory, tiff_strips.HEIGHT) or 0
    width = tiff.value(directory, tiff_strips.WIDTH) or 0
    across = -(-width // (tiff.value(directory, tiff_strips.TILE_WIDTH) or width or 1))
    each = tiff_strips.rows_of(tiff, directory, 0)
    missing, lost = 0.0, []
    for index, (start, length) in enumerate(zip(starts, sizes)):
        rows = tiff_strips.rows_of(tiff, directory, index)
        need = rows * row_bytes
        if not 0 < need <= MAX_STRIP or _decodes(tiff, directory, index, (start, length), coding):
            continue
        there = 0
        data = b""
        if coding == strips.PLAIN and start < size:
            there = min(rows, (size - start) // row_bytes)
            data = tiff.view.peek(start, there * row_bytes)
        head = b""
        if coding in (strips.DEFLATE, strips.DEFLATE_OLD):
            head = strips.rows_before_damage(tiff.view.peek(start, length), start, row_bytes,
                                             rows)
            there = len(head) // row_bytes
        data += strips.coded(
            head + strips.neutral(rows - there, row_bytes, pixel, grey, predicted), coding)
        place = size + len(made.behind)
        made.behind += data + bytes(len(data) & 1)
        if len(made.behind) > MOST_MADE:
            raise Unmendable("too-large")
        _over(tiff, directory, tags, index, place, len(data), made)
        top = min(height, index // across * each)
        lost.append((top + there, min(height, top + rows)))
        missing += (rows - there) / across
    if lost and not made.lost:  # of several pictures the first is told of
        made.rows, made.width = height, width
        made.lost, made.share = plain_rows.merged(lost), max(0.0, 1 - missing / max(1, height))


def _decodes(tiff: Tiff, directory: Directory, index: int, span: tuple[int, int],
             coding: int) -> bool:
    """Whether a strip is there, and gives what it must where that can be told."""
    start, length = span
    if length == 0 or start + length > tiff.view.stop:
        return False
    if length > MAX_STRIP:
        return True
    if coding in (strips.DEFLATE, strips.DEFLATE_OLD):
        return not tiff_strips.deflate_problem(tiff, directory, index,
                                                tiff.view.take(start, length))
    if coding == strips.PACKBITS:
        return not tiff_strips.runs_problem(tiff, directory, index, tiff.view.take(start, length))
    return True


def _over(tiff: Tiff, directory: Directory, tags: tuple[int, int], index: int, place: int,
          length: int, made: _Made) -> None:
    """Note where a strip lies now, and how long it is."""
    for tag, value in zip(tags, (place, length)):
        kind, _, where = directory.entries[tag]
        wide = 2 if kind == 3 else 4
        if value >= 1 << (8 * wide):
            raise Unmendable("too-large")
        made.over.append((where + wide * index, value.to_bytes(
            wide, "little" if tiff.order == "little" else "big")))


def _pieces(size: int, made: _Made) -> Sequence[Piece]:
    """The file with what is written over it, and behind it."""
    pieces: list[Piece] = []
    at = 0
    for place, data in sorted(made.over):
        pieces += [(at, place), data]
        at = place + len(data)
    pieces += [(at, size), bytes(made.behind)]
    return pieces


register(Mender("tiff", RAW, mend))
