"""`python -m benchmarks.pace [RUNS]`: the search of a season's card against decoding it once.

Decoding once is what Pillow and PyAV do with the same files in two processes, one thread each. Both
are measured in CPU seconds of all processes, and in wall time, which means something on an idle
machine only. Medians of the ratios of neighbours in time.
"""

from __future__ import annotations

import statistics
import sys
import threading
import time
from pathlib import Path

from benchmarks import season
from benchmarks.__main__ import plain_decode
from benchmarks.measure import cpu_of_all, lasted, spent
from needlewright.core.search.engine import search
from needlewright.core.search.events import Found, Rechecked
from needlewright.core.search.plan import Plan
from needlewright.core.sources.files import ImageFile
from needlewright.core.warming import warm

PHOTOS = ("jpeg", "heic")
Pair = tuple[float, float]  # CPU and wall seconds


def searched(image: Path) -> tuple[Pair, Pair, Pair, dict[int, str]]:
    """(first picture, last photo, all of it, grade by place) of a search with all it does."""
    began, before = time.monotonic(), cpu_of_all()

    def now() -> Pair:
        return cpu_of_all() - before, time.monotonic() - began

    first: Pair | None = None
    last, grades = now(), {}
    with ImageFile(image) as source:
        for event in search(source, Plan(texture=True), threading.Event()):
            if isinstance(event, Found | Rechecked):
                grades[event.find.start] = event.find.grade
            if isinstance(event, Found) and event.find.thumbnail:
                first = first or now()
                last = now() if event.find.format in PHOTOS else last
    return first or last, last, now(), grades


def main(runs: int) -> None:
    image, listed = season.build()
    warm()
    rows: list[tuple[Pair, Pair, Pair, Pair]] = []
    for _ in range(runs):
        wall: list[float] = []
        cpu = spent(lambda: wall.append(lasted(lambda: plain_decode(image, listed))))  # noqa: B023
        *ours, grades = searched(image)
        rows.append(((cpu, wall[0]), *ours))
        whole = sum(grades.get(offset) == "whole" for offset, _, _ in listed)
        print(f"decoding once {cpu:.1f} CPU s, {wall[0]:.1f} s; search " + "; ".join(
            f"{name} {a:.1f} CPU s, {b:.1f} s" for name, (a, b) in zip(
                ("first picture", "all photos", "all"), ours)) +
            f"; {whole} of {len(listed)} whole", flush=True)
    for name, index, target in (("every photo shown and graded", 2, 0.8),
                                ("search, checks, thumbnails, strips, all frames", 3, 1.2)):
        for kind, which in (("CPU", 0), ("wall", 1)):
            ratio = statistics.median(row[index][which] / row[0][which] for row in rows)
            print(f"{name:<48}{kind:<5}{ratio:6.2f} of decoding once (target at most {target})")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 3)
