"""What is wrong with a simulated medium: a small declarative description, kept as JSON."""

from __future__ import annotations

import json
import random
from collections import Counter
from dataclasses import asdict, dataclass, field
from pathlib import Path

SECTOR = 512


@dataclass
class Faults:
    """`bad`, `hangs`: [first byte, length] ranges. `weak`: [first, length, tries until it reads].
    `slow`: [first, length, seconds a MiB]. `fail_s`: what a failing read takes. `wraps_at`: the
    real capacity of a card that claims more, bytes. `leaves_after`: reads until it disconnects
    once; it is away for `away_s` and comes back as the export `returns_as`. `time_scale` divides
    all times."""

    name: str = "card"
    bad: list[tuple[int, int]] = field(default_factory=list)
    weak: list[tuple[int, int, int]] = field(default_factory=list)
    slow: list[tuple[int, int, float]] = field(default_factory=list)
    hangs: list[tuple[int, int]] = field(default_factory=list)
    fail_s: float = 0.5
    wraps_at: int | None = None
    leaves_after: int | None = None
    away_s: float = 2.0
    returns_as: str | None = None
    time_scale: float = 1.0

    def save(self, path: Path) -> None:
        path.write_text(json.dumps(asdict(self)), encoding="utf-8")

    @staticmethod
    def load(path: Path) -> Faults:
        return Faults(**json.loads(path.read_text(encoding="utf-8")))


@dataclass
class Behaviour:
    """How the medium takes each read, and what became of them: its own truth."""

    faults: Faults
    tries: Counter[int] = field(default_factory=Counter)
    failing_reads: int = 0
    reads: int = 0

    def seconds(self, offset: int, length: int) -> float:
        """How long a read of good bytes takes, before the time scale."""
        spent = 0.0
        for first, size, pace in self.faults.slow:
            touched = min(offset + length, first + size) - max(offset, first)
            spent += max(0, touched) / (1 << 20) * pace
        return spent

    def hangs(self, offset: int, length: int) -> bool:
        return any(offset < first + size and first < offset + length
                   for first, size in self.faults.hangs)

    def fails(self, offset: int, length: int) -> bool:
        """Whether the read fails; weak sectors remember how often they were asked."""
        self.reads += 1
        failed = any(offset < first + size and first < offset + length
                     for first, size in self.faults.bad)
        for first, size, needed in self.faults.weak:
            low, high = max(offset, first), min(offset + length, first + size)
            for sector in range(low // SECTOR, -(-high // SECTOR) if high > low else low // SECTOR):
                self.tries[sector] += 1
                failed = failed or self.tries[sector] < needed
        self.failing_reads += failed
        return failed

    def truth(self) -> dict[str, int]:
        return {"reads": self.reads, "failing_reads": self.failing_reads}


def drowned(size: int, seed: int = 3, time_scale: float = 1.0) -> Faults:
    """A card that lay in the stream: about 300 bad sectors in clusters, weak ones around them, two
    slow stretches, and one disconnect in the middle, after which it has another name."""
    rng = random.Random(seed)
    bad: list[tuple[int, int]] = []
    weak: list[tuple[int, int, int]] = []
    sectors = size // SECTOR
    for _ in range(14):
        centre = rng.randrange(sectors // 50, sectors - sectors // 50)
        for _ in range(rng.randrange(3, 8)):
            first, count = centre + rng.randrange(-90, 90), rng.randrange(1, 8)
            bad.append((first * SECTOR, count * SECTOR))
        for _ in range(2):
            first = centre + rng.randrange(-200, 200)
            weak.append((first * SECTOR, rng.randrange(1, 4) * SECTOR, rng.randrange(2, 4)))
    slow = [(rng.randrange(sectors - 40_000) * SECTOR, 16 << 20, rng.uniform(0.3, 1.2))
            for _ in range(2)]
    return Faults("drowned card", bad, weak, slow, fail_s=0.8, leaves_after=400, away_s=3.0,
                  returns_as="drowned card again", time_scale=time_scale)
