"""`python -m tests.fuzz [--walks N] [--decodes N] [--mends N] [FORMAT ...]`: broken files.

Seeded mutations of each format's smallest files: flipped bytes, cut ends, stretches of other files,
lengths set to extremes. A walk may raise FormatError and nothing else, takes bounded time and never
reaches past its bytes. Then some go through the isolated decoders, which may fail and never hang,
and some are mended, which never ends in a fault of ours.
"""

from __future__ import annotations

import argparse
import logging
import random
import resource
import tempfile
import threading
import time
from collections.abc import Iterator
from pathlib import Path

from needlewright.core.checks.decoding import DecodeRequest, DecoderPool
from needlewright.core.decoders import PLAYED, Task
from needlewright.core.errors import FormatError
from needlewright.core.formats.registry import formats
from needlewright.core.mending import treating
from needlewright.core.sources.memory import MemorySource
from tests.media import of_format, samples

SLOW_SECONDS = 20.0  # of processor time; the first walk may compile its kernel
EXTREMES = (b"\0\0\0\0", b"\xff\xff\xff\xff", b"\x7f\xff\xff\xff", b"\0\0\0\1", b"\xff\xff\xff\x7f")
SMALLEST = 3
LONGEST = 48_000  # bytes of a file that is mutated: damage in heads matters most


def mutate(data: bytes, rng: random.Random, donors: list[bytes]) -> bytes:
    """One broken version of `data`."""
    block = bytearray(data)
    for _ in range(rng.choice((1, 1, 2, 4, 16))):
        # Most structure stands at the start and the end.
        near = rng.choice((64, 512, 4096, len(block)))
        at = rng.randrange(min(near, len(block)))
        at = len(block) - 1 - at if rng.random() < 0.2 else at
        kind = rng.randrange(5)
        if kind == 0:
            block[at] ^= 1 << rng.randrange(8)
        elif kind == 1:
            block[at] = rng.choice((0, 1, 0x7F, 0x80, 0xFF, rng.randrange(256)))
        elif kind == 2:
            block[at : at + 4] = rng.choice(EXTREMES)
        elif kind == 3 and len(block) > 16:
            del block[rng.randrange(len(block) // 2, len(block)) :]
        else:
            donor = rng.choice(donors)
            first = rng.randrange(len(donor))
            piece = donor[first : first + rng.choice((4, 64, 512, 4096))]
            block[at : at + len(piece)] = piece
        if not block:
            block = bytearray(data[:1])
    return bytes(block)


def mutations(name: str, count: int) -> Iterator[bytes]:
    """`count` seeded mutations of the smallest files of format `name`."""
    smallest = sorted(of_format(name), key=lambda s: len(s.data))[:SMALLEST]
    donors = [s.data[:LONGEST] for s in samples()]
    rng = random.Random(f"needlewright {name}")
    for index in range(count):
        data = smallest[index % len(smallest)].data
        whole = data if len(data) <= LONGEST or index % 4 == 0 else (
            data[: LONGEST // 2] + data[-LONGEST // 2 :])
        yield mutate(whole, rng, donors)


def walk_all(name: str, data: bytes) -> None:
    """Walk `data` as format `name`; AssertionError for anything that must not happen."""
    form = formats()[name]
    if not form.accept(data[:64].ljust(16, b"\0")):
        return
    source = MemorySource(data)
    began = time.process_time()
    try:
        walk = form.walk(source, 0, source.size)
    except FormatError:
        return
    finally:
        took = time.process_time() - began
        assert took < SLOW_SECONDS, f"{name} took {took:.1f} s"
    assert 0 <= walk.start < walk.stop <= len(data), f"{name} reaches {walk.stop} of {len(data)}"
    assert 0.0 <= walk.share <= 1.0, f"{name} has a share of {walk.share}"
    assert walk.broken is None or walk.broken.offset <= len(data), f"{name} breaks outside"


def decode_all(name: str, count: int) -> dict[str, int]:
    """Send `count` mutations through the decoders; how each ended."""
    ends: dict[str, int] = {}
    pool: DecoderPool[int] = DecoderPool(2, cpu_limit_s=20.0)
    form = formats()[name]
    try:
        for index, data in enumerate(mutations(name, count)):
            source = MemorySource(data)
            task = Task.FRAMES if form.decoder in PLAYED else Task.PICTURE
            pool.submit(index, DecodeRequest(source, [(0, len(data))], form.decoder, 100_000, None,
                                             160, task))
            while pool.pending > 8:
                _count(pool, ends)
        while pool.pending:
            _count(pool, ends)
    finally:
        pool.close()
    return ends


def _count(pool: DecoderPool[int], ends: dict[str, int]) -> None:
    for _, report in pool.results(1.0):
        end = "fine" if report.ok else report.error or "damaged"
        ends[end] = ends.get(end, 0) + 1


class _Faults(logging.Handler):
    """Keeps what is logged as a fault of ours."""

    def __init__(self) -> None:
        super().__init__()
        self.told: list[str] = []

    def emit(self, record: logging.LogRecord) -> None:
        self.told.append(self.format(record))


def mend_all(name: str, count: int) -> int:
    """Have `count` mutations mended; how many came to something. AssertionError with its trace for
    what is a fault of ours."""
    faults = _Faults()
    treating.FAULT_LOG.addHandler(faults)
    try:
        with tempfile.TemporaryDirectory() as folder:
            paths, to = [], Path(folder) / "out"
            to.mkdir()
            for index, data in enumerate(mutations(name, count)):
                paths.append(Path(folder) / f"{index}.{formats()[name].extension}")
                paths[-1].write_bytes(data)
            done = list(treating.treat(paths, to, [], threading.Event()))
    finally:
        treating.FAULT_LOG.removeHandler(faults)
    assert not faults.told, f"{name}: {faults.told[0]}"
    return sum(one.output is not None for one in done)


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--walks", type=int, default=20_000)
    parser.add_argument("--decodes", type=int, default=500)
    parser.add_argument("--mends", type=int, default=100)
    parser.add_argument("formats", nargs="*")
    options = parser.parse_args()
    for name in options.formats or formats():
        began = time.process_time()
        for data in mutations(name, options.walks):
            walk_all(name, data)
        walked = time.process_time() - began
        ends = decode_all(name, options.decodes) if formats()[name].decoder else {}
        mended = mend_all(name, options.mends)
        peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss >> 10
        told = ", ".join(f"{count} {end}" for end, count in sorted(ends.items()))
        print(f"{name:<9} {options.walks:,} walks in {walked:5.0f} s, peak {peak} MiB; "
              f"decoders: {told or 'none'}; {mended:,} mended", flush=True)


if __name__ == "__main__":
    main()
