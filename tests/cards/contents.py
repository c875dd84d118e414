"""Made-up files of many formats and sizes, each different from all others, from a seed."""

from __future__ import annotations

import io
import random
import struct
import time
import wave
from collections.abc import Callable
from functools import cache

import numpy as np
from PIL import Image

from needlewright.demo import photos
from tests.media import documents, samples

#: Names of media; the rest is what else lies on cards.
MEDIA = frozenset(("jpg", "png", "gif", "bmp", "tif", "webp", "wav", "mp4", "mov", "avi", "mkv",
                   "mp3", "pdf", "heic", "flac", "aac", "ts", "docx", "sqlite"))
#: Formats of which a sample serves, since encoders are slow; others are drawn anew each time.
POOLED = {"mp4": "mp4", "mov": "mov", "avi": "avi", "mkv": "mkv", "mp3": "mp3", "heic": "heic",
          "flac": "flac", "aac": "aac", "ts": "ts"}


def picture(rng: random.Random, width: int, height: int) -> Image.Image:
    """A landscape of waves and grain: continuous, as photographs are, and never the same."""
    noise = np.random.default_rng(rng.getrandbits(32))
    y, x = np.arange(height)[:, None], np.arange(width)[None]
    slant = 40 * np.sin(np.arange(width + height) / 90)[x + y]
    bands = []
    for _ in range(3):
        a, b, c = rng.uniform(9, 60), rng.uniform(9, 60), rng.uniform(0, 6)
        bands.append(125 + 70 * np.sin(x / a + c) * np.cos(y / b + c) + slant)
    grain = noise.normal(0, rng.uniform(2, 9), (height, width, 3))
    return Image.fromarray((np.stack(bands, -1) + grain).clip(0, 255).astype(np.uint8))


def _saved(form: str, **options: object) -> Callable[[random.Random], bytes]:
    def make(rng: random.Random) -> bytes:
        out = io.BytesIO()
        shape = picture(rng, rng.randrange(160, 900), rng.randrange(120, 700))
        shape.save(out, form, **options)
        return out.getvalue()
    return make


def _camera(rng: random.Random) -> bytes:
    shape = picture(rng, rng.choice((640, 800, 1024)), rng.choice((480, 600, 768)))
    minute = rng.randrange(60)
    return photos.encode_photo(shape, f"2031:05:12 05:{minute:02}:12", rng.randrange(100, 999),
                               rng.randrange(75, 95), progressive=rng.random() < 0.15)


def _wave(rng: random.Random) -> bytes:
    out = io.BytesIO()
    seconds = rng.uniform(0.4, 5)
    time = np.arange(int(22_050 * seconds)) / 22_050
    tone = np.sin(time * rng.uniform(900, 5000)) * np.sin(time * rng.uniform(1, 9)) * 9000
    tone += np.random.default_rng(rng.getrandbits(32)).normal(0, 60, time.size)
    with wave.open(out, "wb") as sound:
        sound.setparams((1, 2, 22_050, 0, "NONE", ""))
        sound.writeframes(tone.astype("<i2").tobytes())
    return out.getvalue()


def _text(rng: random.Random) -> bytes:
    words = ("otter", "holt", "weir", "spraint", "Fernbeck", "dawn", "reeds", "mist", "cubs",
             "upstream")
    lines = [" ".join(rng.choices(words, k=rng.randrange(4, 12))) + f" {rng.randrange(10**6)}."
             for _ in range(rng.randrange(3, 900))]
    return "\n".join(lines).encode() + b"\n"


def _pages(rng: random.Random) -> bytes:
    out = io.BytesIO()
    pages = [picture(rng, 200, 150) for _ in range(rng.randrange(1, 4))]
    when = time.gmtime(1_936_000_000 + rng.randrange(10**6))  # or else the clock decides
    pages[0].save(out, "PDF", save_all=True, append_images=pages[1:], creationDate=when,
                  modDate=when)
    return out.getvalue()


def _office(rng: random.Random) -> bytes:
    return documents.archive({"[Content_Types].xml": "<Types/>", "_rels/.rels": "<R/>",
                              "word/document.xml": f"<b>{_text(rng).decode()}</b>"})


def _database(rng: random.Random) -> bytes:
    return documents.database(rng.randrange(40, 2000))


def _junk(rng: random.Random) -> bytes:
    """No known format: now and then with stretches of zeros."""
    block = bytearray(rng.randbytes(rng.randrange(1, 400_000)))
    if rng.random() < 0.3:
        at = rng.randrange(len(block))
        block[at : at + 9000] = bytes(len(block[at : at + 9000]))
    return struct.pack("<Q", rng.getrandbits(63)) + bytes(block)


MAKERS: dict[str, Callable[[random.Random], bytes]] = {
    "jpg": _camera, "png": _saved("PNG"), "gif": _saved("GIF"), "bmp": _saved("BMP"),
    "tif": _saved("TIFF"), "webp": _saved("WEBP", quality=82), "wav": _wave, "txt": _text,
    "pdf": _pages, "docx": _office, "sqlite": _database, "dat": _junk,
}
WEIGHTS = {"jpg": 14, "png": 3, "gif": 1, "bmp": 2, "tif": 2, "webp": 2, "wav": 3, "txt": 4,
           "pdf": 2, "docx": 1, "sqlite": 1, "dat": 5, "mp4": 4, "mov": 2, "avi": 2, "mkv": 1,
           "mp3": 2, "heic": 1, "flac": 1, "aac": 1, "ts": 1}


@cache
def _pool(variant: str) -> tuple[bytes, ...]:
    return tuple(s.data for s in samples() if s.variant == variant)


def file(rng: random.Random) -> tuple[str, bytes]:
    """(extension, content) of a file."""
    kind = rng.choices(list(WEIGHTS), list(WEIGHTS.values()))[0]
    if kind in POOLED:
        return kind, rng.choice(_pool(POOLED[kind]))
    return kind, MAKERS[kind](rng)
