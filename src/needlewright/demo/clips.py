"""Clips and recordings of the survey, encoded by FFmpeg's libraries: a camera pans over a scene."""

from __future__ import annotations

import tempfile
from collections.abc import Mapping
from functools import cache
from pathlib import Path
from typing import Any

import av
import numpy as np

from needlewright.demo import scenes

FPS, RATE = 25, 48_000


@cache
def _ground(seed: int, width: int, height: int) -> np.ndarray:
    picture = scenes.draw_photo(seed, width + 64, height + 32, "Fernbeck Valley")
    return np.asarray(picture.convert("RGB"))


def frame(seed: int, index: int, width: int, height: int) -> np.ndarray:
    """A scene that the camera pans over, with fine noise, so that every frame differs."""
    ground = _ground(seed, width, height)
    x, y = index * 2 % 64, index % 32
    noise = np.random.default_rng(seed * 1000 + index).integers(-6, 7, (height, width, 1))
    view = ground[y : y + height, x : x + width].astype(int)
    return np.clip(view + noise, 0, 255).astype(np.uint8)


def tone(start: int, count: int, seed: int = 0) -> np.ndarray:
    """Samples of a wavering tone, float in -1 to 1."""
    at = np.arange(start, start + count)
    rough = np.random.default_rng(seed + start).normal(0, 0.01, count)
    return (0.3 * np.sin(at / (17 + seed % 5)) * (1 + 0.5 * np.sin(at / 9000)) + rough).astype(
        np.float32)


def encode(container: str, video: str = "libx264", audio: str | None = "aac", seed: int = 60,
           frames: int = 50, size: tuple[int, int] = (320, 240),
           options: Mapping[str, str] | None = None, coder: Mapping[str, str] | None = None,
           rate: int = RATE) -> bytes:
    """A whole clip as the bytes of its file."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "clip"
        with av.open(str(path), "w", format=container, options=dict(options or {})) as out:
            _write(out, video, audio, seed, frames, size, dict(coder or {}), rate)
        return path.read_bytes()


def _write(out: Any, video: str, audio: str | None, seed: int, frames: int,
           size: tuple[int, int], coder: dict[str, str], rate: int) -> None:
    # The trees of x264's rate control differ from run to run, and threads from machine to machine.
    steady = {"mbtree": "0", "threads": "2"} if video == "libx264" else {}
    picture = out.add_stream(video, rate=FPS, options={**steady, **coder})
    picture.width, picture.height = size
    picture.pix_fmt = "yuvj420p" if video == "mjpeg" else (
        "yuv422p10le" if video == "prores_ks" else "yuv420p")
    picture.bit_rate = 400_000
    sound = out.add_stream(audio, rate=rate) if audio else None
    if sound is not None:
        sound.layout = "mono"
        sound.bit_rate = 64_000
    resampler = av.AudioResampler(
        format=sound.format if sound else "s16", layout="mono", rate=rate)
    step = rate // FPS
    for index in range(frames):
        image = av.VideoFrame.from_ndarray(frame(seed, index, *size), "rgb24")
        image = image.reformat(format=picture.pix_fmt)
        image.pts = index
        out.mux(picture.encode(image))
        if sound is not None:
            block = av.AudioFrame.from_ndarray(
                tone(index * step, step, seed)[None], "flt", "mono")
            block.sample_rate, block.pts = rate, index * step
            for made in resampler.resample(block):
                out.mux(sound.encode(made))
    out.mux(picture.encode())
    if sound is not None:
        out.mux(sound.encode())


def record(container: str, coding: str, seed: int, seconds: float, rate: int = RATE,
           options: Mapping[str, str] | None = None, bit_rate: int | None = None) -> bytes:
    """A mono recording as the bytes of its file."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "sound"
        with av.open(str(path), "w", format=container, options=dict(options or {})) as out:
            stream = out.add_stream(coding, rate=rate)
            stream.layout = "mono"
            if bit_rate:
                stream.bit_rate = bit_rate
            resampler = av.AudioResampler(format=stream.format, layout="mono", rate=rate)
            for at in range(0, int(seconds * rate), 1024):
                block = av.AudioFrame.from_ndarray(tone(at, 1024, seed)[None], "flt", "mono")
                block.sample_rate, block.pts = rate, at
                for made in resampler.resample(block):
                    out.mux(stream.encode(made))
            out.mux(stream.encode())
        return path.read_bytes()
