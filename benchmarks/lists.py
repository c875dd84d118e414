"""`python -m benchmarks.lists [--n 30] [--kinds ext2,ext4,xfs,btrfs,ntfs] [-v]`: removed files.

A real driver writes photographs and clips in turns, removes some, writes others into the gaps, and
removes most of these. On ext4 and btrfs each turn is flushed to the medium, or the driver would put
each file into one piece, and some cards of ext4 have no journal; XFS and NTFS are filled with small
files first, of which every other one is removed. Counted: removed files of which every block still
stands on the medium, and how many of them come back byte for byte. Needs root, loop devices and
ntfs-3g.
"""

from __future__ import annotations

import argparse
import contextlib
import hashlib
import os
import random
import subprocess
import tempfile
import threading
import time
from collections import Counter
from pathlib import Path

from tests.media.cameras import CAMERAS, photograph

from needlewright.core.contents import Place
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.jobs.runner import run_search
from needlewright.core.search.plan import Plan
from needlewright.core.sources.files import ImageFile
from needlewright.demo import clips

MIB, STEPS = 1 << 20, ("records", "old-records", "signatures")
BLOCKS = (1024, 2048, 4096)
UNIT = 512  # bytes that are looked for
CRUMBLED = {"xfs": (304, 340, 20), "ntfs": (80, 120, 12)}  # MiB: size from, to; held back


def media() -> list[tuple[str, bytes]]:
    """Photographs and clips, 30 KB to 2 MB."""
    found = [(f"BF_{n:04}.JPG", photograph(camera, n)) for n, camera in enumerate(CAMERAS * 2)]
    for n in range(8):
        found.append((f"CLIP{n}.MP4", clips.encode("mp4", seed=n, frames=20 * (n + 1),
                                                   size=(640, 360))))
    return found


class Card:
    """A mounted volume. `gone`: (name, content, blocks) of what was removed."""

    def __init__(self, folder: Path, kind: str, block: int, size: int, rng: random.Random) -> None:
        self.image, self.block, self.rng = folder / "card.img", block, rng
        self.point = folder / "mounted"
        self.point.mkdir()
        with self.image.open("wb") as out:
            out.truncate(size)
        self.flushed = kind in ("ext4", "btrfs")
        plain = ["-O", "^has_journal"] if kind == "ext4" and rng.random() < 0.5 else []
        options = {"xfs": ["-q", "-b", f"size={block}"], "btrfs": ["-q"],
                   "ntfs": ["-q", "-F", "-Q", "-c", str(block)]}.get(
                       kind, ["-q", "-F", "-b", str(block), *plain])
        subprocess.run(["mkfs." + kind, *options, self.image], check=True, capture_output=True)
        command = ["ntfs-3g"] if kind == "ntfs" else ["mount", "-o", "loop"]
        subprocess.run([*command, self.image, self.point], check=True)
        self.there: dict[str, bytes] = {}
        self.gone: list[tuple[str, bytes]] = []
        if kind in CRUMBLED:
            self._crumble(CRUMBLED[kind][2])

    def _crumble(self, held_back: int) -> None:
        """Leave free room in small stretches alone."""
        fill = self.point / "fill"
        fill.mkdir()
        names = []
        with contextlib.suppress(OSError):  # no room left
            while True:
                names.append(fill / f"{len(names):05}")
                names[-1].write_bytes(bytes(self.rng.choice((4, 8, 16)) * 1024))
        for name in names[::2]:
            name.unlink(missing_ok=True)
        # What the driver had held back lies in one piece.
        (self.point / "first").write_bytes(bytes(held_back * MIB))

    def write(self, files: list[tuple[str, bytes]], step: int) -> None:
        """Write files in turns of `step` bytes, as far as there is room."""
        open_ones = [(name, data, (self.point / name).open("wb")) for name, data in files]
        with contextlib.suppress(OSError):  # no room left
            for at in range(0, max(len(d) for _, d in files), step):
                for _, data, out in open_ones:
                    out.write(data[at : at + step])
                    out.flush()
                    if self.flushed:
                        os.fsync(out.fileno())
        for name, data, out in open_ones:
            with contextlib.suppress(OSError):
                out.close()
            if (self.point / name).stat().st_size == len(data):
                self.there[name] = data
            else:
                (self.point / name).unlink()

    def remove(self, share: float) -> None:
        subprocess.run(["sync"], check=True)
        for name in self.rng.sample(sorted(self.there), int(len(self.there) * share)):
            self.gone.append((name, self.there.pop(name)))
            (self.point / name).unlink()

    def close(self) -> None:
        subprocess.run(["umount", self.point], check=True)

    def standing(self) -> dict[str, str]:
        """SHA-256 -> name of the removed files of which every block stands somewhere."""
        there = set()
        with self.image.open("rb") as medium:
            while held := medium.read(UNIT):
                there.add(hashlib.blake2b(held, digest_size=16).digest())
        found = {}
        for name, data in self.gone:
            pieces = (data[at : at + UNIT].ljust(UNIT, b"\0") for at in range(0, len(data), UNIT))
            if all(hashlib.blake2b(p, digest_size=16).digest() in there for p in pieces):
                found[hashlib.sha256(data).hexdigest()] = name
        return found


def make(seed: int, folder: Path, files: list[tuple[str, bytes]],
         kinds: list[str]) -> tuple[Card, str]:
    rng = random.Random(seed)
    # Each kind with each size of blocks.
    turn = seed // len(kinds) if len(kinds) % 3 == 0 else seed
    kind, block = kinds[seed % len(kinds)], BLOCKS[turn % 3]
    sizes = CRUMBLED.get(kind, (112, 140) if kind == "btrfs" else (16, 40))[:2]
    card = Card(folder, kind, block, rng.randrange(*sizes) * MIB, rng)
    try:
        picked = rng.sample(files, len(files))
        for at in range(0, 24, 4):
            card.write(picked[at : at + rng.choice((1, 2, 4))], rng.choice((16, 64, 256)) * 1024)
        card.remove(0.5)
        for at in range(24, len(picked), 3):
            card.write(picked[at : at + rng.choice((1, 2))], 64 * 1024)
        card.remove(0.6)
    finally:
        subprocess.run(["sync"], check=True)
        card.close()
    return card, f"{kind}, blocks of {block:,}"


def back(card: Card, folder: Path) -> tuple[set[str], int]:
    """(SHA-256 of every find that is whole, finds called whole that were no file)."""
    job, source = job_for_image(folder / "job", card.image)
    with job:
        for _ in run_search(job, source, Plan(steps=STEPS), threading.Event()):
            pass
        found, ever = set(), {hashlib.sha256(d).hexdigest() for _, d in card.gone}
        ever |= {hashlib.sha256(d).hexdigest() for d in card.there.values()}
        false = 0
        with ImageFile(card.image) as medium:
            for row in job.matching():
                if row.grade == "whole":
                    file = job.record(row.id).content.open(Place(medium, job.folder))
                    digest = hashlib.sha256(file.read_at(0, file.size)).hexdigest()
                    found.add(digest)
                    false += digest not in ever
    return found, false


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--n", type=int, default=30)
    parser.add_argument("--kinds", default="ext2,ext3")
    parser.add_argument("-v", action="store_true")
    asked = parser.parse_args()
    files, total = media(), Counter[str]()
    for seed in range(asked.n):
        with tempfile.TemporaryDirectory() as name:
            card, what = make(seed, Path(name), files, asked.kinds.split(","))
            standing, began = card.standing(), time.monotonic()
            found, false = back(card, Path(name))
            took = time.monotonic() - began
        good = len(standing.keys() & found)
        total.update(standing=len(standing), back=good, gone=len(card.gone), false=false)
        total["seconds"] += round(took)
        print(f"seed {seed}: {what}: {len(card.gone)} removed, {len(standing)} stand, {good} back, "
              f"{false} false whole, {took:.1f} s", flush=True)
        if asked.v:
            print("   not back:", [n for h, n in standing.items() if h not in found])
    print(f"all: {total['gone']} removed, {total['standing']} stand, {total['back']} back "
          f"({total['back'] / max(1, total['standing']):.3f}), {total['false']} false whole, "
          f"{total['seconds'] / asked.n:.1f} s a card")


if __name__ == "__main__":
    main()
