"""`python -m benchmarks.healthy [--seeds N] [-v]`: healthy files, of which none may be doubted.

Photographs of made-up cameras with thumbnails of three shapes, pictures of every format that Pillow
writes, loud, quiet, noisy and silent sound of four widths, black pictures and such with black in
them, large archives, and every sample of the tests. Counted: whole; unproven without any doubt but
that their coding proves nothing; doubted.
"""

from __future__ import annotations

import argparse
import io
import tempfile
import threading
import wave
import zipfile
from collections import Counter
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
import pillow_heif
from PIL import Image
from tests.media import samples
from tests.media.cameras import CAMERAS, encode, scene

from needlewright.core.search.examining import examine
from needlewright.core.walks import Outcome

COMPRESSIONS = (None, "tiff_lzw", "tiff_deflate", "jpeg", "packbits")
RATE = 48_000


def sound(samples_: np.ndarray, bits: int, channels: int) -> bytes:  # type: ignore[type-arg]
    """A WAV file of samples from -1 to 1."""
    values = (np.clip(samples_, -1, 1) * (2 ** (bits - 1) - 1)).astype("<i8")
    raw = (values + 128).astype(np.uint8).reshape(-1, 1) if bits == 8 else (
        values.view(np.uint8).reshape(-1, 8)[:, : bits // 8])
    out = io.BytesIO()
    with wave.open(out, "wb") as file:
        file.setnchannels(channels)
        file.setsampwidth(bits // 8)
        file.setframerate(RATE)
        file.writeframes(np.repeat(raw, channels, axis=0).tobytes())
    return out.getvalue()


def sounds(seed: int) -> Iterator[tuple[str, bytes]]:
    rng, time = np.random.default_rng(seed), np.arange(RATE * 3) / RATE
    tone = np.sin(2 * np.pi * (200 + 40 * seed) * time) * np.sin(time * 3) ** 4
    quiet = np.where((time > 0.7) & (time < 1.4), tone, 0.0)  # digital silence around it
    for name, wave_ in (("tone", 0.5 * tone), ("low", 0.05 * tone), ("silence", quiet),
                        ("hiss", 0.9 * tone + 0.3 * rng.standard_normal(time.size)),
                        ("noise", rng.standard_normal(time.size))):
        for bits in (8, 16, 24, 32):
            yield f"{name}-{seed}-{bits}.wav", sound(wave_, bits, 1 + seed % 2)


def pictures(seed: int) -> Iterator[tuple[str, bytes]]:
    plain = scene(seed + 300, (1024, 683))
    black = plain.copy()
    black.paste((0, 0, 0), (200 + seed, 100, 800, 500))
    xmp = b"<?xpacket?><x:xmpmeta>" + b" " * (seed * 700) + b"</x:xmpmeta><?xpacket end='w'?>"
    for name, picture in (("scene", plain), ("black", black), ("all-black", Image.new(
            "RGB", (900, 600)))):
        for suffix, form, options in (
                ("png", "PNG", {}), ("bmp", "BMP", {}), ("gif", "GIF", {}),
                ("tif", "TIFF", {"compression": COMPRESSIONS[seed % 5]}),
                ("webp", "WEBP", {"quality": 50 + seed}), ("heic", "HEIF", {"xmp": xmp}),
                ("jpg", "JPEG", {"xmp": xmp, "progressive": bool(seed % 2)})):
            out = io.BytesIO()
            shown = picture.quantize() if form == "GIF" else picture
            shown.save(out, form, **options)
            yield f"{name}-{seed}.{suffix}", out.getvalue()


def photographs(seed: int) -> Iterator[tuple[str, bytes]]:
    for camera in CAMERAS:
        if camera.note[0] < 30_000:  # or else no thumbnail has room
            for thumbnail in ("fit", "barred", "cropped"):
                made = replace(camera, thumbnail=thumbnail)
                picture = scene(seed + 500, camera.size)
                yield f"{camera.name}-{seed}-{thumbnail}.jpg", encode(made, picture, seed)


def archive(members: int) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as file:
        for number in range(members):
            file.writestr(f"note {number}.txt", f"seen twice at weir {number}")
    return out.getvalue()


def everything(seeds: int) -> Iterator[tuple[str, bytes]]:
    for seed in range(seeds):
        yield from sounds(seed)
        yield from pictures(seed)
        yield from photographs(seed)
    yield "many.zip", archive(60_000)
    for number, sample in enumerate(samples()):
        yield f"sample-{number}.{sample.variant}", sample.data


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--seeds", type=int, default=10)
    parser.add_argument("-v", action="store_true")
    asked = parser.parse_args()
    pillow_heif.register_heif_opener()
    told: Counter[str] = Counter()
    with tempfile.TemporaryDirectory() as folder:
        paths = []
        for name, data in everything(asked.seeds):
            paths.append(Path(folder) / name)
            paths[-1].write_bytes(data)
        for done in examine(paths, threading.Event()):
            find = done.find
            against = [c.code for c in find.checks if c.outcome in (
                Outcome.FAIL, Outcome.DOUBT)] if find is not None else ["unreadable"]
            doubted = [code for code in against if code != "coding-silent"]
            grade = "doubted" if doubted or find is None else str(find.grade)
            told[grade] += 1
            if grade not in ("whole", "unproven"):
                print("  ", done.path.name, find and find.grade, doubted)
    print(f"{len(paths):,} healthy files: " + ", ".join(f"{n:,} {g}" for g, n in told.items()))


if __name__ == "__main__":
    main()
