"""Coded data cut into what decodes: chains of MCUs from every place where the decoder can take it
up again.

Huffman codes of JPEG fall back into step by themselves: from almost any bit the decoder runs into
the true chain after a few MCUs. Survival alone shows nothing; where two starts meet, both are in
step.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from needlewright.core.kernels.jpeg_bits import is_padding
from needlewright.core.kernels.jpeg_coefficients import Chain, decode_chain, first_survivor
from needlewright.core.mending.jpeg.anatomy import Layout

Clean = npt.NDArray[np.uint8]
CONSTANT_BYTES = 32  # of one value: healthy data never has over 12
NEED = 120  # MCUs that decode from a bit before it is taken for a start
SURE = 24  # … where the data ends before that
OTHERS = 6  # starts whose meeting shows where a chain is in step
MAX_CHAINS = 96
SEARCHED_BITS = 1 << 24  # of foreign data, in which every bit may be a start
SLACK = 4096  # MCUs more than the picture has that damaged data may decode to


@dataclass(slots=True)
class Link:
    """A chain with its place in the data. `at_end`: it decodes to the last bit; `in_step`: MCUs at
    its beginning that may not be its own; `known`: it begins where coded data begins."""

    chain: Chain
    start_bit: int
    at_end: bool
    in_step: int
    known: bool

    @property
    def size(self) -> int:
        return self.chain.size


def constant_runs(clean: Clean, size: int, least: int = CONSTANT_BYTES) -> list[tuple[int, int]]:
    """(start, stop) of runs of one value, bytes."""
    data = clean[:size]
    if size < least:
        return []
    edges = np.flatnonzero(data[1:] != data[:-1]) + 1
    starts, stops = np.concatenate(([0], edges)), np.concatenate((edges, [size]))
    long = stops - starts >= least
    return [(int(a), int(b)) for a, b in zip(starts[long], stops[long])]


def links_of(clean: Clean, start: int, stop: int, layout: Layout, total: int, known: bool,
             gaps: list[tuple[int, int]]) -> list[Link]:
    """The chains of clean bytes `start` to `stop`, which hold `total` MCUs at most. `known`: the
    first one begins just there; `gaps`: clean bytes in which nothing of it stands."""
    coding = layout.coding
    found: list[Link] = []
    budget = SEARCHED_BITS
    edges = [start, *(e for a, b in gaps if start <= a < stop for e in (a, min(b, stop))), stop]
    for index in range(0, len(edges), 2):
        first, last = edges[index] * 8, edges[index + 1] * 8
        last_one = index == len(edges) - 2
        bit: int | None = first
        begun = known and index == 0
        while bit is not None and bit + 8 < last and len(found) < MAX_CHAINS:
            if not begun:
                until = min(last - 16, bit + budget)
                start = bit
                bit = first_survivor(clean, bit, until, last, coding, NEED) if (
                    last - bit > 256 and budget > 0) else None
                budget -= (until if bit is None else bit) - start
                if bit is None:
                    break
            chain = decode_chain(clean, bit, last, coding, total + SLACK, absolute=begun)
            end = int(chain.mcu_bit[-1])
            at_end = last_one and (end >= last or bool(is_padding(clean, end, last)))
            step = 0 if begun else _in_step(clean, bit, last, layout, chain)
            if step and chain.reason == "dc-range":
                # What was not its own led away from the levels that are: once more without it.
                chain = decode_chain(clean, int(chain.mcu_bit[step]), last, coding, total + SLACK)
                end, step = int(chain.mcu_bit[-1]), 0
                at_end = last_one and (end >= last or bool(is_padding(clean, end, last)))
            if chain.size > step or begun:
                found.append(Link(chain, bit, at_end, step, begun))
            begun = False
            if end >= last or at_end:
                break
            bit = max(end, bit) + 1
    return found


def _in_step(clean: Clean, bit: int, stop_bit: int, layout: Layout, chain: Chain) -> int:
    """How many MCUs of `chain` pass until others that began behind it have met it."""
    bits = chain.mcu_bit
    met, at = 0, bit
    for _ in range(OTHERS):
        other = first_survivor(clean, at + 1, min(at + 512, stop_bit - 16), stop_bit, layout.coding,
                               min(SURE, max(4, chain.size // 2)))
        if other is None:
            break
        at = other
        follower = decode_chain(clean, other, stop_bit, layout.coding, 64)
        common = np.intersect1d(bits, follower.mcu_bit, assume_unique=True)
        if common.size:
            met = max(met, int(np.searchsorted(bits, common[0])))
    return min(met, max(0, chain.size - 1))
