"""Where the later scans of a progressive JPEG have much to say, as earlier ones foretell it.

A scan of AC coefficients (ITU-T T.81, G.1.2.2) shows no picture by itself, but its coefficients are
many where the DC values are steep and where earlier scans had many; how they go together is learnt
from what is proven of the scan. What another photo's bytes decode to has its own places.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

FEW = 24  # blocks that tell nothing yet
TRAINED, TRAINED_LEAST = 4096, 256  # blocks before the seam that say what to expect
FLAT = 0.03  # spread of a logarithm below which there is nothing to compare
FADING = 0.75  # neighbours are alike: n blocks say as much as n to this power that are not
GAIN = 2.0  # foreign scans hardly ever go with what is expected
WORST = -4.0  # nats: what is expected may be wrong where the picture changes
USUAL = 0.6  # nats that a comparison stands for
LEAST_KNOWN, MOST_KNOWN = 0.15, 0.98  # correlation
Rows = npt.NDArray[np.float32]


@dataclass(frozen=True, slots=True)
class Expected:
    """How a scan follows what is known: `weights` float32[columns of Activity.known], for values
    within `low` and `high`; `nats` that a block is usually worth."""

    weights: Rows
    low: Rows
    high: Rows
    nats: float


#: Where nothing is learnt yet: steep places and those that said much say much again.
AS_BEFORE = Expected(np.array([0, 1, 1, 0, 0, 0, 1], np.float32), np.zeros(7, np.float32),
                     np.full(7, 99, np.float32), 0.17)


@dataclass(frozen=True, slots=True)
class Activity:
    """What is known of one component before a scan of it. `known`: float32[cells, 7], one, the
    logarithms of the steepness of DC, of the coefficients so far and of those around, the squares
    of both, and the coefficients so far of the first component; `before`: uint64[cells],
    masks of the coefficients so far."""

    known: Rows
    before: npt.NDArray[np.uint64]

    def learnt(self, masks: npt.NDArray[np.uint64],
               cells: npt.NDArray[np.int64]) -> Expected | None:
        """How the scan goes at `cells`, which are proven; None for too few."""
        if cells.size < TRAINED_LEAST:
            return None
        known, new = self.known[cells[-TRAINED:]], self._new(masks, cells[-TRAINED:])
        square = known.T @ known + np.eye(known.shape[1], dtype=np.float32)
        weights = np.linalg.solve(square, known.T @ new).astype(np.float32)
        alike = max(LEAST_KNOWN, _alike(new, known @ weights))
        return Expected(weights, known.min(axis=0), known.max(axis=0), _nats(alike))

    def likeness(self, masks: npt.NDArray[np.uint64], cells: npt.NDArray[np.int64],
                 expected: Expected) -> tuple[float, int]:
        """(how much the scan's blocks at `cells` go as expected, in nats; comparisons)."""
        if cells.size < FEW:
            return 0.0, 0
        known = np.clip(self.known[cells], expected.low, expected.high)
        new, wanted = self._new(masks, cells), known @ expected.weights
        if new.std() < FLAT or wanted.std() < FLAT:
            return 0.0, 0
        count = cells.size ** FADING
        return max(WORST, count * _nats(_alike(new, wanted))), max(
            1, round(count * expected.nats / USUAL))

    def _new(self, masks: npt.NDArray[np.uint64], cells: npt.NDArray[np.int64]) -> Rows:
        fresh = np.bitwise_count(masks[cells] & ~self.before[cells])
        logarithms: Rows = np.log1p(fresh.astype(np.float32))
        return logarithms


def _alike(one: Rows, two: Rows) -> float:
    if one.std() < FLAT or two.std() < FLAT:
        return 0.0
    return max(-MOST_KNOWN, min(MOST_KNOWN, float(np.corrcoef(one, two)[0, 1])))


def _nats(alike: float) -> float:
    return float(-0.5 * GAIN * np.log(1 - alike * alike) * np.sign(alike))


def activity(dc: npt.NDArray[np.int16], masks: npt.NDArray[np.uint64],
             first: npt.NDArray[np.uint64] | None) -> Activity:
    """What is known of a component: its DC values and masks, [rows, columns] each, and the masks of
    the first component, [rows, columns] of as many or more, where it is another."""
    high, wide = masks.shape
    steep = np.zeros(dc.shape, np.float32)
    down = np.abs(np.diff(dc.astype(np.float32), axis=0))
    across = np.abs(np.diff(dc.astype(np.float32), axis=1))
    steep[1:] += down
    steep[:-1] += down
    steep[:, 1:] += across
    steep[:, :-1] += across
    so_far = np.bitwise_count(masks).astype(np.float32)
    edged = np.pad(so_far, 1, mode="edge")
    around = sum((edged[y : y + high, x : x + wide] for y in range(3) for x in range(3)),
                 np.zeros(masks.shape, np.float32)) / 9
    theirs = np.zeros(masks.shape, np.float32)
    if first is not None and first.shape[0] >= high and first.shape[1] >= wide:
        tall, broad = first.shape[0] // high, first.shape[1] // wide
        theirs = np.bitwise_count(first[: high * tall, : wide * broad]).astype(
            np.float32).reshape(high, tall, wide, broad).sum(axis=(1, 3))
    here, near = np.log1p(so_far).ravel(), np.log1p(around).ravel()
    known = np.stack([np.ones(here.size, np.float32), np.log1p(steep).ravel(), here, near,
                      here * here, near * near, np.log1p(theirs).ravel()], axis=1)
    return Activity(known.astype(np.float32, copy=False), masks.ravel().copy())
