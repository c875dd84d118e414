"""Raw pictures: tiny writers of our own, since no encoder for them is at hand."""

from __future__ import annotations

import io
import struct
from collections.abc import Iterator, Sequence

import numpy as np

from needlewright.demo import scenes

SHORT, LONG, BYTE, TEXT, RATIONAL = 3, 4, 1, 2, 5
SIZES = {SHORT: "H", LONG: "I", BYTE: "B"}
Entry = tuple[int, int, Sequence[int] | bytes]


def _directory(entries: Sequence[Entry], at: int, following: int) -> bytes:
    """A directory at `at` with its long values behind it."""
    head = struct.pack("<H", len(entries))
    values_at = at + 2 + 12 * len(entries) + 4
    body, tail = b"", b""
    for tag, kind, values in sorted(entries):
        if isinstance(values, bytes):
            raw, count = values, len(values) // (8 if kind == RATIONAL else 1)
        else:
            raw, count = struct.pack(f"<{len(values)}{SIZES[kind]}", *values), len(values)
        if len(raw) <= 4:
            place = raw.ljust(4, b"\0")
        else:
            place = struct.pack("<I", values_at + len(tail))
            tail += raw + bytes(len(raw) % 2)
        body += struct.pack("<HHI", tag, kind, count) + place
    return head + body + struct.pack("<I", following) + tail


def _preview(seed: int) -> bytes:
    out = io.BytesIO()
    scenes.draw_photo(seed, 320, 240, "Fernbeck Valley").save(out, "JPEG", quality=80)
    return out.getvalue()


def _mosaic(seed: int, width: int, height: int) -> bytes:
    """A 14-bit colour-filter mosaic of a survey picture, 16 bits a sample."""
    pixels = np.asarray(scenes.draw_photo(seed, width, height, "Fernbeck Valley"), np.uint16)
    mosaic = pixels[:, :, 1].copy()
    mosaic[0::2, 0::2], mosaic[1::2, 1::2] = pixels[0::2, 0::2, 0], pixels[1::2, 1::2, 2]
    return (mosaic << 6).astype("<u2").tobytes()


def raw_tiff(seed: int, coding: int = 1, digital_negative: bool = True, mark: bytes = b"II*\0",
             extra: bytes = b"") -> bytes:
    """A TIFF/EP file: preview in the first directory, the mosaic in a sub-directory."""
    width, height = 256, 192
    preview, mosaic = _preview(seed), _mosaic(seed, width, height)
    main_at = 8 + len(extra)
    text = b"Brackenfield\0"
    model = b"Brackenfield TC-4\0"
    common: list[Entry] = [
        (0x10F, TEXT, text), (0x110, TEXT, model), (0x112, SHORT, [1]),
        (0xFE, LONG, [1]), (0x100, LONG, [320]), (0x101, LONG, [240]), (0x102, SHORT, [8, 8, 8]),
        (0x103, SHORT, [7]), (0x106, SHORT, [6]), (0x115, SHORT, [3])]
    if digital_negative:
        common += [(0xC612, BYTE, [1, 4, 0, 0]), (0xC614, TEXT, model),
                   (0xC621, 10, struct.pack("<18i", *[1, 1, 0, 1, 0, 1, 0, 1, 1, 1, 0, 1, 0, 1,
                                                      0, 1, 1, 1])),
                   (0xC628, RATIONAL, struct.pack("<6I", *[1, 1] * 3)), (0xC65A, SHORT, [21])]
    fixed = len(_directory([*common, (0x111, LONG, [0]), (0x117, LONG, [0]), (0x14A, LONG, [0])],
                           main_at, 0))
    sub_at = main_at + fixed
    sub: list[Entry] = [
        (0xFE, LONG, [0]), (0x100, LONG, [width]), (0x101, LONG, [height]), (0x102, SHORT, [16]),
        (0x103, SHORT, [coding]), (0x106, SHORT, [32803]), (0x115, SHORT, [1]),
        (0x116, LONG, [height]), (0x828D, SHORT, [2, 2]), (0x828E, BYTE, [0, 1, 1, 2]),
        (0x117, LONG, [len(mosaic)]), (0xC61D, SHORT, [16383])]
    sub_size = len(_directory([*sub, (0x111, LONG, [0])], sub_at, 0))
    preview_at = sub_at + sub_size
    mosaic_at = preview_at + len(preview) + len(preview) % 2
    main = _directory([*common, (0x111, LONG, [preview_at]), (0x117, LONG, [len(preview)]),
                       (0x14A, LONG, [sub_at])], main_at, 0)
    data = mark + struct.pack("<I", main_at) + extra + main
    data += _directory([*sub, (0x111, LONG, [mosaic_at])], sub_at, 0) + preview
    return data + bytes(len(preview) % 2) + mosaic


def _box(name: bytes, *bodies: bytes) -> bytes:
    body = b"".join(bodies)
    return struct.pack(">I4s", 8 + len(body), name) + body


def raw_boxes(seed: int) -> bytes:
    """A raw picture in boxes: two tracks of one sample each, the first an embedded JPEG."""
    preview, raw = _preview(seed), _mosaic(seed, 128, 96)
    first = struct.pack("<HHI", 0x10F, TEXT, 13) + struct.pack("<I", 38)
    second = struct.pack("<HHI", 0x110, TEXT, 18) + struct.pack("<I", 52)
    tiff = b"II*\0" + struct.pack("<IH", 8, 2) + first + second + bytes(4)
    tiff = tiff.ljust(38, b"\0") + b"Brackenfield\0\0Brackenfield TC-4\0"
    private = _box(b"uuid", bytes(range(16)), _box(b"CMT1", tiff))

    def moov(at: int) -> bytes:
        offsets = (at, at + len(preview))
        tracks = [_track(n + 1, o, len(d), s) for n, (o, d, s) in enumerate(
            zip(offsets, (preview, raw), ((320, 240), (128, 96))))]
        return _box(b"moov", private, _box(b"mvhd", bytes(100)), *tracks)

    ftyp = _box(b"ftyp", b"crx \0\0\0\x01crx isom")
    at = len(ftyp) + len(moov(0)) + 8
    return ftyp + moov(at) + _box(b"mdat", preview, raw)


def _track(number: int, at: int, size: int, picture: tuple[int, int]) -> bytes:
    header = bytes(12) + struct.pack(">I", number) + bytes(24) + bytes(36)
    header += struct.pack(">II", picture[0] << 16, picture[1] << 16)
    entry = bytes(24) + struct.pack(">HH", *picture) + bytes(50)
    tables = _box(
        b"stbl", _box(b"stsd", struct.pack(">II", 0, 1), _box(b"CRAW", entry)),
        _box(b"stts", struct.pack(">IIII", 0, 1, 1, 1)),
        _box(b"stsc", struct.pack(">IIIII", 0, 1, 1, 1, 1)),
        _box(b"stsz", struct.pack(">IIII", 0, 0, 1, size)),
        _box(b"co64", struct.pack(">IIQ", 0, 1, at)))
    media = _box(b"mdhd", bytes(12) + struct.pack(">II", 1, 1) + bytes(4))
    kind = _box(b"hdlr", bytes(8) + b"vide" + bytes(13))
    return _box(b"trak", _box(b"tkhd", header), _box(b"mdia", media, kind, _box(b"minf", tables)))


def make() -> Iterator[tuple[str, str, str, bytes]]:
    """(format, variant, name, file) of each raw picture."""
    yield "tiff", "dng", "plain", raw_tiff(40)
    yield "tiff", "nef", "coded", raw_tiff(41, coding=34713, digital_negative=False)
    yield "tiff", "cr2", "marked", raw_tiff(42, digital_negative=False,
                                            extra=b"CR\x02\0" + bytes(4))
    yield "tiff", "rw2", "marked", raw_tiff(43, digital_negative=False, mark=b"IIU\0")
    yield "cr3", "cr3", "boxes", raw_boxes(44)
