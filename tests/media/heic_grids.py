"""HEIC and AVIF pictures in tiles, as phones write them: tiles by libheif or libavif, the boxes by
hand (23008-12)."""

from __future__ import annotations

import struct

from PIL import Image

from tests.media.pictures import saved


def _box(name: bytes, *content: bytes) -> bytes:
    body = b"".join(content)
    return struct.pack(">I", 8 + len(body)) + name + body


def _full(name: bytes, *content: bytes, version: int = 0, flags: int = 0) -> bytes:
    return _box(name, bytes((version,)) + flags.to_bytes(3, "big"), *content)


CODINGS = {"HEIF": (b"hvcC", b"hvc1", b"heic"), "AVIF": (b"av1C", b"av01", b"avif")}


def coded(picture: Image.Image, form: str = "HEIF") -> tuple[bytes, bytes]:
    """(decoder configuration, coded picture) of one key frame, out of a file of its own."""
    data = saved(picture, form, quality=85)

    def content(name: bytes) -> bytes:
        at = data.index(name)
        return data[at + 4 : at - 4 + int.from_bytes(data[at - 4 : at], "big")]

    return content(CODINGS[form][0]), content(b"mdat")


def grid(picture: Image.Image, tile: int, turn: int = 0, mirror: int | None = None,
         form: str = "HEIF") -> bytes:
    """`picture` in square tiles of `tile` pixels, the last ones filled up; `turn`: quarters
    anticlockwise, `mirror`: axis, for whoever shows it."""
    columns, rows = -(-picture.width // tile), -(-picture.height // tile)
    sheet = Image.new("RGB", (columns * tile, rows * tile), (90, 90, 90))
    sheet.paste(picture, (0, 0))
    boxes = [(x * tile, y * tile, x * tile + tile, y * tile + tile)
             for y in range(rows) for x in range(columns)]
    parts = [coded(sheet.crop(box), form) for box in boxes]
    told, kind, brand = CODINGS[form]
    count, whole = len(parts), len(parts) + 1
    size = struct.pack(">II", *picture.size)
    turned = [_box(b"irot", bytes((turn,)))] if turn else []
    turned += [_box(b"imir", bytes((mirror,)))] if mirror is not None else []
    said = [_box(told, parts[0][0]), _full(b"ispe", struct.pack(">II", tile, tile)),
            _full(b"ispe", size), *turned]
    links = b"".join(struct.pack(">HBBB", n, 2, 0x81, 2) for n in range(1, whole))
    links += struct.pack(">HB", whole, 1 + len(turned)) + bytes(3 + n for n in range(
        1 + len(turned)))
    index = bytes((0, 0, rows - 1, columns - 1)) + struct.pack(
        ">HH", *picture.size)
    names = [(n, kind) for n in range(1, whole)] + [(whole, b"grid")]

    def meta(begins: int) -> bytes:
        places, at = b"", begins
        for number, (_, data) in enumerate(parts, 1):
            places += struct.pack(">HHHHII", number, 0, 0, 1, at, len(data))
            at += len(data)
        places += struct.pack(">HHHHII", whole, 1, 0, 1, 0, len(index))
        return _full(
            b"meta", _full(b"hdlr", bytes(4), b"pict", bytes(13)),
            _full(b"pitm", struct.pack(">H", whole)),
            _full(b"iloc", b"\x44\0", struct.pack(">H", whole), places, version=1),
            _full(b"iinf", struct.pack(">H", whole), *(
                _full(b"infe", struct.pack(">HH", n, 0), kind, b"\0", version=2)
                for n, kind in names)),
            _full(b"iref", _box(b"dimg", struct.pack(">HH", whole, count), *(
                struct.pack(">H", n) for n in range(1, whole)))),
            _box(b"iprp", _box(b"ipco", *said), _full(b"ipma", struct.pack(">I", whole), links)),
            _box(b"idat", index))

    head = _box(b"ftyp", brand, bytes(4), b"mif1" + brand)
    begins = len(head) + len(meta(0)) + 8
    return head + meta(begins) + _box(b"mdat", *(data for _, data in parts))
