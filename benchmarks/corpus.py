"""The benchmark's medium: 1.25 GiB of noise, text and blank space with photos up to 24 MP in it."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import platformdirs

from needlewright.demo import card, photos, scenes

SIZE = 1280 << 20
LARGE = 4
VERSION = 2


def build() -> tuple[Path, list[tuple[int, int]]]:
    """(image, extents of its photos); made once and kept in the user's cache."""
    folder = Path(platformdirs.user_cache_dir("needlewright")) / "benchmarks" / f"v{VERSION}"
    image, listed = folder / "medium.img", folder / "medium.json"
    if not listed.exists():
        folder.mkdir(parents=True, exist_ok=True)
        extents = _write(image)
        listed.write_text(json.dumps(extents))
    return image, [(a, b) for a, b in json.loads(listed.read_text())]


def _photos() -> list[bytes]:
    source = card.build()
    truth = json.loads((source.parent / card.TRUTH).read_text(encoding="utf-8"))
    found = []
    with source.open("rb") as medium:
        for file in truth["files"]:
            if file["kind"] == "jpeg" and file["intact"]:
                medium.seek(file["extents"][0][0])
                found.append(medium.read(file["size"]))
    for index in range(LARGE):
        picture = scenes.draw_photo(900 + index, 6000, 4000, "Fernbeck Valley, 24 MP")
        found.append(photos.encode_photo(picture, "2031:05:12 05:58:12", 100 + index, 90))
    return found


def _write(image: Path) -> list[tuple[int, int]]:
    rng = np.random.default_rng(1)
    files = _photos()
    text = b"05:58;Reedmouth weir;3;mist\n" * 40_000
    step = SIZE // len(files) // 4096 * 4096
    extents = []
    with image.open("wb") as out:
        for index, data in enumerate(files):
            out.seek(index * step)
            out.write(data)
            extents.append((index * step, len(data)))
            out.write(bytes(-len(data) % 4096))
            room = (index + 1) * step - out.tell()
            filler = (rng.bytes(room), (text * (room // len(text) + 1))[:room], bytes(room))
            out.write(filler[index % 3])
        out.write(rng.bytes(SIZE - out.tell()))
    return extents
