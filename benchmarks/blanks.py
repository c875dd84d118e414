"""`python -m benchmarks.blanks [--seeds N] [-v]`: plain samples with blank sectors among them.

Sounds of four widths and of floating numbers, BMP and TIFF pictures (noisy, smooth, dark, drawn, 8
and 16 bit), each healthy and with 512 bytes, 4 KiB and 64 KiB of zeros at a sector in their midst.
Counted: gaps that are told with their place; healthy ones that are doubted.
"""

from __future__ import annotations

import argparse
import io
import struct
import tempfile
import threading
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

import numpy as np
from PIL import Image, ImageDraw, ImageFilter
from tests.media.cameras import scene

from benchmarks.healthy import RATE, sound
from needlewright.core.search.examining import examine
from needlewright.core.walks import Outcome

SECTOR = 512
GAPS = (SECTOR, 4096, 65_536)


def floating(wave: np.ndarray, bits: int) -> bytes:  # type: ignore[type-arg]
    """A WAV file of floating numbers (format tag 3)."""
    raw = wave.astype(f"<f{bits // 8}").tobytes()
    form = struct.pack("<HHIIHH", 3, 1, RATE, RATE * bits // 8, bits // 8, bits)
    body = b"fmt " + struct.pack("<I", 16) + form + b"data" + struct.pack("<I", len(raw)) + raw
    return b"RIFF" + struct.pack("<I", len(body) + 4) + b"WAVE" + body


def sounds(seed: int) -> Iterator[tuple[str, bytes]]:
    rng, time = np.random.default_rng(seed), np.arange(RATE * 3) / RATE
    pure = 0.6 * np.sin(2 * np.pi * (60 + 35 * seed) * time)
    beats = pure * (np.sin(2 * np.pi * 2 * time) > 0)  # cut hard between sound and silence
    fades = pure * np.clip(np.sin(2 * np.pi * 1.5 * time), 0, 1)
    for name, wave in (("pure", pure), ("beats", beats), ("fades", fades),
                       ("soft", 0.004 * pure), ("hiss", 0.3 * rng.standard_normal(time.size))):
        for bits in (8, 16, 24, 32):
            yield f"{name}-{seed}-{bits}.wav", sound(wave, bits, 1 + seed % 2)
        yield f"{name}-{seed}-float.wav", floating(wave, 32 + 32 * (seed % 2))


def pictures(seed: int) -> Iterator[tuple[str, bytes]]:
    wide, high = 640 + 64 * seed, 480
    y, x = np.mgrid[:high, :wide]
    ramp = np.stack([x * 250 // wide, y * 250 // high, (x + y) * 250 // (wide + high)], -1)
    drawn = Image.new("RGB", (wide, high), (250, 244, 230))
    pen = ImageDraw.Draw(drawn)
    for turn in range(40):
        at = (turn * 97 + seed * 31) % wide, turn * 53 % high
        pen.rectangle((*at, at[0] + 20 * turn, at[1] + 60), fill=(0, 0, 0) if turn % 2 else (
            255, 255, 255))
    night = scene(seed, (wide, high)).point(lambda value: max(0, value - 120))
    barred = Image.new("RGB", (wide, high))
    barred.paste(scene(seed, (wide, high - 120)), (0, 60))
    soft = scene(seed, (wide, high)).filter(ImageFilter.GaussianBlur(20))
    for name, picture in (
            ("ramp", Image.fromarray((ramp + 3).astype(np.uint8))), ("drawn", drawn),
            ("night", night), ("barred", barred), ("scene", scene(seed, (wide, high))),
            ("soft", soft), ("gray", soft.convert("L")),
            ("deep", Image.fromarray((x * 65_000 // wide + 40 + y).astype(np.uint16)))):
        for suffix in ("bmp", "tif"):
            if name != "deep" or suffix == "tif":
                out = io.BytesIO()
                picture.save(out, "TIFF" if suffix == "tif" else "BMP")
                yield f"{name}-{seed}.{suffix}", out.getvalue()


def gaps(data: bytes, rng: np.random.Generator) -> Iterator[tuple[int, int, bytes]]:
    """(offset, bytes, file) with a gap in the midst of what is not blank already."""
    for size in GAPS:
        for _ in range(50):
            at = int(rng.integers(8, (len(data) - size) // SECTOR - 8)) * SECTOR
            here = np.frombuffer(data, np.uint8)
            beside = here[at - 64 : at], here[at + size : at + size + 64]
            if all(np.count_nonzero(side) > 48 for side in beside):
                yield at, size, data[:at] + bytes(size) + data[at + size :]
                break


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--seeds", type=int, default=8)
    parser.add_argument("-v", action="store_true")
    asked = parser.parse_args()
    told: Counter[tuple[str, int, str]] = Counter()
    rng = np.random.default_rng(8)
    with tempfile.TemporaryDirectory() as folder:
        cases: list[tuple[Path, int, int]] = []
        for seed in range(asked.seeds):
            for name, data in (*sounds(seed), *pictures(seed)):
                made = [(0, 0, data), *gaps(data, rng)]
                for at, size, changed in made:
                    cases.append((Path(folder) / f"{size}-{name}", at, size))
                    cases[-1][0].write_bytes(changed)
        for (path, at, size), done in zip(cases, examine([c[0] for c in cases],
                                                         threading.Event())):
            checks = done.find.checks if done.find is not None else ()
            places = [c.values.get("offset") for c in checks
                      if c.outcome in (Outcome.DOUBT, Outcome.FAIL) and c.code != "coding-silent"]
            result = ("doubted" if places else "clear") if not size else (
                "told" if at in places else "elsewhere" if places else "missed")
            told[path.suffix, size, result] += 1
            if asked.v and result in ("doubted", "elsewhere", "missed"):
                print(path.name, at, result, places)
    for (suffix, size, result), count in sorted(told.items()):
        print(f"{suffix} {f'gap of {size:,}' if size else 'healthy'}: {result} {count:,}")


if __name__ == "__main__":
    main()
