"""Made-up files of each family that the benchmark of stitching cuts into pieces: real encoders,
pictures with the grain of a sensor."""

from __future__ import annotations

import io
import random
import sqlite3
import zipfile
from collections.abc import Callable

import numpy as np
from PIL import Image
from tests.media import cameras, heic_grids, raws

from needlewright.demo import clips, photos, scenes

VIEW = (1500, 1100)


def photograph(rng: random.Random, width: int, height: int) -> Image.Image:
    """A scene with the grain of a sensor and with fine structure that differs from place to place,
    as leaves, water and fur do; no two alike."""
    seed = np.random.default_rng(rng.getrandbits(32))
    drawn = scenes.draw_photo(rng.randrange(1 << 20), width, height, "Fernbeck Valley")
    picture = np.asarray(drawn, np.float32)
    field = np.zeros((height, width), np.float32)
    for size in (4, 12, 40, 150):
        rough = seed.normal(0, 1, (height // size + 2, width // size + 2)).astype(np.float32)
        layer = np.asarray(Image.fromarray(rough).resize((width, height), Image.Resampling.BICUBIC))
        field += layer * size ** 0.5
    where = np.asarray(Image.fromarray(seed.normal(0, 1, (6, 8)).astype(np.float32)).resize(
        (width, height), Image.Resampling.BICUBIC))
    field *= np.clip(where + 0.4, 0.05, 2)
    grain = seed.normal(0, rng.uniform(1, 4), (height, width, 3)).astype(np.float32)
    tint = np.array([1.0, 0.95, 0.8], np.float32)
    return Image.fromarray((picture + field[..., None] * tint * 3 + grain).clip(0, 255).astype(
        np.uint8))


def a_photo(**options: object) -> Callable[[random.Random], bytes]:
    def make(rng: random.Random) -> bytes:
        width, height = rng.choice(((1024, 768), (1632, 1224), (2048, 1536), (1500, 2000)))
        return photos.encode_photo(photograph(rng, width, height), "2031:05:12 05:58:12",
                                   rng.randrange(100, 999), rng.choice((80, 88, 92, 95)), **options)
    return make


def saved_as(form: str, mode: str = "RGB", scale: float = 1.0, **options: object) -> Callable[
        [random.Random], bytes]:
    def make(rng: random.Random) -> bytes:
        out = io.BytesIO()
        size = [int(side * scale * rng.uniform(0.5, 1)) for side in VIEW]
        photograph(rng, *size).convert(mode).save(out, form, **options)
        return out.getvalue()
    return make


def _clip(container: str, video: str = "libx264", audio: str | None = "aac",
          **options: str) -> Callable[[random.Random], bytes]:
    def make(rng: random.Random) -> bytes:
        return clips.encode(container, video, audio, seed=rng.randrange(1 << 16),
                            frames=rng.randrange(60, 140),
                            size=rng.choice(((320, 240), (480, 270), (640, 360))),
                            options=options or None)
    return make


def _sound(container: str, coding: str, seconds: float = 30,
           bit_rate: int | None = None) -> Callable[[random.Random], bytes]:
    def make(rng: random.Random) -> bytes:
        return clips.record(container, coding, rng.randrange(1 << 16),
                            seconds * rng.uniform(0.5, 1), bit_rate=bit_rate)
    return make


def _tiled(rng: random.Random) -> bytes:
    return heic_grids.grid(photograph(rng, rng.randrange(1100, 1500), 1000), 256)


def _letters(rng: random.Random, count: int) -> str:
    words = ("weir", "otter", "mist", "spraint", "Reedmouth", "heading", "upstream", "holt")
    return " ".join(rng.choice(words) + str(rng.randrange(1000)) for _ in range(count))


def _office(rng: random.Random) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("[Content_Types].xml", "<Types/>")
        archive.writestr("word/document.xml", f"<body>{_letters(rng, 30_000)}</body>")
        for number in range(rng.randrange(1, 4)):
            archive.writestr(f"word/media/image{number}.jpeg", a_photo()(rng), zipfile.ZIP_STORED)
        archive.writestr("word/styles.xml", f"<styles>{_letters(rng, 4000)}</styles>")
    return out.getvalue()


def _database(rng: random.Random) -> bytes:
    with sqlite3.connect(":memory:") as store:
        store.execute("CREATE TABLE sightings (at TEXT, place TEXT, otters INTEGER)")
        store.execute("CREATE INDEX by_place ON sightings (place)")
        store.executemany("INSERT INTO sightings VALUES (?, ?, ?)", [
            (f"2031-05-12T05:{i % 60:02}", _letters(rng, 3), i % 4) for i in range(6000)])
        store.commit()
        return store.serialize()


def _document(rng: random.Random) -> bytes:
    out = io.BytesIO()
    pages = [photograph(rng, 900, 700) for _ in range(3)]
    pages[0].save(out, "PDF", save_all=True, append_images=pages[1:])
    return out.getvalue()


def _negative(rng: random.Random) -> bytes:
    return raws.raw_tiff(rng.randrange(1 << 16))


def _padded(rng: random.Random) -> bytes:
    """A photograph with room that its camera reserved in its headers."""
    return cameras.photograph(rng.choice(cameras.CAMERAS), rng.randrange(1 << 20))


FAMILIES: dict[str, Callable[[random.Random], bytes]] = {
    "jpeg": a_photo(), "jpeg-restart": a_photo(restart_rows=1),
    "jpeg-padded": _padded,
    "jpeg-grey": saved_as("JPEG", "L", quality=88), "jpeg-progressive": a_photo(progressive=True),
    "png": saved_as("PNG", scale=0.6), "gif": saved_as("GIF"),
    "tiff": saved_as("TIFF", scale=0.6),
    "tiff-lzw": saved_as("TIFF", scale=0.6, compression="tiff_lzw"),
    "webp": saved_as("WEBP", quality=85),
    "mp4": _clip("mp4"), "mov": _clip("mov", movflags="faststart"),
    "mp4-fragments": _clip("mp4", movflags="frag_keyframe+empty_moov+default_base_moof"),
    "m4a": _sound("ipod", "aac", bit_rate=128_000), "avi": _clip("avi", "mjpeg", "pcm_s16le"),
    "mkv": _clip("matroska"), "ts": _clip("mpegts"), "flv": _clip("flv"),
    "mpg": _clip("vob", "mpeg2video", "mp2"),
    "wav": _sound("wav", "pcm_s16le", 8), "mp3": _sound("mp3", "libmp3lame", bit_rate=128_000),
    "aac": _sound("adts", "aac", bit_rate=128_000), "flac": _sound("flac", "flac", 10),
    "ogg": _sound("ogg", "libopus", bit_rate=96_000),
    "heic": _tiled,
    "heic-single": saved_as("HEIF", quality=85), "avif": saved_as("AVIF", quality=80),
    "docx": _office, "sqlite": _database, "pdf": _document, "dng": _negative,
    "wmv": _clip("asf", "wmv2", "wmav2"),
}
