"""Photographs and clips of the tests of mending, whole and damaged, and what a viewer makes of
them."""

from __future__ import annotations

import io
import random
import threading
from functools import cache
from pathlib import Path
from typing import Any

import av
import numpy as np
from benchmarks.families import photograph
from benchmarks.mending import shown as seen
from benchmarks.mending_damage import boxes as boxes
from benchmarks.mending_damage import coded_start

from needlewright.core.mending.treating import Treated, treat
from needlewright.demo import clips, photos

TAKEN = "2031:05:12 05:58:12"
WITHIN = 3  # grey levels that no eye tells apart


@cache
def photo(seed: int, width: int = 720, height: int = 528, **options: Any) -> bytes:
    """A photograph with grain and structure, as the survey's camera writes it."""
    return photos.encode_photo(photograph(random.Random(seed), width, height), TAKEN, 200, 90,
                               **options)


@cache
def bare(seed: int, width: int = 720, height: int = 528, **options: Any) -> bytes:
    """The same without EXIF and thumbnail."""
    out = io.BytesIO()
    photograph(random.Random(seed), width, height).save(out, "JPEG", **{"quality": 90, **options})
    return out.getvalue()


@cache
def clip(container: str = "mp4", video: str = "libx264", audio: str | None = "aac", seed: int = 70,
         frames: int = 60, front: bool = False) -> bytes:
    coder = {"x265-params": "log-level=none"} if video == "libx265" else {"g": "25"}
    return clips.encode(container, video, audio, seed, frames, (320, 240),
                        options={"movflags": "faststart"} if front else None, coder=coder)


def inside(data: bytes, share: float) -> int:
    """A sector of the coded data, so far into it."""
    begin = coded_start(data)
    return (begin + int((len(data) - begin) * share)) // 512 * 512


def kept(data: bytes, truth: bytes, patient: bool = False) -> float:
    """Share of the pixels of `truth` that `data` shows within 3 levels."""
    picture, original = seen(data, patient), seen(truth)
    assert original is not None
    if picture is None or picture.shape != original.shape:
        return 0.0
    return float((np.abs(picture - original).max(2) <= WITHIN).mean())


def mended(folder: Path, name: str, data: bytes, *references: bytes) -> Treated:
    """Write `data` into `folder` as a loose file and mend it."""
    made = folder / "in"
    made.mkdir(exist_ok=True)
    (folder / "out").mkdir(exist_ok=True)
    (made / name).write_bytes(data)
    suffix = name.rpartition(".")[2]
    others = []
    for number, other in enumerate(references):
        others.append(folder / f"sibling {number}.{suffix}")
        others[-1].write_bytes(other)
    (done,) = treat([made / name], folder / "out", others, threading.Event())
    return done


def frames_of(data: bytes) -> tuple[list[bytes], list[float], float]:
    """(each frame's grey picture, its time, seconds of sound) as FFmpeg decodes them."""
    pictures, times, sound = [], [], 0.0
    with av.open(io.BytesIO(data)) as file:
        for frame in file.decode(video=0):
            pictures.append(frame.to_ndarray(format="gray").tobytes())
            times.append(float(frame.time or 0))
    with av.open(io.BytesIO(data)) as file:
        if file.streams.audio:
            for frame in file.decode(audio=0):
                sound = float(frame.time or 0) + frame.samples / frame.sample_rate
    return pictures, times, sound
