"""`python -m tests.bombs [FORMAT ...]`: small files that claim much, on a medium that has room.

Each number near the beginning and the end of each format's smallest file is set to extremes, and
the file is walked on a medium of gibibytes. Told are the cases that take much memory or long: the
memory of a walk is bounded by what the file really is, not by what it says or the medium holds.
"""

from __future__ import annotations

import argparse
import threading
import time
import tracemalloc
from collections.abc import Iterator

import numpy as np

from needlewright.core.errors import FormatError
from needlewright.core.formats.registry import formats
from needlewright.core.search.carving import follow
from needlewright.core.sources.source import Source
from tests.media import Sample, of_format
from tests.support import noise

MEDIUM_BYTES = 3 << 30
SMALLEST = 3
REACH = 700  # bytes from either end whose numbers are changed
CLAIMS = (b"\xff\xff\xff\xff", b"\x7f\xff\xff\xff", b"\xff\xff\xff\x7f", b"\0\0\0\0",
          b"\0\x10\0\0", b"\x10\0\0\0", b"\0\0\0\x10", b"\x01\0\0\0\0\0\0\0", b"\xff\xff")
MOST_BYTES = 48 << 20
MOST_SECONDS = 4.0


class Vast(Source):
    """`data`, and behind it the same noise again and again, to the size of a real medium."""

    def __init__(self, data: bytes, behind: bytes = noise(1 << 16, 5)) -> None:
        self.name, self.sector_size = "vast", 512
        self._data, self._behind = data, behind

    @property
    def size(self) -> int:
        return MEDIUM_BYTES

    def read_into(self, offset: int, target: memoryview) -> int:
        fits = max(0, min(len(target), MEDIUM_BYTES - offset))
        block = self._data[offset : offset + fits]
        target[: len(block)] = block
        done = len(block)
        while done < fits:
            inside = (offset + done) % len(self._behind)
            piece = self._behind[inside : inside + fits - done]
            target[done : done + len(piece)] = piece
            done += len(piece)
        return fits


def claims(sample: Sample, every: int = 1) -> Iterator[bytes]:
    """`sample` with each number replaced by each extreme; only each `every`-th of these."""
    places = {*range(min(REACH, len(sample.data))),
              *range(max(0, len(sample.data) - REACH), len(sample.data))}
    number = 0
    for at in sorted(places):
        for claim in CLAIMS:
            number += 1
            if number % every == 0:
                block = bytearray(sample.data)
                block[at : at + len(claim)] = claim
                yield bytes(block)


def cost(name: str, source: Source) -> tuple[int, float]:
    """(peak bytes, seconds of this processor) of walking `source` as format `name`."""
    tracemalloc.reset_peak()
    before = tracemalloc.get_traced_memory()[0]
    began = time.process_time()
    try:
        if formats()[name].accept(source.read_at(0, 64)):
            follow(source, 0, formats()[name], threading.Event())
    except FormatError:
        pass
    return tracemalloc.get_traced_memory()[1] - before, time.process_time() - began


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--every", type=int, default=7)
    parser.add_argument("formats", nargs="*")
    options = parser.parse_args()
    np.zeros(1)
    for name in options.formats or formats():
        worst_bytes, worst_seconds, cases = 0, 0.0, 0
        for sample in sorted(of_format(name), key=lambda s: len(s.data))[:SMALLEST]:
            follow(Vast(sample.data), 0, formats()[name], threading.Event())  # compiles
            tracemalloc.start()
            for data in claims(sample, options.every):
                taken, seconds = cost(name, Vast(data))
                if taken > MOST_BYTES or seconds > MOST_SECONDS:
                    where = next(i for i, (a, b) in enumerate(zip(data, sample.data)) if a != b)
                    print(f"  {sample.name}: {taken >> 20} MiB, {seconds:.1f} s, "
                          f"at {where}: {data[where : where + 8].hex()}", flush=True)
                worst_bytes, worst_seconds = max(worst_bytes, taken), max(worst_seconds, seconds)
                cases += 1
            tracemalloc.stop()
        print(f"{name:<10} {cases} cases, at most {worst_bytes / (1 << 20):.1f} MiB and "
              f"{worst_seconds:.2f} s", flush=True)


if __name__ == "__main__":
    main()
