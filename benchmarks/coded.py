"""`python -m benchmarks.coded [RUNS]`: the JPEG walk (headers, coded data, damage) of a season's
photos against Pillow's full decode of the same, in CPU seconds of one thread; medians.
"""

from __future__ import annotations

import io
import statistics
import sys
import time

from PIL import Image

from benchmarks import season
from needlewright.core.formats.registry import formats
from needlewright.core.sources.memory import MemorySource
from needlewright.core.warming import warm

PHOTOS = 24


def main(runs: int) -> None:
    image, listed = season.build()
    warm()
    walk = formats()["jpeg"].walk
    kinds: dict[str, list[bytes]] = {"baseline": [], "progressive": []}
    with image.open("rb") as medium:
        for offset, size, kind in listed:
            medium.seek(offset)
            data = medium.read(size) if kind == "jpeg" else b""
            if data:
                progressive = bool(Image.open(io.BytesIO(data)).info.get("progressive"))
                kinds[("baseline", "progressive")[progressive]].append(data)
    for name, photos in kinds.items():
        photos = photos[:PHOTOS]
        ratios, ours = [], []
        for _ in range(runs):
            took = theirs = 0.0
            for data in photos:  # in turns, since the machine's speed drifts
                began = time.thread_time()
                found = walk(MemorySource(data), 0, len(data))
                between = time.thread_time()
                Image.open(io.BytesIO(data)).load()
                took, theirs = took + between - began, theirs + time.thread_time() - between
                if found.broken is not None or not found.ended:
                    raise RuntimeError("an intact photo is called damaged")
            ratios.append(theirs / took)
            ours.append(sum(map(len, photos)) / took / 1e6)
        print(f"{name:<12} {len(photos)} photos: {statistics.median(ratios):.2f} times as fast "
              f"({min(ratios):.2f} to {max(ratios):.2f}); {statistics.median(ours):.0f} MB/s")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 5)
