"""A season's card for the pace benchmark: 300 photos of 8 to 24 megapixels and 40 clips of 720p to
2160p, written one behind another, as a card that was filled in order.

Photos are JPEG as cameras write them (baseline in 4:2:0, 4:2:2 and 4:4:4, some progressive, with an
EXIF thumbnail) and HEIC; clips are H.264 and HEVC with sound. Everything carries the noise of a
sensor: shot noise that grows with the light, blurred a little as by demosaicing.

`python -m benchmarks.season` builds it ahead of time; some ten minutes, 2 GB in the user's cache.
"""

from __future__ import annotations

import io
import os
import tempfile
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from functools import cache
from pathlib import Path
from typing import Any

import av
import numpy as np
from numba import njit
from PIL import Image

from benchmarks.corpus import Laid, kept
from needlewright.demo import clips, photos, scenes

VERSION = 1
PHOTOS, CLIPS = 300, 40
HEIC_EVERY, PROGRESSIVE_EVERY = 10, 10
SIZES = ((3264, 2448), (4000, 3000), (4608, 3072), (5184, 3456), (6000, 4000))
QUALITIES = (85, 90, 92, 95)
SAMPLINGS = ("4:2:0", "4:2:0", "4:2:2", "4:4:4")
# Width, height, frames, megabits a second.
FRAMES = ((1280, 720, 150, 10), (1280, 720, 150, 14), (1920, 1080, 125, 20), (1920, 1080, 125, 28),
          (3840, 2160, 50, 70))
FPS = 25
GROUNDS = 4
ALIGNED = 32 << 10


def build() -> tuple[Path, list[Laid]]:
    """(image, what lies on it); made once and kept in the user's cache."""
    return kept(f"season{VERSION}/season", _laid)


def _laid(image: Path) -> Iterator[Laid]:
    every = PHOTOS // CLIPS
    order: list[tuple[str, int]] = []
    for index in range(PHOTOS):
        order.append(("photo", index))
        if index % every == every - 1 and index // every < CLIPS:
            order.append(("clip", index // every))
    with image.open("wb") as out, ProcessPoolExecutor(os.cpu_count()) as pool:
        for kind, data in pool.map(_made, order):
            yield out.tell(), len(data), kind
            out.write(data + bytes(-len(data) % ALIGNED))


def _made(what: tuple[str, int]) -> tuple[str, bytes]:
    return _photo(what[1]) if what[0] == "photo" else _clip(what[1])


@cache
def _ground(seed: int) -> np.ndarray:
    """A scene at 24 megapixels and a little more, RGB."""
    return np.asarray(scenes.draw_photo(seed, 6400, 4300, "Fernbeck Valley"))


@cache
def _sensor_noise() -> np.ndarray:
    """Noise of unit strength, int8 in sixteenths, wider than any picture."""
    rough = np.random.default_rng(7).normal(0, 1, (4400, 6500)).astype(np.float32)
    blurred = (rough + np.roll(rough, 1, 0) + np.roll(rough, 1, 1) + np.roll(rough, 1, (0, 1))) / 2
    return (blurred * 16).clip(-127, 127).astype(np.int8)


@njit(cache=True)
def _lay(picture, noise, by_light, top, left, made):
    for y in range(picture.shape[0]):
        for x in range(picture.shape[1]):
            for c in range(3):
                grain = np.int32(noise[top[c] + y, left[c] + x]) * by_light[picture[y, x, c]]
                made[y, x, c] = min(max(np.int32(picture[y, x, c]) + (grain >> 12), 0), 255)


def _noisy(picture: np.ndarray, rng: np.random.Generator, strength: float) -> np.ndarray:
    """`picture` uint8[h, w, 3] as a sensor sees it; `strength`: grey levels in full light."""
    noise, made = _sensor_noise(), np.empty_like(picture)
    by_light = (256 * strength * np.sqrt(np.arange(256) / 255 + 0.05)).astype(np.int32)
    top, left = (rng.integers(0, noise.shape[axis] - picture.shape[axis], 3) for axis in (0, 1))
    _lay(picture, noise, by_light, top, left, made)
    return made


def _photo(index: int) -> tuple[str, bytes]:
    rng = np.random.default_rng(index)
    heic = index % HEIC_EVERY == HEIC_EVERY - 1
    width, height = (4000, 3000) if heic else SIZES[index % len(SIZES)]
    ground = _ground(40 + index % GROUNDS)
    top, left = (int(rng.integers(0, room)) for room in (
        ground.shape[0] - height, ground.shape[1] - width))
    view = _noisy(ground[top : top + height, left : left + width], rng, 2 + index % 5)
    picture = Image.fromarray(view)
    if heic:
        return "heic", _heic(picture)
    thumbnail = io.BytesIO()
    picture.resize(photos.THUMBNAIL, Image.Resampling.BOX).save(thumbnail, "JPEG", quality=80)
    exif = photos.exif_block(width, height, "2031:05:12 05:58:12", thumbnail.getvalue(),
                             60 + index % 900)
    out = io.BytesIO()
    picture.save(
        out, "JPEG", quality=QUALITIES[index % len(QUALITIES)], exif=exif,
        subsampling=SAMPLINGS[index // 5 % len(SAMPLINGS)],
        progressive=index % PROGRESSIVE_EVERY == 4)
    return "jpeg", out.getvalue()


def _heic(picture: Image.Image) -> bytes:
    import pillow_heif

    out = io.BytesIO()
    made = pillow_heif.from_pillow(picture)
    made.save(out, quality=45, enc_params={"preset": "ultrafast"})
    return out.getvalue()


def _clip(index: int) -> tuple[str, bytes]:
    width, height, frames, rate = FRAMES[index % len(FRAMES)]
    coding = "libx265" if index // len(FRAMES) % 2 else "libx264"
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "clip.mp4"
        with av.open(str(path), "w", format="mp4") as out:
            _write(out, coding, index, frames, (width, height), rate * 1_000_000)
        return "mp4", path.read_bytes()


def _write(out: Any, coding: str, index: int, frames: int, size: tuple[int, int],
           rate: int) -> None:
    width, height = size
    options = {"preset": "ultrafast" if coding == "libx265" else "veryfast"}
    if coding == "libx265":
        options["x265-params"] = f"log-level=none:keyint={FPS}"
    else:
        options["g"] = str(FPS // 2)
    picture = out.add_stream(coding, rate=FPS, options=options)
    picture.width, picture.height, picture.pix_fmt = width, height, "yuv420p"
    picture.bit_rate = rate if coding == "libx264" else rate * 2 // 3
    sound = out.add_stream("aac", rate=clips.RATE)
    sound.layout, sound.bit_rate = "stereo", 128_000
    resampler = av.AudioResampler(format=sound.format, layout="stereo", rate=clips.RATE)
    rng = np.random.default_rng(index)
    ground = _ground(40 + index % GROUNDS)
    step = clips.RATE // FPS
    for at in range(frames):
        x, y = at * 4 % 512, at * 2 % 256
        view = _noisy(ground[y : y + height, x : x + width], rng, 3)
        image = av.VideoFrame.from_ndarray(view, "rgb24").reformat(format="yuv420p")
        image.pts = at
        out.mux(picture.encode(image))
        block = av.AudioFrame.from_ndarray(
            clips.tone(at * step, step, index)[None], "flt", "mono")
        block.sample_rate, block.pts = clips.RATE, at * step
        for made in resampler.resample(block):
            out.mux(sound.encode(made))
    out.mux(picture.encode())
    out.mux(sound.encode())


if __name__ == "__main__":
    print(*build()[:1])
