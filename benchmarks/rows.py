"""Removed rows of databases: how many come back exactly, by page size and by how much was removed,
and whether any is told that never was.

    python -m benchmarks.rows [--seeds N]
"""

from __future__ import annotations

import argparse
import tempfile
import time
from pathlib import Path

from tests.databases.corpus import NUMBERS, WAYS, lose, make

from needlewright.core.databases.reading import Database
from needlewright.core.sources.memory import MemorySource

PAGES = (512, 1024, 4096, 16_384, 65_536)
SHARES = (0.1, 0.5, 0.9)
ROWS = 800


Told = tuple[int, int, int, int, int, int, float]


def measure(folder: Path, seed: int, **options: object) -> Told:
    """(removed rows, exact ones, such with a value or their number not known, of these with the
    right number as a likely one, with a wrong one, invented ones, seconds) of one database."""
    made = make(folder / "a.db", seed, **options)  # type: ignore[arg-type]
    data = made.path.read_bytes()
    made.path.unlink()
    started = time.perf_counter()
    exact, part, invented = set(), set(), 0
    likely: dict[bool, int] = {True: 0, False: 0}
    for row in Database(MemorySource(data)).removed():
        if row.table not in made.ever:
            continue
        known = [i for i, name in enumerate(row.columns) if name not in row.lost]
        some = tuple(row.values[i] for i in known)
        if not row.lost and row.values in made.ever[row.table]:
            if row.values in made.gone[row.table]:
                exact.add((row.table, row.values))
        elif row.lost and some in {tuple(r[i] for i in known) for r in made.ever[row.table]}:
            part.add((row.table, some))
            if row.probable is not None:
                likely[(row.probable, *row.values[1:]) in made.ever[row.table]] += 1
        else:
            invented += 1
    gone = sum(len(rows) for rows in made.gone.values())
    return (gone, len(exact), len(part), likely[True], likely[False], invented,
            time.perf_counter() - started)


def measure_way(folder: Path, seed: int, table: str, way: str) -> tuple[int, int, int, int, int]:
    """(removed rows, those whose bytes are all left but the first four, told with all values but
    their number, of these with the right number, invented ones)."""
    lost = lose(folder / "w.db", seed, table, way)
    told, numbered, invented = set(), set(), 0
    for row in Database(MemorySource(lost.data)).removed():
        if row.table != table:
            continue
        known = [i for i, name in enumerate(row.columns) if name not in row.lost]
        fits = [r for r in lost.every if all(r[i] == row.values[i] for i in known)]
        invented += not fits
        if len(fits) == 1 and fits[0] in lost.there and set(row.lost) <= {NUMBERS[table]}:
            told.add(fits[0])
            if not row.lost or row.probable == fits[0][0]:
                numbered.add(fits[0])
    return len(lost.gone), len(lost.there), len(told), len(numbered), invented


def report_ways(folder: Path, seeds: range) -> None:
    print("| how rows were lost | removed | all bytes left but the first four | of these told "
          "| with the right number | invented |\n|---|---|---|---|---|---|")
    total = [0] * 5
    for way in WAYS:
        figures = [sum(column) for column in zip(*(
            measure_way(folder, seed, table, way) for table in NUMBERS for seed in seeds))]
        total = [a + b for a, b in zip(total, figures)]
        gone, there, told, numbered, invented = figures
        print(f"| {way} | {gone:,} | {there:,} | {told / max(1, there):.3f} "
              f"| {numbered / max(1, told):.2f} | {invented} |", flush=True)
    print(f"| all | {total[0]:,} | {total[1]:,} | {total[2] / total[1]:.3f} "
          f"| {total[3] / total[2]:.2f} | {total[4]} |\n", flush=True)


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--seeds", type=int, default=3)
    seeds = range(1, parser.parse_args().seeds + 1)
    cases: list[tuple[str, dict[str, object]]] = [
        (f"pages of {size:,}, {share:.0%} removed", {"page_bytes": size, "share": share})
        for size in PAGES for share in SHARES]
    cases += [("rows written afterwards", {"growing": True}), ("UTF-16", {"encoding": "UTF-16le"}),
              ("auto-vacuum", {"vacuum": True}), ("secure_delete", {"secure": True}),
              ("log", {"journal": "WAL"})]
    with tempfile.TemporaryDirectory() as folder:
        report_ways(Path(folder), seeds)
    print("| database | removed | exact | without a value or number | of these: likely number "
          "right | wrong | invented | seconds |")
    print("|---|---|---|---|---|---|---|---|")
    with tempfile.TemporaryDirectory() as folder:
        for name, options in cases:
            told = [measure(Path(folder), seed, rows=ROWS, **options) for seed in seeds]
            gone, exact, part, right, wrong, invented, seconds = (
                sum(t[i] for t in told) for i in range(7))
            print(f"| {name} | {gone:,.0f} | {exact / gone:.2f} | {part / gone:.2f} "
                  f"| {right / gone:.2f} | {wrong:.0f} | {invented:.0f} "
                  f"| {seconds / len(told):.2f} |", flush=True)


if __name__ == "__main__":
    main()
