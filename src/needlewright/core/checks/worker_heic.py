"""HEIC pictures in the isolated decoder: each coded item by FFmpeg's HEVC decoder, told to give up
on errors, and put together here (ISO/IEC 23008-12: items 6.2, grids 6.6.2.3, turning 6.5.10,
6.5.12).

Only pictures of the plain kind: one HEVC item or a grid of them, without transparency. Whatever
else a file may hold is left to the decoder of all HEIF files.
"""

from __future__ import annotations

import contextlib
import io
from dataclasses import dataclass
from typing import Any

import av
from PIL import Image

from needlewright.core.checks.worker_pictures import (
    compare_small,
    decode_picture,
    thumbnail,
)
from needlewright.core.errors import FormatError
from needlewright.core.sources.memory import MemorySource
from needlewright.core.structures.bmff import Box, top_level
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

LENIENT = {"skip_loop_filter": "all"}
STRICT = {"err_detect": "explode", **LENIENT}
CODED = (b"hvc1", b"hev1")
PICTURES = frozenset((*CODED, b"grid", b"iden", b"iovl", b"av01",
                      b"avc1", b"jpeg", b"j2k1", b"unci"))
# What says nothing that changes how many pixels there are, or which.
HARMLESS = frozenset((b"ispe", b"hvcC", b"colr", b"pixi", b"pasp", b"auxC", b"clli", b"mdcv",
                      b"cclv", b"amve", b"irot", b"imir"))
ALPHA = (b"urn:mpeg:hevc:2015:auxid:1", b"urn:mpeg:mpegB:cicp:systems:auxiliary:alpha")
MAX_TILES = 4096
MAX_PIXELS = 180_000_000
EXCESS = 16  # pixels by which a coded picture may be larger than it says


class Unfit(Exception):
    """A picture of another kind than this module decodes."""


@dataclass(frozen=True, slots=True)
class Laid:
    """A picture: `tiles` row by row, each its coded bytes and the decoder's configuration; `tile`
    and `size`: pixels (width, height) of a tile and of all; `turns`: what is done to it after."""

    tiles: list[tuple[bytes, bytes]]
    columns: int
    tile: tuple[int, int]
    size: tuple[int, int]
    turns: list[Image.Transpose]

    @property
    def shown(self) -> tuple[int, int]:
        """Width and height after turning."""
        odd = sum(t in (Image.Transpose.ROTATE_90, Image.Transpose.ROTATE_270) for t in self.turns)
        return self.size[::-1] if odd % 2 else self.size


class _Items:
    """What the index of a file says, as far as a picture needs it."""

    def __init__(self, view: View, meta: Box) -> None:
        self.view = view
        self.spans = item_spans(view, meta)
        self.kinds = item_kinds(view, meta)
        self.primary = primary_item(view, meta) or 0
        self.said = properties(view, meta)
        self.references = references(view, meta)

    def data(self, item: int) -> bytes:
        spans: Spans = self.spans.get(item, [])
        return b"".join(self.view.take(start, stop - start) for start, stop in spans)

    def body(self, box: Box) -> bytes:
        return self.view.take(box.body, box.stop - box.body)

    def of(self, kind: bytes) -> list[Reference]:
        return [r for r in self.references if r.kind == kind]

    def alone(self) -> bool:
        """Whether nothing but the primary picture is to be shown."""
        belonging = {r.item for kind in (b"thmb", b"auxl") for r in self.of(kind)}
        belonging |= {other for r in self.of(b"dimg") for other in r.others}
        others = {n for n, kind in self.kinds.items() if kind in PICTURES} - {self.primary}
        return others <= belonging

    def transparent(self) -> bool:
        return any(b.name == b"auxC" and any(name in self.body(b) for name in ALPHA)
                   for boxes in self.said.values() for b in boxes)

    def laid(self, item: int) -> Laid:
        """The picture of `item`. Raises Unfit and FormatError."""
        boxes = self.said.get(item, [])
        size = next((stated_size(self.view, b) for b in boxes if b.name == b"ispe"), (0, 0))
        if any(b.name not in HARMLESS for b in boxes) or not all(size):
            raise Unfit
        turns = [turn for b in boxes if (turn := self._turn(b)) is not None]
        if self.kinds.get(item) in CODED:
            return Laid([(self.data(item), self.configuration(item))], 1, size, size, turns)
        if self.kinds.get(item) != b"grid":
            raise Unfit
        return self._grid(item, turns)

    def _grid(self, item: int, turns: list[Image.Transpose]) -> Laid:
        said = self.data(item)
        tiles = next((r.others for r in self.of(b"dimg") if r.item == item), ())
        wide = 4 if len(said) > 1 and said[1] & 1 else 2
        if len(said) < 4 + 2 * wide or not tiles:
            raise Unfit
        rows, columns = said[2] + 1, said[3] + 1
        size = (int.from_bytes(said[4 : 4 + wide], "big"),
                int.from_bytes(said[4 + wide : 4 + 2 * wide], "big"))
        inner = [self.laid(tile) for tile in tiles if self.kinds.get(tile) in CODED]
        if len(inner) != len(tiles) or len(tiles) != rows * columns or len(tiles) > MAX_TILES:
            raise Unfit
        tile = inner[0].tile
        enough = tile[0] * columns >= size[0] > 0 and tile[1] * rows >= size[1] > 0
        spread = tile[0] * tile[1] * len(tiles)
        if not enough or spread > MAX_PIXELS or any(i.tile != tile or i.turns for i in inner):
            raise Unfit
        return Laid([i.tiles[0] for i in inner], columns, tile, size, turns)

    def configuration(self, item: int) -> bytes:
        """What the decoder is told of an item's coding. Raises Unfit."""
        box = next((b for b in self.said.get(item, []) if b.name == b"hvcC"), None)
        if box is None:
            raise Unfit
        return self.body(box)

    def decoded_share(self) -> float:
        """Of the area of the primary picture, a grid: what its tiles that decode cover."""
        tiles = next((r.others for r in self.of(b"dimg") if r.item == self.primary), ())
        wide, high = next((stated_size(self.view, b) for b in self.said.get(self.primary, [])
                           if b.name == b"ispe"), (0, 0))
        columns = self.data(self.primary)[3] + 1
        covered = 0
        for index, item in enumerate(tiles[:MAX_TILES]):
            with contextlib.suppress(Unfit, FormatError, av.error.FFmpegError):
                laid = self.laid(item)
                row, column = divmod(index, columns)
                _frame(_context(laid.tiles[0][1], STRICT), laid.tiles[0][0])
                covered += max(0, min(laid.tile[0], wide - column * laid.tile[0])) * max(
                    0, min(laid.tile[1], high - row * laid.tile[1]))
        return covered / max(1, wide * high)

    def _turn(self, box: Box) -> Image.Transpose | None:
        if box.name in (b"irot", b"imir") and box.body == box.stop:
            raise Unfit
        if box.name == b"irot":  # anticlockwise, in quarters
            return {1: Image.Transpose.ROTATE_90, 2: Image.Transpose.ROTATE_180,
                    3: Image.Transpose.ROTATE_270}.get(self.body(box)[0] & 3)
        if box.name == b"imir":
            sides = self.body(box)[0] & 1  # which parts are exchanged
            return (Image.Transpose.FLIP_LEFT_RIGHT if sides else
                    Image.Transpose.FLIP_TOP_BOTTOM)
        return None


def _decoded(laid: Laid, factor: int) -> Image.Image:
    """The picture at one `factor`th of its size. Raises av.error.FFmpegError, Unfit.

    As with clips: where a decoder that is not strict has nothing to say, the objection was to form.
    """
    try:
        return _assembled(laid, factor, STRICT)
    except av.error.FFmpegError:
        return _assembled(laid, factor, LENIENT)


def _assembled(laid: Laid, factor: int, options: dict[str, str]) -> Image.Image:
    wide, high = laid.tile
    rows = len(laid.tiles) // laid.columns
    made = Image.new("RGB", (_edge(laid.columns, wide, factor), _edge(rows, high, factor)))
    contexts: dict[bytes, Any] = {}
    for index, (data, configuration) in enumerate(laid.tiles):
        if configuration not in contexts:
            contexts[configuration] = _context(configuration, options)
        frame = _frame(contexts[configuration], data)
        if not (0 <= frame.width - wide < EXCESS and 0 <= frame.height - high < EXCESS):
            raise Unfit
        row, column = divmod(index, laid.columns)
        left, top = _edge(column, wide, factor), _edge(row, high, factor)
        right, below = _edge(column + 1, wide, factor), _edge(row + 1, high, factor)
        part = frame.reformat(width=right - left, height=below - top, format="rgb24",
                              interpolation="AREA")
        made.paste(part.to_image(), (left, top))
    made = made.crop((0, 0, max(1, laid.size[0] // factor), max(1, laid.size[1] // factor)))
    for turn in laid.turns:
        made = made.transpose(turn)
    return made


def _edge(index: int, side: int, factor: int) -> int:
    """Where tile `index` begins in the small picture; each has a pixel at least."""
    return max(index, round(index * side / factor))


def _context(configuration: bytes, options: dict[str, str]) -> Any:
    context: Any = av.CodecContext.create("hevc", "r")
    context.extradata = configuration
    context.thread_count = 1
    context.options = dict(options)
    return context


def _frame(context: Any, data: bytes) -> Any:
    """The frame of one coded item. Raises av.error.FFmpegError where it does not decode."""
    frames = []
    try:
        for packet in (av.Packet(data), None):
            with contextlib.suppress(EOFError):
                frames += context.decode(packet)
    finally:
        context.flush_buffers()
    if not frames or getattr(frames[0], "is_corrupt", False):
        raise av.error.InvalidDataError(1, "damaged tile")
    return frames[0]


def decode_heif(data: bytes, request: dict[str, Any]) -> tuple[dict[str, Any], list[bytes]]:
    """(answer, [thumbnail]) of an HEIF picture; pictures of other kinds go to `decode_picture`."""
    answer: dict[str, Any] = {"ok": False, "error": None}
    try:
        items = _opened(data)
        if request.get("task") == "stretch":
            return _stretch(items, request), []
        if not items.alone() or items.transparent():
            raise Unfit
        laid = items.laid(items.primary)
        if laid.size[0] * laid.size[1] > MAX_PIXELS:
            raise Unfit
        answer["width"], answer["height"] = laid.shown
        picture = _decoded(laid, max(1, min(laid.size) // request["side"]))
    except Unfit:
        return decode_picture(data, request)
    except FormatError:
        answer, shown = decode_picture(data, request)
        return (answer if answer["ok"] else answer | _reached(data)), shown
    except MemoryError:
        answer["error"] = "memory"
        return answer, [b"", b""]
    except Exception as error:
        # What is left of it is shown by the decoder that does not give up.
        shown = decode_picture(data, request)[1]
        answer["error"], answer["text"] = "undecodable", str(error)[:200]
        return answer | _reached(data), shown
    answer["ok"] = True
    answer.update(_witness(items, picture))
    return answer, [thumbnail(picture, request["side"]), b""]


def _reached(data: bytes) -> dict[str, Any]:
    """The share of a picture in tiles that decodes, as `reached`; nothing where it has none."""
    with contextlib.suppress(Exception):
        items = _opened(data)
        if items.kinds.get(items.primary) == b"grid":
            return {"reached": items.decoded_share()}
    return {}


def _opened(data: bytes) -> _Items:
    """Raises Unfit where it is a clip as well, or no picture."""
    view = View(MemorySource(data), 0, len(data))
    boxes = {box.name: box for box in top_level(view, 0)}
    if b"meta" not in boxes or b"moov" in boxes:
        raise Unfit
    return _Items(view, boxes[b"meta"])


def _stretch(items: _Items, request: dict[str, Any]) -> dict[str, Any]:
    """Whether the coded items decode, from number `seconds` to `until` in the order in which they
    lie in the file."""
    coded = sorted((spans[0], n) for n, spans in items.spans.items()
                   if items.kinds.get(n) in CODED and spans)
    low, high = int(request["seconds"]), int(min(request["until"], len(coded)))
    contexts: dict[bytes, Any] = {}
    try:
        for _, item in coded[low : high + 1]:
            configuration = items.configuration(item)
            if configuration not in contexts:
                contexts[configuration] = _context(configuration, STRICT)
            _frame(contexts[configuration], items.data(item))
    except (Unfit, FormatError, av.error.FFmpegError) as error:
        return {"ok": False, "error": "undecodable", "text": str(error)[:200]}
    return {"ok": bool(coded), "error": None}


def _witness(items: _Items, picture: Image.Image) -> dict[str, Any]:
    """What the file's own thumbnail says of the picture; nothing where it has none."""
    for reference in items.of(b"thmb"):
        if items.primary not in reference.others:
            continue
        try:
            return compare_small(picture, _thumbnail(items, reference.item))
        except Exception:
            return {"preview": "undecodable"}
    return {}


def _thumbnail(items: _Items, item: int) -> Image.Image:
    if items.kinds.get(item) != b"jpeg":
        return _decoded(items.laid(item), 1)
    small = Image.open(io.BytesIO(items.data(item)), formats=("JPEG",))
    small.load()
    return small
