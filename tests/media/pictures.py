"""Still pictures from Pillow, pillow-heif and libjxl."""

from __future__ import annotations

import io
from collections.abc import Iterator

import imagecodecs
import numpy as np
import pillow_heif
from PIL import Image

from needlewright.demo import photos, scenes

pillow_heif.register_heif_opener()


def scene(seed: int, width: int = 320, height: int = 240, mode: str = "RGB") -> Image.Image:
    return scenes.draw_photo(seed, width, height, "Fernbeck Valley").convert(mode)


def saved(picture: Image.Image, form: str, **options: object) -> bytes:
    out = io.BytesIO()
    picture.save(out, form, **options)
    return out.getvalue()


def camera(seed: int, width: int = 640, height: int = 480, **options: object) -> bytes:
    return photos.encode_photo(scene(seed, width, height), "2031:05:12 05:58:12", 100, 88,
                               **options)


def with_clip(photo: bytes, clip: bytes) -> bytes:
    """A motion photo: XMP says that a clip is appended."""
    xmp = (b"http://ns.adobe.com/xap/1.0/\0<x:xmpmeta xmlns:x='adobe:ns:meta/'><rdf:RDF "
           b"xmlns:rdf='http://www.w3.org/1999/02/22-rdf-syntax-ns#'><rdf:Description "
           b"Camera:MotionPhoto='1'/></rdf:RDF></x:xmpmeta>")
    segment = b"\xff\xe1" + (len(xmp) + 2).to_bytes(2, "big") + xmp
    return photo[:2] + segment + photo[2:] + clip


def edited(seed: int, announce: bool = False) -> bytes:
    """A camera's picture that an editor cropped and darkened; its thumbnail is still the camera's.
    """
    original = Image.open(io.BytesIO(camera(seed)))
    changed = original.crop((90, 60, 420, 300)).point(lambda level: level * 2 // 3)
    clip = "Camera:MotionPhoto='1' xmlns:Camera='urn:fernbeck:camera' " if announce else ""
    xmp = ("<x:xmpmeta xmlns:x='adobe:ns:meta/'><rdf:RDF xmlns:rdf='http://www.w3.org/1999/02/22-rdf"
           f"-syntax-ns#'><rdf:Description {clip}xmlns:xmpMM='http://ns.adobe.com/xap/1.0/mm/' "
           "xmlns:stEvt='http://ns.adobe.com/xap/1.0/sType/ResourceEvent#'><xmpMM:History><rdf:Seq>"
           "<rdf:li stEvt:action='cropped'/></rdf:Seq></xmpMM:History></rdf:Description></rdf:RDF>"
           "</x:xmpmeta>")
    out = io.BytesIO()
    changed.save(out, "JPEG", quality=88, exif=original.info["exif"], xmp=xmp.encode())
    return out.getvalue()


def _jpegs() -> Iterator[tuple[str, bytes]]:
    yield "camera", camera(1)
    yield "progressive", camera(2, progressive=True)
    yield "restart", saved(scene(3), "JPEG", quality=85, restart_marker_rows=1)
    yield "grey", saved(scene(4, mode="L"), "JPEG", quality=85)
    yield "cmyk", saved(scene(5, mode="CMYK"), "JPEG", quality=85)
    yield "full-sampling", saved(scene(6), "JPEG", quality=95, subsampling=0)
    yield "optimised", saved(scene(7), "JPEG", quality=70, optimize=True)
    yield "appended-preview", camera(8) + saved(scene(8, 160, 120), "JPEG", quality=70)
    yield "edited", edited(10)
    yield "clip-dropped", edited(11, announce=True)
    from tests.media import clips

    yield "motion", with_clip(camera(9), clips.encode("mp4", frames=12))


def make() -> Iterator[tuple[str, str, str, bytes]]:
    """(format, variant, name, file) of each picture."""
    for name, data in _jpegs():
        yield "jpeg", "jpeg", name, data
    frames = [scene(20 + i, 160, 120) for i in range(4)]
    yield "png", "png", "plain", saved(scene(10), "PNG")
    yield "png", "png", "palette", saved(scene(11).quantize(64), "PNG")
    yield "png", "png", "animated", saved(frames[0], "PNG", save_all=True,
                                          append_images=frames[1:], duration=80)
    yield "gif", "gif", "plain", saved(scene(12), "GIF")
    yield "gif", "gif", "animated", saved(frames[0], "GIF", save_all=True,
                                          append_images=frames[1:], duration=80)
    yield "bmp", "bmp", "plain", saved(scene(13), "BMP")
    yield "bmp", "bmp", "palette", saved(scene(14).quantize(256), "BMP")
    for coding in ("raw", "tiff_lzw", "tiff_adobe_deflate", "jpeg", "packbits"):
        yield "tiff", "tiff", coding, saved(scene(15), "TIFF", compression=coding)
    yield "tiff", "tiff", "pages", saved(frames[0], "TIFF", save_all=True,
                                         append_images=frames[1:])
    yield "tiff", "tiff", "large-offsets", saved(scene(16), "TIFF", big_tiff=True)
    yield "webp", "webp", "lossy", saved(scene(17), "WEBP", quality=80)
    yield "webp", "webp", "lossless", saved(scene(18, 160, 120), "WEBP", lossless=True)
    yield "webp", "webp", "alpha", saved(scene(18, 160, 120, "RGBA"), "WEBP", quality=80,
                                         exif=photos_exif())
    yield "webp", "webp", "animated", saved(frames[0], "WEBP", save_all=True,
                                            append_images=frames[1:])
    yield "heif", "heic", "plain", saved(scene(19), "HEIF", quality=70, exif=photos_exif())
    yield "heif", "heic", "thumbnail", saved(scene(20, 640, 480), "HEIF", quality=60,
                                             thumbnails=[160])
    yield "heif", "avif", "plain", saved(scene(21), "AVIF", quality=70)
    pixels = np.asarray(scene(22))
    yield "jxl", "jxl", "lossy", imagecodecs.jpegxl_encode(pixels, level=85)
    yield "jxl", "jxl", "lossless", imagecodecs.jpegxl_encode(pixels[:120, :160], lossless=True)
    yield "jxl", "jxl", "large", imagecodecs.jpegxl_encode(np.asarray(scene(23, 900, 600)),
                                                            level=90)
    yield "jxl", "jxl", "boxes", imagecodecs.jpegxl_encode(pixels, level=85, usecontainer=True)
    yield "psd", "psd", "raw", layered(scene(24, 160, 120), packed=False)
    yield "psd", "psd", "runs", layered(scene(25, 160, 120), packed=True)


def photos_exif() -> bytes:
    exif = Image.Exif()
    exif[0x010F], exif[0x0110] = "Brackenfield", "Brackenfield TC-4"
    exif.get_ifd(0x8769)[0x9003] = "2031:05:12 05:58:12"
    return exif.tobytes()


def layered(picture: Image.Image, packed: bool) -> bytes:
    """A PSD with the merged picture only, its rows plain or in runs (PackBits)."""
    width, height = picture.size
    resource = b"8BIM\x03\xed\0\0" + (16).to_bytes(4, "big") + bytes(16)
    head = b"8BPS\0\x01" + bytes(6) + (3).to_bytes(2, "big") + height.to_bytes(4, "big")
    head += width.to_bytes(4, "big") + b"\0\x08\0\x03" + bytes(4)
    head += len(resource).to_bytes(4, "big") + resource + bytes(4)
    rows = [band.tobytes()[y * width : (y + 1) * width]
            for band in picture.split() for y in range(height)]
    if not packed:
        return head + b"\0\0" + b"".join(rows)
    coded = [_pack_bits(row) for row in rows]
    return head + b"\0\x01" + b"".join(len(c).to_bytes(2, "big") for c in coded) + b"".join(coded)


def _pack_bits(row: bytes) -> bytes:
    out, at = bytearray(), 0
    while at < len(row):
        run = 1
        while run < 128 and at + run < len(row) and row[at + run] == row[at]:
            run += 1
        if run > 2:
            out += bytes([257 - run, row[at]])
            at += run
            continue
        stop = at + 1
        while stop < len(row) and stop - at < 128 and len(set(row[stop : stop + 3])) > 1:
            stop += 1
        out += bytes([stop - at - 1]) + row[at:stop]
        at = stop
    return bytes(out)
