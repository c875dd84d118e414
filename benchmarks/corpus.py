"""The benchmark's medium: 2 GiB of noise, text and blank space with photos and clips in it."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable
from pathlib import Path

import numpy as np
import platformdirs

from needlewright.demo import card, clips, photos, scenes

SIZE = 2 << 30
LARGE = 4
CLIPS = 4
VERSION = 3
Laid = tuple[int, int, str]  # offset, size, kind


def build() -> tuple[Path, list[Laid]]:
    """(image, what lies on it); made once and kept in the user's cache."""
    return kept(f"v{VERSION}/medium", _write)


def kept(name: str, write: Callable[[Path], Iterable[Laid]]) -> tuple[Path, list[Laid]]:
    """(image, what lies on it) under `name`; `write` makes it where it is not there."""
    place = Path(platformdirs.user_cache_dir("needlewright")) / "benchmarks" / name
    image, listed = place.with_suffix(".img"), place.with_suffix(".json")
    if not listed.exists():
        image.parent.mkdir(parents=True, exist_ok=True)
        listed.write_text(json.dumps(list(write(image))))
    return image, [(a, b, kind) for a, b, kind in json.loads(listed.read_text())]


def _files() -> list[tuple[str, bytes]]:
    source = card.build()
    truth = json.loads((source.parent / card.TRUTH).read_text(encoding="utf-8"))
    found = []
    with source.open("rb") as medium:
        for file in truth["files"]:
            if file["media"] and file["intact"] and len(file["extents"]) == 1:
                medium.seek(file["extents"][0][0])
                found.append((file["kind"], medium.read(file["size"])))
    for index in range(LARGE):
        picture = scenes.draw_photo(900 + index, 6000, 4000, "Fernbeck Valley, 24 MP")
        found.append(("jpeg", photos.encode_photo(
            picture, "2031:05:12 05:58:12", 100 + index, 90)))
    for index in range(CLIPS):
        found.append(("mp4", clips.encode("mp4", seed=800 + index, frames=200, size=(1280, 720))))
    return found


def _write(image: Path) -> list[Laid]:
    rng = np.random.default_rng(1)
    files = _files()
    text = b"05:58;Reedmouth weir;3;mist\n" * 40_000
    step = SIZE // len(files) // 4096 * 4096
    laid: list[Laid] = []
    with image.open("wb") as out:
        for index, (kind, data) in enumerate(files):
            out.seek(index * step)
            out.write(data)
            laid.append((index * step, len(data), kind))
            out.write(bytes(-len(data) % 4096))
            room = (index + 1) * step - out.tell()
            filler = (rng.bytes(room), (text * (room // len(text) + 1))[:room], bytes(room))
            out.write(filler[index % 3])
        out.write(rng.bytes(SIZE - out.tell()))
    return laid
