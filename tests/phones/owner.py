"""A field phone with a few files, for tests."""

from __future__ import annotations

import hashlib
import random
from pathlib import Path

from needlewright.standins.phone.start import FieldPhone
from needlewright.standins.phone.state import PhoneFaults
from tests.support import camera_jpeg, noise, png

CAMERA = "inner/DCIM/Camera"


def folders(place: Path) -> list[dict[str, str]]:
    """Photos, removed and hidden ones, odd names, and a card."""
    files = {f"{CAMERA}/FP_{n:04}.jpg": camera_jpeg(n, 320, 240) for n in range(1, 7)}
    files |= {
        f"{CAMERA}/.trashed-1925000000-FP_0091.jpg": camera_jpeg(91, 320, 240),
        f"{CAMERA}/.pending-1925000000-FP_0092.jpg": noise(4000, 1),
        "inner/Decoys/.nomedia": b"", "inner/Decoys/FP_0007.jpg": camera_jpeg(7, 320, 240),
        "inner/Otter \U0001f9a6/Überblick.png": png(), "inner/large.bin": noise(9 << 20, 2),
        "card/DCIM/FP_0101.jpg": camera_jpeg(101, 320, 240),
    }
    for path, data in files.items():
        (place / path).parent.mkdir(parents=True, exist_ok=True)
        (place / path).write_bytes(data)
    return [{"label": "Inner", "kind": "inner", "folder": str(place / "inner")},
            {"label": "Card", "kind": "card", "folder": str(place / "card")}]


def many(count: int, size: int, **faults: object) -> FieldPhone:
    """A phone that is open, with made-up files alone."""
    phone = FieldPhone([{"label": "Inner", "kind": "inner"}],
                       PhoneFaults(made_up=count, size=size, **faults))
    phone.open()
    return phone


def sha256(path: Path) -> str:
    return hashlib.sha256(path.read_bytes()).hexdigest()


def by_path(truth: dict[str, str]) -> dict[str, list[str]]:
    """SHA-256 of the files at each path, of equal names several."""
    found: dict[str, list[str]] = {}
    for key, digest in truth.items():
        found.setdefault(key.partition(":")[2], []).append(digest)
    return {path: sorted(hashes) for path, hashes in found.items()}


def moments(seed: int, count: int, most: int) -> list[int]:
    """Amounts of bytes between random moments."""
    rng = random.Random(seed)
    return [rng.randrange(200, most) for _ in range(count)]
