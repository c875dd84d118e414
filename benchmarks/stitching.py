"""`python -m benchmarks.stitching [--only FAMILY,…] [--cards N] [-v]`: files in pieces, joined.

Each card is a line of clusters without a file system, as after a format that took the records:
whole files, and one family's files cut into pieces that lie among each other's and among noise.
Made anew from a seed with real encoders. Told for each family and layout: back byte for byte and
whole, byte for byte but called likely, less than that, and what is called whole and is no file.
"""

from __future__ import annotations

import argparse
import hashlib
import random
import tempfile
import threading
import time
from collections import Counter
from pathlib import Path

from benchmarks.families import FAMILIES, a_photo, saved_as
from benchmarks.truth import digest
from needlewright.core.jobs.opening import job_for_image
from needlewright.core.jobs.runner import run_search
from needlewright.core.search.plan import Plan
from needlewright.core.search.registry import steps
from needlewright.core.sources.files import ImageFile

LAYOUTS = ("2 pieces", "3-6 pieces", "out of order", "in turns", "behind others")
CLUSTERS = (4096, 32_768)
PER_CARD = 6
WHOLE = 10  # files in one piece on a card


def cut_up(count: int, pieces: int, rng: random.Random) -> list[tuple[int, int]]:
    """(first, stop) of so many pieces of `count` clusters."""
    cuts = sorted(rng.sample(range(1, count), min(pieces, count) - 1)) if count > 1 else []
    return list(zip([0, *cuts], [*cuts, count]))


def lay(layout: str, files: list[bytes], whole: list[bytes], unit: int,
        rng: random.Random) -> bytes:
    """A line of clusters with `files` in pieces as `layout` says and `whole` in one."""
    runs: list[list[tuple[bytes, int, int]]] = []
    for data in files:
        count = -(-len(data) // unit)
        if layout == "in turns":
            step = max(1, rng.choice((64, 128, 256)) * 1024 // unit)
            cuts = [(a, min(count, a + step)) for a in range(0, count, step)]
        else:
            pieces = 2 if layout == "2 pieces" else rng.randint(3, 6)
            if layout == "behind others":
                pieces = 2 + len(runs) % 2
            cuts = cut_up(count, pieces, rng)
        runs.append([(data, a, b) for a, b in cuts])
    line: list[tuple[bytes, int, int]] = []
    if layout == "behind others":
        return _behind_others(runs, whole, unit, rng)
    if layout == "out of order":
        line = [run for mine in runs for run in mine]
        rng.shuffle(line)
    elif layout == "in turns":
        for at in range(0, len(runs), 2):  # two at a time
            pair = runs[at : at + 2]
            for turn in range(max(map(len, pair))):
                line += [mine[turn] for mine in pair if turn < len(mine)]
    else:
        waiting = [list(mine) for mine in runs]
        while any(waiting):
            line.append(rng.choice([w for w in waiting if w]).pop(0))
    for data in whole:
        line.insert(rng.randrange(len(line) + 1), (data, 0, -(-len(data) // unit)))
    out = bytearray(rng.randbytes(unit * 3))
    for data, first, stop in line:
        out += data[first * unit : stop * unit]
        out += bytes(-len(out) % 512)  # drivers fill the last sector with zeros
        out += rng.randbytes(-len(out) % unit)
        if rng.random() < 0.1:
            out += rng.randbytes(unit * rng.randrange(1, 4))
    return bytes(out)


def _behind_others(runs: list[list[tuple[bytes, int, int]]], whole: list[bytes], unit: int,
                   rng: random.Random) -> bytes:
    """Each file begins behind a whole one and goes on behind others, as drivers fill what is free
    between files that are there."""
    out, waiting = bytearray(), list(whole)
    for mine in runs:
        for data, first, stop in mine:
            between = waiting.pop() if waiting else rng.choice(whole)
            out += between + bytes(-len(between) % 512)
            out += rng.randbytes(-len(out) % unit)
            out += data[first * unit : stop * unit]
        out += bytes(-len(out) % 512)
        out += rng.randbytes(-len(out) % unit)
    return bytes(out + whole[0] + bytes(-len(whole[0]) % unit))


def whole_ones(rng: random.Random) -> list[bytes]:
    return [a_photo()(rng) if rng.random() < 0.6 else saved_as("PNG", scale=0.3)(rng)
            for _ in range(WHOLE)]


def one(family: str, layout: str, unit: int, seed: int, chosen: tuple[str, ...],
        keep: Path | None = None) -> tuple[Counter[str], float, list[str]]:
    """(counts, seconds of the step, what went wrong) of one card."""
    rng = random.Random(f"{family} {layout} {unit} {seed}")
    make = FAMILIES[family]
    files = [make(rng) for _ in range(PER_CARD)]
    whole = whole_ones(rng)
    truth = {hashlib.sha256(f).hexdigest(): f for f in files}
    others = {hashlib.sha256(f).hexdigest() for f in whole}
    counts: Counter[str] = Counter(files=len(files))
    told = []
    with tempfile.TemporaryDirectory() as folder:
        image = Path(folder) / "card.img"
        image.write_bytes(lay(layout, files, whole, unit, rng))
        if keep is not None:
            keep.write_bytes(image.read_bytes())
        job, row = job_for_image(Path(folder) / "job", image)
        seconds = 0.0
        for step in chosen:
            began = time.monotonic()
            for _ in run_search(job, row, Plan((step,)), threading.Event()):
                pass
            seconds = time.monotonic() - began
        best: dict[str, str] = {}
        kept = set()
        with job, ImageFile(image) as source:
            for found in job.matching():
                if found.grade == "gone":
                    continue
                sha = digest(source, job.record(found.id))
                if sha in truth:
                    good = found.grade == "whole"
                    best[sha] = "whole" if good or best.get(sha) == "whole" else "likely"
                elif sha in others:
                    kept.add(sha)
                elif found.grade == "whole" and not any(
                        f.startswith(_bytes(source, job, found.id)) for f in (*files, *whole)):
                    counts["false"] += 1
                    told.append(f"FALSE WHOLE {found.format} at {found.start} {found.found_by}")
        counts.update(best.values())
        counts["less"] = len(truth) - len(best)
        counts["cut"] = len(others - kept)
    return counts, seconds, told


def _bytes(source: ImageFile, job: object, number: int) -> bytes:
    from needlewright.core.contents import Place
    record = job.record(number)  # type: ignore[attr-defined]
    return record.content.open(Place(source)).read_at(0, record.row.size)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--only", default="")
    parser.add_argument("--layouts", default=",".join(LAYOUTS))
    parser.add_argument("--cards", type=int, default=2)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("-v", action="store_true")
    options = parser.parse_args()
    chosen = tuple(name for name in steps() if name in ("signatures", "stitching"))
    print(f"{'family':<18}{'layout':<14}{'files':>6}{'whole':>7}{'likely':>8}{'less':>6}"
          f"{'false':>7}{'cut':>5}{'seconds':>9}", flush=True)
    for family in options.only.split(",") if options.only else FAMILIES:
        for layout in options.layouts.split(","):
            total: Counter[str] = Counter()
            took = 0.0
            lines: list[str] = []
            for number in range(options.cards):
                counts, seconds, told = one(family, layout, CLUSTERS[number % 2],
                                            options.seed + number, chosen)
                total += counts
                took += seconds
                lines += told
            print(f"{family:<18}{layout:<14}{total['files']:>6}{total['whole']:>7}"
                  f"{total['likely']:>8}{total['less']:>6}{total['false']:>7}{total['cut']:>5}"
                  f"{took:>9.1f}", flush=True)
            if options.v:
                for line in lines:
                    print("    ", line)


if __name__ == "__main__":
    main()
