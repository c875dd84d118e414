"""The items of an HEIF file: where they lie, what they are, what is said of them, how they refer to
each other (ISO/IEC 14496-12, 8.11; ISO/IEC 23008-12). Big-endian; addresses are absolute.
"""

from __future__ import annotations

from dataclasses import dataclass

from needlewright.core.errors import FormatError
from needlewright.core.structures.bmff import Box, child, children
from needlewright.core.structures.view import View

MAX_ITEMS = 10_000
MAX_ITEM_BYTES = 1 << 29
Spans = list[tuple[int, int]]


@dataclass(frozen=True, slots=True)
class Reference:
    """Item `item` refers to `others`; `kind`: `thmb` (is a thumbnail of), `dimg` (is made of),
    `auxl` (goes with)."""

    kind: bytes
    item: int
    others: tuple[int, ...]


def item_spans(view: View, meta: Box) -> dict[int, Spans]:
    """The spans of all items (14496-12, 8.11.3); FormatError where the table makes no sense."""
    iloc = child(view, meta.body + 4, meta.stop, b"iloc")
    idat = child(view, meta.body + 4, meta.stop, b"idat")
    if iloc is None:
        raise FormatError("no-table-items", offset=meta.start)
    found: dict[int, Spans] = {}
    version = view.take(iloc.body, 1)[0]
    widths = view.big(iloc.body + 4, 2)
    offset_w, length_w, base_w = widths >> 12, widths >> 8 & 15, widths >> 4 & 15
    index_w = widths & 15 if version in (1, 2) else 0
    wide = 4 if version == 2 else 2
    at = iloc.body + 6
    count, at = view.big(at, wide), at + wide
    if count > MAX_ITEMS or version > 2 or not {offset_w, length_w, base_w, index_w} <= {0, 4, 8}:
        raise FormatError("table-items-makes-no-sense", offset=iloc.start)
    for _ in range(count):
        number, at = view.big(at, wide), at + wide
        method = 0
        if version:
            method, at = view.big(at, 2) & 15, at + 2
        at += 2  # the data reference
        base, at = (view.big(at, base_w) if base_w else 0), at + base_w
        extents, at = view.big(at, 2), at + 2
        if extents > 1 and not index_w + offset_w + length_w:
            raise FormatError("table-items-makes-no-sense", offset=iloc.start)
        for _ in range(extents):
            at += index_w
            offset, at = (view.big(at, offset_w) if offset_w else 0), at + offset_w
            length, at = (view.big(at, length_w) if length_w else 0), at + length_w
            if at > iloc.stop:
                raise FormatError("table-items-too-short", offset=iloc.start)
            origin = {0: view.start, 1: idat.body if idat else view.start}.get(method)
            if length > MAX_ITEM_BYTES:
                raise FormatError("table-items-makes-no-sense", offset=iloc.start)
            if origin is not None and length:
                begin = origin + base + offset
                found.setdefault(number, []).append((begin, begin + length))
    return found


def item_kinds(view: View, meta: Box) -> dict[int, bytes]:
    """Item number -> its four-letter type (`iinf`, 8.11.6)."""
    box = child(view, meta.body + 4, meta.stop, b"iinf")
    if box is None:
        return {}
    first = box.body + (6 if view.take(box.body, 1)[0] == 0 else 8)
    found: dict[int, bytes] = {}
    for entry in children(view, first, box.stop):
        version = view.take(entry.body, 1)[0]
        if entry.name == b"infe" and version in (2, 3) and len(found) < MAX_ITEMS:
            wide = 2 if version == 2 else 4
            number = view.big(entry.body + 4, wide)
            found[number] = view.take(entry.body + 4 + wide + 2, 4)
    return found


def primary_item(view: View, meta: Box) -> int | None:
    """The number of the item that is the picture (`pitm`, 8.11.4)."""
    pitm = child(view, meta.body + 4, meta.stop, b"pitm")
    if pitm is None:
        return None
    return view.big(pitm.body + 4, 2 if view.take(pitm.body, 1)[0] == 0 else 4)


def stated_size(view: View, ispe: Box) -> tuple[int, int]:
    """(width, height) in pixels that an `ispe` property states (23008-12, 6.5.3)."""
    return view.big(ispe.body + 4, 4), view.big(ispe.body + 8, 4)


def properties(view: View, meta: Box) -> dict[int, list[Box]]:
    """Item number -> its properties in the order in which they apply (`ipco`, `ipma`; 8.11.14)."""
    box = child(view, meta.body + 4, meta.stop, b"iprp", b"ipco")
    ipma = child(view, meta.body + 4, meta.stop, b"iprp", b"ipma")
    if box is None or ipma is None:
        return {}
    every = list(children(view, box.body, box.stop))[:MAX_ITEMS]
    wide = 4 if view.take(ipma.body, 1)[0] else 2
    long = view.big(ipma.body + 1, 3) & 1
    at = ipma.body + 8
    found: dict[int, list[Box]] = {}
    for _ in range(min(view.big(ipma.body + 4, 4), MAX_ITEMS)):
        item, count = view.big(at, wide), view.take(at + wide, 1)[0]
        at += wide + 1
        numbers = (view.big(at + n * (1 + long), 1 + long) & (0x7FFF if long else 0x7F)
                   for n in range(count))
        if item not in found:
            found[item] = [every[n - 1] for n in numbers if 0 < n <= len(every)]
        at += count * (1 + long)
        if at >= ipma.stop:
            break
    return found


def references(view: View, meta: Box) -> list[Reference]:
    """All references between items (`iref`, 8.11.12)."""
    box = child(view, meta.body + 4, meta.stop, b"iref")
    if box is None:
        return []
    wide = 4 if view.take(box.body, 1)[0] else 2
    found: list[Reference] = []
    for entry in children(view, box.body + 4, box.stop):
        item, count = view.big(entry.body, wide), view.big(entry.body + wide, 2)
        at = entry.body + wide + 2
        if count > MAX_ITEMS or at + count * wide > entry.stop or len(found) >= MAX_ITEMS:
            raise FormatError("table-items-too-short", offset=entry.start)
        found.append(Reference(entry.name, item, tuple(
            view.big(at + n * wide, wide) for n in range(count))))
    return found
