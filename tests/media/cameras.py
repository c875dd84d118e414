"""Photographs as twenty made-up cameras write them: the headers differ, the pictures are drawn.

Cameras reserve room in their headers: kilobytes of zeros behind the tags, within maker notes, or
in segments of their own. Thumbnails have the sensor's shape or another, or stand in black bars.
"""

from __future__ import annotations

import io
import struct
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from PIL import Image

from needlewright.demo import scenes

XMP = b"http://ns.adobe.com/xap/1.0/\0"
XMP_MORE = b"http://ns.adobe.com/xmp/extension/\0"


@dataclass(frozen=True)
class Camera:
    """One camera. `padding`: zeros behind the tags of APP1; `before`: zeros in front of the
    thumbnail; `note`: (bytes, of which zeros at its end) of the maker note; `thumbnail`: "fit",
    "barred", "cropped" or ""; `segments`: (marker, zeros) of segments that hold nothing else."""

    name: str
    size: tuple[int, int] = (1600, 1200)
    quality: int = 90
    sampling: str = "4:2:0"
    order: str = "<"
    padding: int = 0
    before: int = 0
    note: tuple[int, int] = (0, 0)
    thumbnail: str = "fit"
    shape: tuple[int, int] = (160, 120)
    segments: tuple[tuple[int, int], ...] = ()
    xmp: int = 0  # bytes of white space behind it, as writers leave for editing in place
    extended: bool = False
    progressive: bool = False
    restarts: int = 0
    fill: int = 0  # FF bytes in front of each marker


CAMERAS = (
    Camera("Brackenfield TC-4"),
    Camera("Brackenfield TC-6", padding=6000, thumbnail="barred", size=(1536, 1024)),
    Camera("Reedmouth 20", note=(9000, 8000), size=(1500, 1000), thumbnail="barred"),
    Camera("Reedmouth 31", before=4608, padding=5000, order=">"),
    Camera("Alderholt P", segments=((0xE4, 16_384),), quality=93),
    Camera("Alderholt Q", segments=((0xEA, 60_000), (0xEB, 9000)), sampling="4:2:2"),
    Camera("Fernbeck One", xmp=4000, padding=20_000, quality=85),
    Camera("Fernbeck Two", xmp=2000, extended=True, order=">"),
    Camera("Weirside S", size=(1600, 900), thumbnail="cropped", padding=4096),
    Camera("Weirside M", size=(1600, 900), thumbnail="barred", note=(30_000, 12_000)),
    Camera("Osier 7", size=(1200, 1600), thumbnail="cropped", before=8192),
    Camera("Osier 8", restarts=1, padding=5200),
    Camera("Osier 9", restarts=4, segments=((0xE9, 12_000),), sampling="4:2:2"),
    Camera("Mallow D", progressive=True, padding=8000),
    Camera("Mallow E", progressive=True, segments=((0xED, 30_000),), thumbnail=""),
    Camera("Sedge 100", thumbnail="", padding=10_000, quality=95, size=(1400, 1050)),
    Camera("Sedge 200", sampling="4:4:4", note=(50_000, 40_000), size=(1024, 768)),
    Camera("Teasel K", fill=3, padding=4100, shape=(320, 240)),
    Camera("Teasel L", quality=70, before=2048, padding=30_000, order=">", xmp=2048),
    Camera("Withy Field", note=(60_000, 0), segments=((0xE5, 65_000), (0xE5, 65_000))),
)


@lru_cache(maxsize=16)
def scene(seed: int, size: tuple[int, int]) -> Image.Image:
    """A drawn valley with the noise of a sensor."""
    drawn = scenes.draw_photo(seed, *size, f"Fernbeck Valley {seed}")
    noise = np.random.default_rng(seed).normal(0, 3, (size[1], size[0], 1))
    grain = np.clip(np.asarray(drawn, np.float64) + noise, 0, 255)
    return Image.fromarray(grain.astype(np.uint8), "RGB")


def photograph(camera: Camera, seed: int) -> bytes:
    """The bytes of a photograph of scene `seed` by `camera`."""
    return encode(camera, scene(seed, camera.size), seed)


def encode(camera: Camera, picture: Image.Image, seed: int = 1) -> bytes:
    """The bytes of `picture` as `camera` writes them."""
    out = io.BytesIO()
    extra = {"restart_marker_rows": camera.restarts} if camera.restarts else {}
    picture.save(out, "JPEG", quality=camera.quality, subsampling=camera.sampling,
                 progressive=camera.progressive, **extra)
    plain = out.getvalue()
    plain = plain[2 + 2 + int.from_bytes(plain[4:6], "big"):]  # without SOI and JFIF
    head = [(0xE1, b"Exif\0\0" + _exif(camera, picture, seed))]
    if camera.xmp:
        head.append((0xE1, XMP + _xmp(camera.xmp)))
    if camera.extended:
        body = _xmp(0) * 40
        head.append((0xE1, XMP_MORE + b"0" * 32 + struct.pack(">II", len(body), 0) + body))
    head += [(marker, bytes(zeros)) for marker, zeros in camera.segments]
    fill = b"\xff" * camera.fill
    segments = b"".join(fill + struct.pack(">BBH", 0xFF, marker, len(body) + 2) + body
                        for marker, body in head)
    return b"\xff\xd8" + segments + fill + plain


def thumbnail(camera: Camera, picture: Image.Image) -> bytes:
    """The embedded thumbnail, in the camera's shape."""
    if not camera.thumbnail:
        return b""
    wide, high = camera.shape
    if camera.thumbnail == "fit":
        small = picture.resize((wide, max(1, wide * picture.height // picture.width)),
                               Image.Resampling.BOX)
    elif camera.thumbnail == "barred":
        scale = min(wide / picture.width, high / picture.height)
        inner = picture.resize((round(picture.width * scale), round(picture.height * scale)),
                               Image.Resampling.BICUBIC)
        small = Image.new("RGB", camera.shape)
        small.paste(inner, ((wide - inner.width) // 2, (high - inner.height) // 2))
    else:
        scale = max(wide / picture.width, high / picture.height)
        across, down = wide / scale, high / scale
        left, top = (picture.width - across) / 2, (picture.height - down) / 2
        small = picture.resize(camera.shape, Image.Resampling.BICUBIC,
                               box=(left, top, left + across, top + down))
    out = io.BytesIO()
    small.save(out, "JPEG", quality=80)
    return out.getvalue()


def _xmp(space: int) -> bytes:
    return (b'<?xpacket begin="\xef\xbb\xbf" id="W5M0MpCehiHzreSzNTczkc9d"?><x:xmpmeta '
            b'xmlns:x="adobe:ns:meta/"><rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-'
            b'ns#"><rdf:Description rdf:about="" xmlns:xmp="http://ns.adobe.com/xap/1.0/" '
            b'xmp:Rating="0"/></rdf:RDF></x:xmpmeta>' + b" " * space + b'<?xpacket end="w"?>')


def _exif(camera: Camera, picture: Image.Image, seed: int) -> bytes:
    """A TIFF block: tags, maker note, thumbnail, and the zeros that the camera leaves."""
    order, small = camera.order, thumbnail(camera, picture)
    make = camera.name.split()[0].encode() + b"\0"
    noise = np.random.default_rng(seed + len(camera.name)).bytes(camera.note[0] - camera.note[1])
    note = noise + bytes(camera.note[1])
    taken = f"2031:05:{1 + seed % 28:02} 05:58:12".encode() + b"\0"
    main = [(0x010F, 2, make), (0x0110, 2, camera.name.encode() + b"\0"),
            (0x0112, 3, struct.pack(order + "H", 1))]
    inner = [(0x829A, 5, struct.pack(order + "II", 1, 250)), (0x9003, 2, taken),
             *([(0x927C, 7, note)] if note else []),
             (0xA002, 4, struct.pack(order + "I", picture.width)),
             (0xA003, 4, struct.pack(order + "I", picture.height))]
    main_size = _size([*main, (0x8769, 4, b"0000")])
    inner_at = 8 + main_size
    second_at = inner_at + _size(inner)
    main.append((0x8769, 4, struct.pack(order + "I", inner_at)))
    block = {"<": b"II*\0", ">": b"MM\0*"}[order] + struct.pack(order + "I", 8)
    block += _table(main, 8, second_at if small else 0, order) + _table(inner, inner_at, 0, order)
    if small:
        second: list[tuple[int, int, bytes]] = [(0x0103, 3, struct.pack(order + "H", 6))]
        at = second_at + _size([*second, (0x0201, 4, b"0000"), (0x0202, 4, b"0000")])
        second += [(0x0201, 4, struct.pack(order + "I", at + camera.before)),
                   (0x0202, 4, struct.pack(order + "I", len(small)))]
        block += _table(second, second_at, 0, order) + bytes(camera.before) + small
    room = 65_533 - 6 - len(block)
    return block + bytes(min(camera.padding, room))


def _size(entries: list[tuple[int, int, bytes]]) -> int:
    return 6 + 12 * len(entries) + sum(len(v) + len(v) % 2 for *_, v in entries if len(v) > 4)


def _table(entries: list[tuple[int, int, bytes]], at: int, following: int, order: str) -> bytes:
    """One directory placed at `at`, values over four bytes behind it (TIFF 6.0, section 2)."""
    width = {2: 1, 3: 2, 4: 4, 5: 8, 7: 1}
    table, far = struct.pack(order + "H", len(entries)), b""
    start = at + 6 + 12 * len(entries)
    for tag, kind, value in sorted(entries):
        field = value.ljust(4, b"\0")
        if len(value) > 4:
            field = struct.pack(order + "I", start + len(far))
            far += value + bytes(len(value) % 2)
        table += struct.pack(order + "HHI", tag, kind, len(value) // width[kind]) + field
    return table + struct.pack(order + "I", following) + far
