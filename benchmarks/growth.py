"""`python -m benchmarks.growth [--sizes 100,400,1600]`: how stitching grows with the medium.

Media of a card's clusters without a file system: every 16 MiB a photo of eight megapixels in two
to four pieces, every 160 MiB a clip in as many, between them whole photos and, as a third of all,
the bodies of photos that have no head: what a search meets as candidates. Told: candidates, finds
that wait and that come back to the byte, seconds of the step in all and for each find, peak memory
of all processes. From the last medium a card of 64 GB with a thousand photos and a hundred clips
is computed.
"""

from __future__ import annotations

import argparse
import hashlib
import random
import tempfile
import threading
import time
from itertools import pairwise
from pathlib import Path

from benchmarks.families import photograph
from benchmarks.measure import Memory
from benchmarks.truth import digest
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.jobs.runner import run_search
from needlewright.core.search.plan import Plan
from needlewright.core.sources.files import ImageFile
from needlewright.demo import clips
from needlewright.demo.photos import encode_photo

UNIT = 32_768
BLOCK = 16 << 20  # bytes of the medium for each broken photo
CLIP_EVERY = 10  # blocks
STOCK = 14  # photos that are there whole, and as bodies, again and again
CARD_PHOTOS, CARD_CLIPS = 1000, 100


def _photo(rng: random.Random) -> bytes:
    return encode_photo(photograph(rng, 3264, 2448), "2031:05:12 05:58:12", rng.randrange(900), 92)


def _filled(data: bytes) -> bytes:
    return data + bytes(-len(data) % UNIT)


def build(path: Path, size: int, rng: random.Random) -> dict[str, str]:
    """Write the medium; the SHA-256 of each broken file, and what it is."""
    stock = [_filled(_photo(rng)) for _ in range(STOCK)]
    bodies = [body[2 * UNIT :] for body in (_filled(_photo(rng)) for _ in range(STOCK))]
    truth: dict[str, str] = {}
    with path.open("wb") as out:
        for number in range(size // BLOCK):
            files = [_photo(rng)]
            truth[hashlib.sha256(files[0]).hexdigest()] = "photo"
            if number % CLIP_EVERY == 1:
                files.append(clips.encode("mp4", frames=250, size=(640, 360), seed=number))
                truth[hashlib.sha256(files[1]).hexdigest()] = "clip"
            pieces: list[list[bytes]] = []
            for data in files:
                count = -(-len(data) // UNIT)
                cuts = sorted(rng.sample(range(1, count), rng.randint(1, 3)))
                edges = [0, *(c * UNIT for c in cuts), len(data)]
                pieces.append([_filled(data[a:b]) for a, b in pairwise(edges)])
            left = BLOCK - sum(len(p) for mine in pieces for p in mine)
            between: list[bytes] = []
            while left > 0:
                turn = rng.choice(stock if rng.random() < 0.6 else bodies)
                if len(turn) > left:
                    turn = bodies[0][: left // UNIT * UNIT]
                between.append(turn)
                left -= len(turn)
            line = list(between)
            for mine in pieces:
                places = sorted(rng.sample(range(len(line) + 1), min(len(mine), len(line) + 1)))
                for shift, (place, piece) in enumerate(zip(places, mine)):
                    line.insert(place + shift, piece)
            out.write(b"".join(line))
    return truth


def measured(size: int, seed: int) -> tuple[float, int, int]:
    """(seconds of the step, finds that waited, bytes of candidates) of a medium of `size` MiB."""
    with tempfile.TemporaryDirectory() as folder:
        image = Path(folder) / "card.img"
        truth = build(image, size << 20, random.Random(seed))
        job, row = job_for_image(Path(folder) / "job", image)
        waiting = solved = 0
        with job:
            for _ in run_search(job, row, Plan(("signatures",)), threading.Event()):
                pass
            memory = Memory()
            memory.start()
            began = time.monotonic()
            for event in run_search(job, row, Plan(("stitching",)), threading.Event()):
                waiting = max(waiting, getattr(event, "waiting", 0) or 0)
                solved = max(solved, getattr(event, "solved", 0) or 0)
            seconds = time.monotonic() - began
            memory.ending.set()
            memory.join()
            with ImageFile(image) as source:
                back = {digest(source, job.record(f.id)) for f in job.matching()
                        if f.grade != "gone"}
                owned = sum(f.size for f in job.matching() if f.grade == "whole")
        free = max(0, (size << 20) - owned)
        found = sum(sha in back for sha in truth)
        print(f"{size:>6} MiB: {free >> 20:>5} MiB of candidates, {waiting:>4} waited, "
              f"{solved:>4} solved, {found} of {len(truth)} back; {seconds:>6.1f} s, "
              f"{seconds / max(1, waiting):.2f} s a find, peak {memory.peak >> 20} MiB", flush=True)
        return seconds, waiting, free


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--sizes", default="100,400,1600")
    parser.add_argument("--seed", type=int, default=1)
    options = parser.parse_args()
    seconds = waiting = 0.0
    for size in map(int, options.sizes.split(",")):
        seconds, waiting, _ = measured(size, options.seed)
    card = (CARD_PHOTOS + CARD_CLIPS) * seconds / max(1, waiting)
    print(f"a card of 64 GB with {CARD_PHOTOS:,} photos and {CARD_CLIPS} clips at the last rate: "
          f"{card / 60:.0f} min")


if __name__ == "__main__":
    main()
