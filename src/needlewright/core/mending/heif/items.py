"""What the index of an HEIC or AVIF picture says: its items, and how they make up the picture
(ISO/IEC 23008-12, 6; ISO/IEC 14496-12, 8.11). Big-endian.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from needlewright.core.errors import FormatError
from needlewright.core.mending.base import Unmendable
from needlewright.core.sources.source import Source
from needlewright.core.structures.bmff import Box, child, children, top_level
from needlewright.core.structures.heif_items import (
    Reference,
    Spans,
    item_kinds,
    item_spans,
    primary_item,
    properties,
    references,
    stated_size,
)
from needlewright.core.structures.view import View

MOST_META = 1 << 22  # bytes of an index
#: Kinds of items that are coded pictures -> the box that tells a decoder of them.
CODINGS = {b"hvc1": b"hvcC", b"hev1": b"hvcC", b"av01": b"av1C"}
AV1 = b"av01"
LENGTH_AT = 21  # in the decoder's configuration (14496-15, 8.3.3.1): bytes of a unit's length


@dataclass(frozen=True, slots=True)
class Grid:
    """A picture in tiles (23008-12, 6.6.2.3): `tiles` row by row; pixels (width, height)."""

    columns: int
    tile: tuple[int, int]
    size: tuple[int, int]
    tiles: tuple[int, ...]

    def area(self, tile: int) -> list[int]:
        """[first row, first column, row and column behind the last] in pixels."""
        row, column = divmod(self.tiles.index(tile), self.columns)
        wide, high = self.tile
        return [row * high, column * wide, min(self.size[1], (row + 1) * high),
                min(self.size[0], (column + 1) * wide)]


    def share(self, tiles: Iterable[int]) -> float:
        """The part of the picture's area that `tiles` cover."""
        covered = [(bottom - top) * max(0, right - left) for top, left, bottom, right in map(
            self.area, tiles)]
        return sum(covered) / max(1, self.size[0] * self.size[1])


@dataclass(frozen=True, slots=True)
class Model:
    """The index of one file. `file_type`: its first box; `boxes`: what `meta` holds, in order;
    `said`: the properties of each item."""

    view: View
    file_type: bytes
    meta: Box
    boxes: tuple[Box, ...]
    kinds: dict[int, bytes]
    spans: dict[int, Spans]
    said: dict[int, list[Box]]
    references: list[Reference]
    primary: int

    @property
    def inside(self) -> Box | None:
        """The box of small data within the index."""
        return next((b for b in self.boxes if b.name == b"idat"), None)

    def stands_inside(self, item: int) -> bool:
        """Whether an item's data stands in the index itself."""
        return all(self.meta.start <= a and b <= self.meta.stop for a, b in self.spans[item])

    def in_line(self) -> list[int]:
        """The items whose data stands outside of the index, in the order in which it does. Raises
        Unmendable where one is in several pieces."""
        outside = [n for n in self.spans if n in self.kinds and not self.stands_inside(n)]
        if any(len(self.spans[n]) != 1 for n in outside):
            raise Unmendable("index-unusual")
        return sorted(outside, key=lambda n: self.spans[n][0])

    def configuration(self, item: int) -> bytes:
        """What a decoder is told of an item's coding."""
        name = CODINGS.get(self.kinds.get(item, b""))
        box = next((b for b in self.said.get(item, ()) if b.name == name), None)
        if box is None:
            raise Unmendable("coding-unknown")
        return self.view.take(box.body, box.stop - box.body)

    @property
    def is_av1(self) -> bool:
        """Whether its pictures are coded as AV1."""
        return AV1 in self.kinds.values()

    def width_of_lengths(self) -> int:
        """Bytes of the length in front of each coded unit; 0 where there is none."""
        first = next((n for n in self.in_line() if self.kinds[n] in CODINGS), 0)
        configuration = self.configuration(first)
        if self.kinds[first] == AV1:
            return 0
        if len(configuration) <= LENGTH_AT:
            raise Unmendable("coding-unknown")
        return (configuration[LENGTH_AT] & 3) + 1

    def grid(self) -> Grid | None:
        """The primary picture's tiles; None where it is none of tiles."""
        if self.kinds.get(self.primary) != b"grid":
            return None
        data = b"".join(self.view.take(a, b - a) for a, b in self.spans.get(self.primary, []))
        tiles = next((r.others for r in self.references
                      if r.kind == b"dimg" and r.item == self.primary), ())
        wide = 4 if len(data) > 1 and data[1] & 1 else 2
        if len(data) < 4 + 2 * wide or len(tiles) != (data[2] + 1) * (data[3] + 1):
            return None
        sizes = [stated_size(self.view, b) for b in self.said.get(tiles[0], ())
                 if b.name == b"ispe"]
        size = (int.from_bytes(data[4 : 4 + wide], "big"),
                int.from_bytes(data[4 + wide : 4 + 2 * wide], "big"))
        return Grid(data[3] + 1, sizes[0], size, tiles) if sizes and all(sizes[0]) else None


def model_of(source: Source) -> Model:
    """The index of the file that begins with `source`. Raises FormatError, Unmendable."""
    view = View(source, 0, source.size)
    boxes = list(top_level(view, 0))
    meta = next((b for b in boxes if b.name == b"meta"), None)
    if meta is None or boxes[0].name != b"ftyp" or meta.size > MOST_META:
        raise Unmendable("index-lost")
    if any(b.name == b"moov" for b in boxes):
        raise Unmendable("index-unusual")  # pictures in a sequence have an index of their own
    inside = tuple(children(view, meta.body + 4, meta.stop))
    if child(view, meta.body + 4, meta.stop, b"iloc") is None:
        raise FormatError("no-table-items", offset=meta.start)
    primary = primary_item(view, meta)
    first = boxes[0]
    return Model(view, view.take(first.start, first.size), meta, inside, item_kinds(view, meta),
                 item_spans(view, meta), properties(view, meta), references(view, meta),
                 primary or 0)
