"""`python -m benchmarks.broken [--seeds N] [-v]`: damaged photographs of twenty made-up cameras.

Each photograph is damaged in `WAYS`, once as a file that `check` looks at and once on a medium
that is searched by signature. Counted: how many are found; bytes delivered of the bytes that are
there in front of the damage; how far the share that is reported lies from what a decoder reached:
Pillow's first row of the damaged file that differs from the intact one.
"""

from __future__ import annotations

import argparse
import io
import random
import tempfile
import threading
from collections import defaultdict
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from PIL import Image, ImageFile
from tests.media.cameras import CAMERAS, Camera, photograph

from needlewright.core.finds import Find
from needlewright.core.search.engine import search
from needlewright.core.search.events import Found, Rechecked
from needlewright.core.search.examining import examine
from needlewright.core.search.plan import Plan
from needlewright.core.sources.files import ImageFile as Medium

CLUSTER, SECTOR = 4096, 512
HEAD = 0.35  # of a file, in front of which no damage is laid: headers and the first rows
NEAR = 0.02


def _tail(data: bytes, at: int, rng: random.Random, patch: bytes) -> bytes:
    return data[:at] + patch[: len(data) - at].ljust(len(data) - at, b"\0")


def _noise(data: bytes, at: int, rng: random.Random) -> bytes:
    return _tail(data, at, rng, rng.randbytes(len(data) - at))


def _zeros(data: bytes, at: int, rng: random.Random) -> bytes:
    return _tail(data, at, rng, b"")


def _sector(data: bytes, at: int, rng: random.Random) -> bytes:
    return data[:at] + bytes(min(SECTOR, len(data) - at)) + data[at + SECTOR:]


def _cluster(data: bytes, at: int, rng: random.Random) -> bytes:
    size = min(CLUSTER, len(data) - at)
    return data[:at] + rng.randbytes(size) + data[at + size:]


def _other(data: bytes, at: int, rng: random.Random) -> bytes:
    other = photograph(rng.choice(CAMERAS), 90)
    return _tail(data, at, rng, other * (1 + len(data) // len(other)))


def _cut(data: bytes, at: int, rng: random.Random) -> bytes:
    return data[:at]


WAYS: dict[str, Callable[[bytes, int, random.Random], bytes]] = {
    "rest overwritten with noise": _noise, "rest overwritten with zeros": _zeros,
    "rest overwritten with another photo": _other, "one sector zeroed": _sector,
    "one cluster overwritten": _cluster, "cut off": _cut}


@dataclass(frozen=True)
class Case:
    camera: Camera
    way: str
    data: bytes
    at: int  # the first byte that is not its own
    share: float | None  # that a decoder reaches; None where rows do not say
    intact: int


def cases(seeds: int) -> list[Case]:
    """Every camera, way and seed; damage begins at clusters, as on a medium."""
    rng, found = random.Random(5), []
    for seed in range(1, seeds + 1):
        for camera in CAMERAS:
            data = photograph(camera, seed)
            pixels = np.asarray(Image.open(io.BytesIO(data)).convert("RGB"))
            for way, damage in WAYS.items():
                first = max(int(len(data) * HEAD), data.rindex(b"\xff\xda") + CLUSTER
                            if not camera.progressive else 0)
                at = rng.randrange(first, len(data) - CLUSTER) // CLUSTER * CLUSTER
                broken = damage(data, at, rng)
                share = None if camera.progressive else reached(broken, pixels)
                found.append(Case(camera, way, broken, at, share, len(data)))
            found.append(Case(camera, "last byte missing", data[:-1], len(data) - 1,
                              None if camera.progressive else 1.0, len(data)))
    return found


def reached(broken: bytes, pixels: np.ndarray) -> float:  # type: ignore[type-arg]
    """Part of the rows down to the first that Pillow shows otherwise than in the intact file."""
    ImageFile.LOAD_TRUNCATED_IMAGES = True
    try:
        shown = np.asarray(Image.open(io.BytesIO(broken)).convert("RGB"))
    except OSError:
        return 0.0
    finally:
        ImageFile.LOAD_TRUNCATED_IMAGES = False
    differs = (shown != pixels).any(axis=(1, 2))
    return float(np.argmax(differs)) / len(pixels) if differs.any() else 1.0


def by_check(every: list[Case], folder: Path) -> list[Find | None]:
    paths = []
    for number, case in enumerate(every):
        paths.append(folder / f"DSC_{number:05}.JPG")
        paths[-1].write_bytes(case.data)
    found = [done.find for done in examine(paths, threading.Event())]
    for path in paths:
        path.unlink()
    return found


def by_search(every: list[Case], folder: Path) -> list[Find | None]:
    rng, medium, places = random.Random(8), folder / "card.img", []
    with medium.open("wb") as out:
        for case in every:
            places.append(out.tell())
            out.write(case.data)
            out.write(rng.randbytes(-out.tell() % CLUSTER))
            out.write(rng.randbytes(CLUSTER * rng.randint(1, 3)))
    found: dict[int, Find] = {}
    with Medium(medium) as source:
        for event in search(source, Plan(steps=("signatures",)), threading.Event()):
            if isinstance(event, Found | Rechecked):
                found[event.find.start] = event.find
    medium.unlink()
    return [found.get(place) for place in places]


def report(title: str, every: list[Case], found: list[Find | None], verbose: bool) -> None:
    print(f"\n{title}\n| way | files | found | delivered of what is there | share within 0.02 "
          "| called whole |\n|---|---|---|---|---|---|")
    rows: dict[str, list[tuple[Case, Find | None]]] = defaultdict(list)
    for case, find in zip(every, found):
        rows[case.way].append((case, find))
    for way, pairs in [*rows.items(), ("all", list(zip(every, found)))]:
        there = sum(case.at for case, _ in pairs)
        back = sum(min(case.at, find.size) for case, find in pairs if find is not None)
        known = [(c, f) for c, f in pairs if c.share is not None]
        near = sum(f is not None and abs(f.share - (c.share or 0)) <= NEAR for c, f in known)
        whole = sum(f is not None and str(f.grade) == "whole" for _, f in pairs)
        print(f"| {way} | {len(pairs)} | {sum(f is not None for _, f in pairs)} "
              f"| {back / there:.4f} | {near} of {len(known)} | {whole} |")
        if verbose and way != "all":
            for case, find in pairs:
                if find is None or find.size < case.at * 0.98 or (
                        case.share is not None and abs(find.share - case.share) > NEAR):
                    told = None if find is None else (
                        find.size, str(find.grade), find.share, find.damage_row,
                        find.broken.why if find.broken else None)
                    print("   ", case.camera.name, len(case.data), case.at, case.share, told)


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--seeds", type=int, default=7)
    parser.add_argument("-v", action="store_true")
    asked = parser.parse_args()
    every = cases(asked.seeds)
    with tempfile.TemporaryDirectory() as folder:
        report("Looked at as files (`check`)", every, by_check(every, Path(folder)), asked.v)
        report("Searched by signature", every, by_search(every, Path(folder)), asked.v)


if __name__ == "__main__":
    main()
