"""Mutations of the fixtures' own records through the file-system readers.

`python -m tests.volumes_fuzz [CASES [NAME ...]]`: so many seeded mutations of each volume in
tests/data/volumes. Bytes of records are flipped, copied, set to extremes or cleared;
contents of files are left alone. A reader may raise our own errors and nothing else, must not hang,
and must stay within the volume.
"""

from __future__ import annotations

import random
import resource
import sys
import time
import traceback
from itertools import islice

from needlewright.core.errors import NeedlewrightError
from needlewright.core.sources.source import Source
from needlewright.core.volumes.finding import find_volumes
from needlewright.core.volumes.registry import file_systems
from tests.support_volumes import FIXTURES, SparseSource, load

SLOW_SECONDS = 5.0  # of processor time, for one case
MOST_ENTRIES = 5000
EXTREMES = (b"\x00", b"\xff", b"\x7f\xff\xff\xff", b"\xff\xff\xff\x7f", b"\x80", b"\x01")


def mutate(source: SparseSource, places: list[int], chance: random.Random) -> None:
    """Damage a few places of the records."""
    for _ in range(chance.choice((1, 1, 2, 4, 16))):
        at = chance.choice(places) + chance.randrange(512)
        way = chance.randrange(5)
        if way == 0:
            source.write(at, bytes([source.read_at(at, 1)[0] ^ 1 << chance.randrange(8)]))
        elif way == 1:
            source.write(at, chance.randbytes(chance.choice((1, 2, 4, 8))))
        elif way == 2:
            source.write(at, chance.choice(EXTREMES) * chance.choice((1, 2, 4)))
        elif way == 3:
            other = chance.choice(places) + chance.randrange(512)
            source.write(at, source.read_at(other, chance.choice((4, 16, 32, 512))))
        else:
            source.write(at, bytes(chance.choice((8, 64, 512, 4096))))


def read_everything(name: str, source: Source) -> int:
    """Everything that a reader tells of a volume; how many entries. Raises for what may not be."""
    system = file_systems()[name]
    find_volumes(source)
    count = 0
    try:
        if system.probe(source) is None:
            return 0
        reader = system.open(source)
        allocation = reader.allocation()
        for entries in (reader.removed, reader.live):
            for entry in islice(entries(), MOST_ENTRIES):
                count += 1
                assert entry.size >= 0, "a negative size"
                for extents in islice(reader.placements(entry), 4):
                    for offset, length in extents:
                        assert length >= 0 and (offset is None or offset >= 0), "a negative run"
                    if allocation is not None:
                        allocation.used_bytes(extents)
    except NeedlewrightError:
        pass
    return count


def run(name: str, cases: int, seed: int = 1) -> tuple[int, float]:
    """(failures, slowest case in seconds) of `cases` mutations of one fixture."""
    raw, truth = load(name)
    kind = {"fat12": "fat", "fat16": "fat", "fat32": "fat", "ext2": "ext", "ext3": "ext",
            "ext4": "ext"}.get(truth["file_system"], truth["file_system"])
    places = raw.records(truth)
    failures, slowest = 0, 0.0
    for case in range(cases):
        chance = random.Random(f"{name} {seed} {case}")
        source = raw.overlaid()
        mutate(source, places, chance)
        began = time.process_time()
        try:
            read_everything(kind, source)
        except Exception:
            failures += 1
            if failures <= 5:
                print(f"{name} case {case}:", traceback.format_exc(limit=-3), flush=True)
        took = time.process_time() - began
        slowest = max(slowest, took)
        if took > SLOW_SECONDS:
            failures += 1
            print(f"{name} case {case} took {took:.1f} s", flush=True)
    return failures, slowest


def main() -> int:
    cases = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000
    bad = 0
    for name in sys.argv[2:] or FIXTURES:
        began = time.monotonic()
        failures, slowest = run(name, cases)
        bad += failures
        peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024
        print(f"{name}: {cases:,} cases, {failures} failures, slowest {slowest:.2f} s, "
              f"{time.monotonic() - began:.0f} s, peak {peak} MiB", flush=True)
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main())
