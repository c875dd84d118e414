"""`make bench`: ratios to limits measured in the same run, on a page-cached image; peak memory.

CPU time (user and system, all processes) rather than wall time: other work on the machine and the
number of cores then matter less. Each figure is the median of RUNS runs, taken in turns.
"""

from __future__ import annotations

import os
import resource
import statistics
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np

from benchmarks.corpus import build
from needlewright.core.formats.registry import formats
from needlewright.core.kernels.signatures import build_table, find_signatures
from needlewright.core.kernels.warm import warm
from needlewright.core.search.engine import search
from needlewright.core.search.events import Found
from needlewright.core.search.plan import Plan
from needlewright.core.search.step_signatures import BLOCK_BYTES
from needlewright.core.sources.files import ImageFile

RUNS = 9
SPARSE = 64 << 30


def cpu_seconds() -> float:
    own, children = (resource.getrusage(who) for who in (
        resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN))
    return own.ru_utime + own.ru_stime + children.ru_utime + children.ru_stime


def spent(work: Callable[[], object]) -> float:
    before = cpu_seconds()
    work()
    return cpu_seconds() - before


def cat(image: Path) -> None:
    with open(os.devnull, "wb") as nowhere:
        subprocess.run(["cat", str(image)], stdout=nowhere, check=True)


def bare_search(image: Path) -> None:
    """Reading and signatures, as the step does it, without following what is found."""
    table = build_table([(s.magic, s.at) for f in formats().values() for s in f.signatures])
    block = bytearray(BLOCK_BYTES)
    view, data = memoryview(block), np.frombuffer(block, np.uint8)
    with ImageFile(image) as source:
        at = 0
        while got := source.read_into(at, view):
            find_signatures(data[:got], 512, table)
            at += got


def full_search(image: Path) -> int:
    with ImageFile(image) as source:
        events = search(source, Plan(), threading.Event())
        return sum(isinstance(e, Found) and e.find.grade == "whole" for e in events)


DECODE = """
import io, json, sys
from PIL import Image
path, extents = sys.argv[1], json.loads(sys.argv[2])
with open(path, "rb") as medium:
    for offset, size in extents:
        medium.seek(offset)
        Image.open(io.BytesIO(medium.read(size))).load()
"""


def plain_decode(image: Path, extents: list[tuple[int, int]]) -> None:
    subprocess.run([sys.executable, "-c", DECODE, str(image), str([list(e) for e in extents])],
                   check=True)


class Memory(threading.Thread):
    """Peak of the proportional set sizes of this process and all its children, bytes."""

    def __init__(self) -> None:
        super().__init__(daemon=True)
        self.peak, self.ending = 0, threading.Event()

    def run(self) -> None:
        while not self.ending.wait(0.05):
            self.peak = max(self.peak, sum(map(_pss, [os.getpid(), *_children(os.getpid())])))


def _children(pid: int) -> list[int]:
    found = []
    for task in Path(f"/proc/{pid}/task").iterdir():
        try:
            direct = [int(c) for c in (task / "children").read_text().split()]
        except OSError:
            continue
        for child in direct:
            found += [child, *_children(child)]
    return found


def _pss(pid: int) -> int:
    try:
        lines = Path(f"/proc/{pid}/smaps_rollup").read_text().splitlines()
    except OSError:
        return 0
    return sum(int(line.split()[1]) * 1024 for line in lines if line.startswith("Pss:"))


def peak_memory(image: Path) -> int:
    watcher = Memory()
    watcher.start()
    full_search(image)
    watcher.ending.set()
    watcher.join()
    return watcher.peak


def sparse_copy(image: Path, extents: list[tuple[int, int]]) -> Path:
    """The same photos at the start of a sparse image of SPARSE bytes."""
    path = image.with_name("sparse.img")
    with image.open("rb") as source, path.open("wb") as out:
        for offset, size in extents:
            source.seek(offset)
            out.write(source.read(size))
            out.seek(-(-out.tell() // 4096) * 4096)
        out.truncate(SPARSE)
    return path


def main() -> None:
    image, extents = build()
    warm()
    size = image.stat().st_size
    cat(image)  # into the page cache
    rows: dict[str, list[float]] = {"cat": [], "bare": [], "full": [], "decode": []}
    began = time.monotonic()
    for _ in range(RUNS):
        rows["cat"].append(spent(lambda: cat(image)))
        rows["bare"].append(spent(lambda: bare_search(image)))
        rows["decode"].append(spent(lambda: plain_decode(image, extents)))
        rows["full"].append(spent(lambda: full_search(image)))
    median = {name: statistics.median(values) for name, values in rows.items()}
    whole = full_search(image)
    print(f"image {size / 2**30:.2f} GiB, {len(extents)} photos up to 24 MP, {whole} found whole; "
          f"CPU seconds, median of {RUNS}, {time.monotonic() - began:.0f} s in all")
    for name, value in median.items():
        spread = f"{min(rows[name]):.2f} to {max(rows[name]):.2f}"
        print(f"  {name:<8}{value:7.2f}   ({spread})")
    print(f"bare signature search, speed against cat     {median['cat'] / median['bare']:.2f}"
          "   (target at least 0.60)")
    # Each run against its own neighbour in time: the machine's speed drifts.
    ratios = [(f - b) / d for f, b, d in zip(rows["full"], rows["bare"], rows["decode"])]
    print(f"checks, CPU time against plain decode        {statistics.median(ratios):.2f}"
          "   (target at most 1.50)")
    print(f"search with checks against plain decode      "
          f"{median['full'] / median['decode']:.2f}")
    print(f"peak memory (PSS, all processes)             {peak_memory(image) / 2**20:.0f} MiB"
          "   (target under 500)")
    sparse = sparse_copy(image, extents)
    try:
        print(f"peak memory, sparse {SPARSE >> 30} GiB image            "
              f"{peak_memory(sparse) / 2**20:.0f} MiB")
    finally:
        sparse.unlink()


if __name__ == "__main__":
    main()
