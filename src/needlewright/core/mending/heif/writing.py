"""An index written for items that were found: that of another file or the own one, with places of
its own, without what is missing. In the place of tiles that are missing stand neutral ones.
"""

from __future__ import annotations

import struct
from collections.abc import Mapping

from needlewright.core.mending.base import Unmendable
from needlewright.core.mending.heif.items import Model
from needlewright.core.mending.heif.neutral import Neutral
from needlewright.core.structures.bmff import Box, children
from needlewright.core.structures.bmff_writing import box as boxed

MOST_ITEMS = 65_535
LONG = 8  # bytes of the head of the data's box
TURNS = {1: 0, 3: 2, 6: 3, 8: 1}  # Exif's orientation -> quarters anticlockwise (6.5.10)

Places = Mapping[int, tuple[int, int]]  # item -> (start, stop) in the data


def front(model: Model, places: Places, size: int, orientation: int | None,
          grey: Mapping[int, Neutral]) -> bytes:
    """All in front of `size` bytes of data, in which the items lie at `places`; what has no place
    is left out. `orientation`: what the picture's own Exif data says, 0: nothing; None: what
    `model` says. `grey`: tiles that have a coding of their own."""
    if size + MOST_ITEMS * 64 >= 1 << 32:
        raise Unmendable("too-large")
    kept = {n for n in model.kinds if n in places or n not in model.spans
            or model.stands_inside(n)}
    begin = len(model.file_type) + LONG
    for _ in range(2):  # how long it is does not depend on what it says
        meta = _meta(model, places, kept, begin, orientation, grey)
        begin = len(model.file_type) + len(meta) + LONG
    return model.file_type + meta + struct.pack(">I4s", LONG + size, b"mdat")


def _meta(model: Model, places: Places, kept: set[int], begin: int, orientation: int | None,
          grey: Mapping[int, Neutral]) -> bytes:
    parts = [model.view.take(model.meta.body, 4)]
    for box in model.boxes:
        if box.name == b"iloc":
            parts.append(_places(model, places, kept, begin))
        elif box.name == b"iinf":
            parts.append(_names(model, box, kept))
        elif box.name == b"iref":
            parts.append(_references(model, box, kept))
        elif box.name == b"iprp":
            parts.append(_said(model, box, orientation, grey))
        else:
            parts.append(_as_it_is(model, box))
    return boxed(b"meta", *parts)


def _places(model: Model, places: Places, kept: set[int], begin: int) -> bytes:
    base = 0 if model.inside is None else model.inside.body
    entries = []
    for item in sorted(kept):
        if item > MOST_ITEMS:
            raise Unmendable("index-unusual")
        if item in places:
            start, stop = places[item]
            method, spans = 0, [(begin + start, stop - start)]
        elif item in model.spans:
            method, spans = 1, [(a - base, b - a) for a, b in model.spans[item]]
        else:
            continue  # such as have no data
        entries.append(struct.pack(">HHHH", item, method, 0, len(spans))
                       + b"".join(struct.pack(">II", *span) for span in spans))
    return boxed(b"iloc", b"\1\0\0\0\x44\0", struct.pack(">H", len(entries)), *entries)


def _names(model: Model, box: Box, kept: set[int]) -> bytes:
    view = model.view
    old = view.take(box.body, 1)[0] == 0
    entries = []
    for entry in children(view, box.body + (6 if old else 8), box.stop):
        data = view.take(entry.start, entry.size)
        at = entry.body - entry.start + 4
        wide = 2 if data[at - 4] == 2 else 4
        item = int.from_bytes(data[at : at + wide], "big")
        if item in kept:
            entries.append(data)
    count = struct.pack(">H" if old else ">I", len(entries))
    return boxed(b"iinf", view.take(box.body, 4), count, *entries)


def _references(model: Model, box: Box, kept: set[int]) -> bytes:
    long = model.view.take(box.body, 1)[0]
    form = ">I" if long else ">H"
    entries = []
    for one in model.references:
        if one.item in kept and kept.issuperset(one.others):
            entries.append(boxed(one.kind, struct.pack(form, one.item),
                                struct.pack(">H", len(one.others)),
                                *(struct.pack(form, n) for n in one.others)))
    return boxed(b"iref", model.view.take(box.body, 4), *entries)


def _said(model: Model, box: Box, orientation: int | None, grey: Mapping[int, Neutral]) -> bytes:
    """The properties, with the picture turned as its own Exif data says, else not at all, and the
    coding of what is grey."""
    inner = {b.name: b for b in children(model.view, box.body, box.stop)}
    if set(inner) != {b"ipco", b"ipma"}:
        if grey:
            raise Unmendable("index-unusual")
        return _as_it_is(model, box)
    every = inner[b"ipco"]
    data = bytearray(model.view.take(every.body, every.stop - every.body))
    if orientation is not None:
        for one in model.said.get(model.primary, ()):
            if one.name == b"irot" and one.stop > one.body:
                data[one.body - every.body] = TURNS.get(orientation, 0)
    links = bytearray(_as_it_is(model, inner[b"ipma"]))
    if grey:
        boxes = list(children(model.view, every.body, every.stop))
        name = b"av1C" if model.is_av1 else b"hvcC"
        data += boxed(name, next(iter(grey.values())).configuration)
        coding = {n + 1 for n, b in enumerate(boxes) if b.name == name}
        _link(links, set(grey), coding, len(boxes) + 1)
    return boxed(b"iprp", boxed(b"ipco", bytes(data)), bytes(links))


def _link(ipma: bytearray, items: set[int], old: set[int], new: int) -> None:
    """Make `items` have the property `new` in the place of those of `old` (14496-12, 8.11.14)."""
    wide, long = (4 if ipma[8] else 2), ipma[11] & 1
    most = 0x7FFF if long else 0x7F
    if new > most:
        raise Unmendable("index-unusual")
    at = 16
    for _ in range(int.from_bytes(ipma[12:16], "big")):
        if at + wide + 1 > len(ipma):
            break
        item, count = int.from_bytes(ipma[at : at + wide], "big"), ipma[at + wide]
        at += wide + 1
        for index in range(at, min(at + count * (1 + long), len(ipma) - long), 1 + long):
            value = int.from_bytes(ipma[index : index + 1 + long], "big")
            if item in items and value & most in old:
                ipma[index : index + 1 + long] = (value & ~most | new).to_bytes(1 + long, "big")
        at += count * (1 + long)


def _as_it_is(model: Model, box: Box) -> bytes:
    return model.view.take(box.start, box.size)
