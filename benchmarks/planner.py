"""`python -m benchmarks.planner`: the read planner against two plain strategies, by simulation.

200 random fault profiles in five families. Each medium is 256 MiB of blocks of 4 KiB; a read costs
its time or, over a bad block, the medium's time to give up. Compared is the share of the readable
bytes that is saved after 10, 25, 50 and 90 % of the time that the slowest strategy needs. The
profiles that are reported (seeds from 1,000 on) were not looked at while the planner was tuned on
others (seeds from 0 on, `python -m benchmarks.planner tuning`).
"""

from __future__ import annotations

import random
import statistics
import sys
import time
from bisect import bisect_right
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from needlewright.core.imaging.planner import Planner

BLOCK = 4096
SIZE = 256 << 20
BLOCKS = SIZE // BLOCK
CHECKPOINTS = (0.10, 0.25, 0.50, 0.90)
FAMILIES = ("scattered", "clustered", "dead head", "slow zones", "dying")
TRIES = 3


@dataclass
class Medium:
    """A simulated medium. `bad`: never reads; `weak[b]`: reads at that try; `pace[b]`: seconds."""

    family: str
    bad: npt.NDArray[np.bool_]
    pace: npt.NDArray[np.float64]
    give_up_s: float
    overhead_s: float
    life_s: float = float("inf")
    clock: float = 0.0
    saved: int = 0
    have: npt.NDArray[np.bool_] = field(default_factory=lambda: np.zeros(BLOCKS, bool))
    times: list[float] = field(default_factory=list)
    counts: list[int] = field(default_factory=list)
    reads: int = 0

    def __post_init__(self) -> None:
        self.bad_sum = np.concatenate(([0], np.cumsum(self.bad)))
        self.pace_sum = np.concatenate(([0.0], np.cumsum(self.pace)))

    def read(self, first: int, count: int) -> tuple[bool, float]:
        """(came out well, seconds) of reading `count` blocks from `first`."""
        self.reads += 1
        if self.clock >= self.life_s:
            self.clock += self.give_up_s
            return False, self.give_up_s
        if self.bad_sum[first + count] > self.bad_sum[first]:
            seconds, good = self.give_up_s + self.overhead_s, False
        else:
            seconds = self.overhead_s + self.pace_sum[first + count] - self.pace_sum[first]
            good = True
        self.clock += seconds
        if good:
            fresh = count - int(self.have[first : first + count].sum())
            self.have[first : first + count] = True
            self.saved += fresh
            self.times.append(self.clock)
            self.counts.append(self.saved)
        return good, seconds

    def saved_at(self, moment: float) -> int:
        place = bisect_right(self.times, moment)
        return self.counts[place - 1] if place else 0


def make(seed: int) -> Callable[[], Medium]:
    """A recipe that makes the same medium each time."""
    def build() -> Medium:
        rng = random.Random(seed)
        family = FAMILIES[seed % len(FAMILIES)]
        bad = np.zeros(BLOCKS, bool)
        speed = rng.uniform(8e6, 90e6)
        pace = np.full(BLOCKS, BLOCK / speed)
        if family == "scattered":
            bad[rng.sample(range(BLOCKS), rng.randrange(20, 1500))] = True
        elif family == "clustered":
            for _ in range(rng.randrange(3, 25)):
                centre, width = rng.randrange(BLOCKS), rng.randrange(5, 1500)
                for _ in range(rng.randrange(4, 60)):
                    at = int(rng.gauss(centre, width))
                    bad[max(0, at) : max(0, at + rng.randrange(1, 20))] = True
        elif family == "dead head":
            period, width = rng.randrange(400, 4000), rng.uniform(0.1, 0.5)
            for start in range(rng.randrange(period), BLOCKS, period):
                bad[start : start + int(period * width)] = True
        else:
            for _ in range(rng.randrange(2, 8)):
                start, length = rng.randrange(BLOCKS), rng.randrange(200, 8000)
                pace[start : start + length] *= rng.uniform(10, 200)
            for _ in range(rng.randrange(0, 6)):
                start = rng.randrange(BLOCKS)
                bad[start : start + rng.randrange(1, 300)] = True
            pace = np.minimum(pace, 200 * BLOCK / speed)
        medium = Medium(family, bad, pace, rng.uniform(0.2, 4.0), rng.uniform(0.0001, 0.002))
        if family == "dying":
            medium.life_s = rng.uniform(0.05, 0.7) * float(pace.sum())
        return medium
    return build


def sequential(medium: Medium) -> Iterator[None]:
    """Plain strategy 1: blocks in order, larger reads, a failed one retried on the spot."""
    at = 0
    while at < BLOCKS:
        count = min(32, BLOCKS - at)
        good, _ = medium.read(at, count)
        yield
        if not good:
            for block in range(at, at + count):
                for _ in range(TRIES):
                    good, _ = medium.read(block, 1)
                    yield
                    if good:
                        break
        at += count


def fixed_blocks(medium: Medium) -> Iterator[None]:
    """Plain strategy 2: 128 KiB at a time, in order; what failed again at the end, in blocks."""
    failed = []
    for at in range(0, BLOCKS, 32):
        good, _ = medium.read(at, min(32, BLOCKS - at))
        yield
        if not good:
            failed.append(at)
    for at in failed:
        for block in range(at, min(at + 32, BLOCKS)):
            for _ in range(TRIES):
                good, _ = medium.read(block, 1)
                yield
                if good:
                    break


def planned(medium: Medium) -> Iterator[None]:
    plan = Planner(SIZE, BLOCK, tries=TRIES)
    while (read := plan.next()) is not None:
        good, seconds = medium.read(read.offset // BLOCK, read.length // BLOCK)
        plan.tell(read, read.length if good else 0, seconds)
        yield


STRATEGIES = {"planned": planned, "sequential": sequential, "fixed blocks": fixed_blocks}


def run(strategy: Callable[[Medium], Iterator[None]], medium: Medium) -> Medium:
    for _ in strategy(medium):
        if medium.clock >= medium.life_s:
            break
    return medium


def compare(seed: int) -> tuple[str, dict[str, list[float]]]:
    """Family, and for each strategy the shares saved at the checkpoints and in the end."""
    recipe = make(seed)
    media = {name: run(strategy, recipe()) for name, strategy in STRATEGIES.items()}
    slowest = max(m.clock for m in media.values())
    readable = max(1, BLOCKS - int(recipe().bad.sum()))
    return media["planned"].family, {
        name: [m.saved_at(part * slowest) / readable for part in (*CHECKPOINTS, 1.0)]
        for name, m in media.items()}


def cost() -> None:
    """What planning costs a read, on a healthy medium and with 100,000 bad ranges."""
    size = 64 << 30
    plan, count, began = Planner(size, 512), 0, time.perf_counter()
    while (read := plan.next()) is not None:
        plan.tell(read, read.length, 0.01)
        count += 1
    spent = time.perf_counter() - began
    print(f"healthy: {spent / count * 1e6:.1f} us a read of 1 MiB")
    for ranges in (25_000, 50_000, 100_000):
        step = size // ranges // 512 * 512
        plan, count, began = Planner(size, 512, tries=1), 0, time.perf_counter()
        while (read := plan.next()) is not None:
            first = -(-read.offset // step) * step  # a bad sector at each multiple of step
            good = first >= read.stop
            plan.tell(read, read.length if good else 0, 0.01 if good else 0.1)
            count += 1
        spent = time.perf_counter() - began
        print(f"{ranges:,} bad ranges: {spent:.1f} s for {count:,} reads, "
              f"{spent / count * 1e6:.1f} us each")


def main(first: int) -> None:
    results = [compare(seed) for seed in range(first, first + 200)]
    for family in FAMILIES:
        rows = [r for f, r in results if f == family]
        print(family)
        for index, part in enumerate((*CHECKPOINTS, 1.0)):
            ours = [r["planned"][index] for r in rows]
            against = {
                name: [a - r[name][index] for a, r in zip(ours, rows)]
                for name in ("sequential", "fixed blocks")}
            text = "   ".join(
                f"{name}: median {statistics.median(d) * 100:+6.1f}, worst {min(d) * 100:+6.1f}"
                for name, d in against.items())
            print(f"  {part:4.0%} saved {statistics.median(ours) * 100:5.1f} %   {text}")
    worst = min(a - max(r["sequential"][i], r["fixed blocks"][i])
                for _, r in results for i, a in enumerate(r["planned"]))
    print(f"farthest behind either, anywhere: {worst * 100:.1f} % of the readable bytes")


if __name__ == "__main__":
    main(0 if "tuning" in sys.argv else 1000)
    cost()
