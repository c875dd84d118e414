"""How much the jumps between rows of blocks speak for their belonging together, in nats."""

from __future__ import annotations

import numpy as np
from numba import njit

FLOOR = np.float32(1.5)  # grey levels: jumps below this mean nothing
# Grey levels between places that have nothing in common, luma and chroma; half of them lie in
# places as plain as each other, where the difference is small.
SPREAD, PLAIN = (45.0, 12.0), (6.0, 3.0)
OFFSET, OFFSET_OWN = (15.0, 6.0), (0.3, 0.2)  # of foreign and of own stretches as a whole
TYPICAL, SOBER = 0.8, 0.7  # an own jump in terms of the scale; how much of that is no evidence
ALIKE = 6.0  # neighbouring jumps go together: so many count as one
CLIP = 4.0, 2.0  # nats that one MCU may say: luma, chroma


@njit(cache=True, nogil=True)
def likeness_of(jump, scale, spread, plain, clip):
    """How much a jump between two rows speaks for their belonging together, in nats.

    Own jumps follow a heavy-tailed law around the local scale, foreign ones two exponential laws.
    """
    part = 1.0 + jump / scale
    own = 2.0 / (scale * part * part * part)
    foreign = 0.5 * np.exp(-jump / spread) / spread + 0.5 * np.exp(-jump / plain) / plain
    value = np.log(own / (foreign + 1e-9))
    return min(clip, max(-clip, value))


@njit(cache=True, nogil=True)
def level_of(total, weight, own, foreign):
    """How much the mean of signed jumps speaks for a stretch, in nats: what is foreign is shifted
    as a whole, since each DC value adds to the last one. `total`, `weight`: sums of jumps and of
    ones, each over the square of its scale."""
    if weight <= 0:
        return 0.0
    mean = total / weight
    mine = own * own + ALIKE / weight
    theirs = mine + foreign * foreign
    return 0.5 * (np.log(theirs / mine) - mean * mean * (1 / mine - 1 / theirs))
