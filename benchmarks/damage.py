"""`python -m benchmarks.damage [-v] [FORMAT ...]`: every format intact, and damaged in many ways.

A medium is laid out of made-up files of all formats among noise, text and blank space, each whole
once and then overwritten, cut off and continued by foreign data at seeded places. Counted, for each
format: intact files that come back byte for byte as whole, damaged ones that are called whole, and
those whose damage is placed within one MCU row (photos of one pass) or one sample (clips).
"""

from __future__ import annotations

import random
import sys
import tempfile
import threading
from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from tests.media import Sample, samples

from needlewright.core.finds import Find
from needlewright.core.formats.jpeg import _Walker
from needlewright.core.search.engine import search
from needlewright.core.search.events import Found, Rechecked
from needlewright.core.search.plan import Plan
from needlewright.core.sources.files import ImageFile
from needlewright.core.sources.memory import MemorySource
from needlewright.core.structures.bmff import top_level
from needlewright.core.structures.bmff_samples import read_tracks
from needlewright.core.structures.view import View

CLUSTER = 4096
SEEDS = 6
MCU_ROW = 16  # picture rows of the tallest MCU
UNCHECKED = frozenset(("cr3",))  # made-up raw data that no decoder reads


@dataclass(frozen=True)
class Case:
    """A file as it lies on the medium. `at`: first byte that is not its own, None if intact."""

    sample: Sample
    how: str
    data: bytes
    at: int | None


def foreign(rng: random.Random, size: int, others: list[Sample]) -> bytes:
    """Noise, prose, or a stretch out of another file."""
    kind = rng.randrange(3)
    if kind == 0:
        return rng.randbytes(size)
    if kind == 1:
        return (b"05:58;Reedmouth weir;3;mist\n" * (size // 28 + 1))[:size]
    donor = rng.choice(others).data
    first = rng.randrange(max(1, len(donor) - size))
    return (donor[first : first + size] * (size // max(1, len(donor)) + 2))[:size]


def variants(sample: Sample, rng: random.Random, others: list[Sample]) -> Iterator[Case]:
    """Damaged versions of one sample, the damage on cluster boundaries as on a real medium."""
    data = sample.data
    clusters = len(data) // CLUSTER
    if clusters < 2:
        return
    for _ in range(SEEDS):
        at = rng.randrange(1, clusters) * CLUSTER
        size = min(CLUSTER * rng.randint(1, 3), len(data) - at)
        patch = foreign(rng, size, others)
        yield Case(sample, "overwritten", data[:at] + patch + data[at + size :], at)
        yield Case(sample, "cut off", data[:at], at)
        tail = foreign(rng, len(data) - at, others)
        yield Case(sample, "continued", data[:at] + tail, at)


def lay_out(path: Path, only: set[str]) -> list[tuple[int, Case]]:
    """Write the medium; where each case lies on it."""
    rng, placed = random.Random(11), []
    everything = list(samples())
    with path.open("wb") as out:
        for sample in everything:
            if only and sample.format not in only:
                continue
            others = [s for s in everything if s.format != sample.format]
            for case in (Case(sample, "intact", sample.data, None),
                         *variants(sample, rng, others)):
                placed.append((out.tell(), case))
                out.write(case.data)
                filler = rng.choice((rng.randbytes, bytes))
                out.write(filler(-out.tell() % CLUSTER))
                gap = CLUSTER * rng.randint(1, 3)
                out.write(rng.choice((rng.randbytes(gap), bytes(gap), foreign(rng, gap, others))))
    return placed


def first_samples(sample: Sample, at: int) -> dict[str, int]:
    """Kind of track -> number of its first sample that reaches behind byte `at`, for clips whose
    index says where samples lie."""
    if sample.format != "mp4" or sample.name == "fragments":
        return {}
    view = View(MemorySource(sample.data), 0, len(sample.data))
    moov = next(box for box in top_level(view, 0) if box.name == b"moov")
    kinds = {b"vide": "video", b"soun": "audio"}
    return {kinds[t.handler]: int(np.argmax(t.offsets + t.sizes > at))
            for t in read_tracks(view, moov, 0) if t.handler in kinds}


def is_placed(case: Case, find: Find) -> bool | None:
    """Whether the damage is placed within one sample of a clip or one MCU row of a photo; None
    where nothing says where it should be."""
    assert case.at is not None
    if case.sample.format == "jpeg":
        row = _row_at(case.sample.data, case.at)
        if row is None or find.damage_row is None:
            return None
        return abs(find.damage_row - row) <= MCU_ROW
    wanted = first_samples(case.sample, case.at)
    for check in find.checks:
        sample, kind = check.values.get("sample"), check.values.get("stream", "video")
        if check.name == "every frame" and sample is not None and kind in wanted:
            return bool(abs(int(sample) - wanted[kind]) <= 1)
    return None


def _row_at(photo: bytes, at: int) -> int | None:
    """The picture row of the MCU that byte `at` of an intact photo belongs to."""
    walker = _Walker(MemorySource(photo), 0, len(photo))
    walker.run()
    frame = walker.headers.frame
    coded = [p for p in walker.parts if p.name == "coded data"]
    part = next((p for p in coded if p.start <= at < p.stop), None)
    if part is None or frame is None or len(walker.scans) != 1:
        return None  # in the headers, or in one of many passes
    scan = walker.scans[0]
    mcu = int(np.searchsorted(scan.mcu_raw, at - part.start, side="right")) - 1
    return max(0, mcu) // scan.plan.mcus_per_row * 8 * frame.max_vertical


def main(arguments: list[str]) -> None:
    verbose, only = "-v" in arguments, {a for a in arguments if not a.startswith("-")}
    with tempfile.TemporaryDirectory() as folder:
        image = Path(folder) / "medium.img"
        placed = lay_out(image, only)
        with ImageFile(image) as source:
            events = search(source, Plan(), threading.Event())
            found: dict[int, Find] = {}
            for event in events:
                if isinstance(event, Found | Rechecked):
                    found[event.find.start] = event.find
        report(placed, found, verbose)


def report(laid: list[tuple[int, Case]], found: dict[int, Find], verbose: bool) -> None:
    table: dict[str, dict[str, int]] = defaultdict(lambda: defaultdict(int))
    for at, case in laid:
        row, find = table[case.sample.variant], found.get(at)
        if case.at is None:
            row["intact"] += 1
            good = find is not None and find.size == len(case.data) and (
                find.grade == "whole" or case.sample.format in UNCHECKED)
            row["back"] += good
            if verbose and not good:
                print("  NOT BACK", case.sample.variant, case.sample.name, _told(find))
            continue
        row["damaged"] += 1
        if find is None:
            row["not found"] += 1
            if verbose:
                print("  LOST", case.sample.variant, case.sample.name, case.how, case.at,
                      len(case.data))
        elif find.grade == "whole":
            row["false whole"] += 1
            if verbose:
                print("  FALSE", case.sample.variant, case.sample.name, case.how, case.at,
                      len(case.data), _told(find))
        else:
            placed = is_placed(case, find) if case.how != "cut off" else None
            row["placeable"] += placed is not None
            row["placed"] += placed is True
            if verbose and placed is False:
                print("  MISPLACED", case.sample.variant, case.sample.name, case.how, case.at,
                      _told(find))
    total: dict[str, int] = defaultdict(int)
    print(f"{'format':<8}{'intact back':>14}{'damaged':>9}{'false whole':>13}{'not found':>11}"
          f"{'placed':>12}")
    for name, row in sorted(table.items()):
        for key, value in row.items():
            total[key] += value
        print(_line(name, row))
    print(_line("all", total))


def _line(name: str, row: dict[str, int]) -> str:
    back = f"{row['back']}/{row['intact']}"
    placed = f"{row['placed']}/{row['placeable']}" if row["placeable"] else ""
    return (f"{name:<8}{back:>14}{row['damaged']:>9}{row['false whole']:>13}"
            f"{row['not found']:>11}{placed:>12}")


def _told(find: Find | None) -> str:
    if find is None:
        return "no find"
    checks = [(c.name, str(c.outcome), dict(c.values)) for c in find.checks
              if c.outcome not in ("pass", "not applicable")]
    return f"{find.format} {find.size} {find.grade} {find.share} {checks}"


if __name__ == "__main__":
    main(sys.argv[1:])
