"""Where the next item of a file begins: the one thing that a piece behind a seam can be told by.

A module of this package follows the items of one format and registers itself; nothing names one.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from needlewright.core.registry import Registry
from needlewright.core.sources.source import Source

Rows = npt.NDArray[np.uint8]
MAX_ITEMS = 2_000_000
BLOCK = 1 << 16


@dataclass(frozen=True, slots=True)
class Next:
    """`start`: of the item in which the damage lies; at `at`, in bytes of the file, `width` bytes
    must pass `fits`, bool[n] of uint8[n, width]. `magic`: what stands there in most cases, so that
    it can be searched for. `until`: where nothing says at which byte it stands, the last one that
    it may be at, `at` being the first; then `magic` alone tells."""

    start: int
    at: int
    width: int
    fits: Callable[[Rows], npt.NDArray[np.bool_]]
    magic: tuple[bytes, ...] = ()
    until: int = 0


#: (what was put together so far, the byte up to which it is in order) -> what comes next; None
#: where that says nothing of it.
Chain = Callable[[Source, int], Next | None]
_chains: Registry[Chain] = Registry("needlewright.core.stitching.chained.chains", prefix="chain_")


def register(form: str, chain: Chain) -> Chain:
    """Add the way to follow the items of a format; ValueError if it has one."""
    return _chains.add(form, chain)


def chain_of(form: str) -> Chain | None:
    """How the items of a format are followed; None where they do not lead from one to the next."""
    return _chains.all().get(form)


class Blocks:
    """A source read in blocks, as small reads come one behind another."""

    def __init__(self, source: Source) -> None:
        self._source, self._at, self._block = source, -1, b""

    def get(self, at: int, length: int) -> bytes:
        inside = at - self._at
        if self._at < 0 or inside < 0 or inside + length > len(self._block):
            self._at, self._block = at, self._source.read_at(at, max(BLOCK, length))
            inside = 0
        return self._block[inside : inside + length]


def exact(*values: bytes) -> Callable[[Rows], npt.NDArray[np.bool_]]:
    """Rows that begin with one of `values`."""
    def fits(rows: Rows) -> npt.NDArray[np.bool_]:
        good = np.zeros(len(rows), np.bool_)
        for value in values:
            good |= (rows[:, : len(value)] == np.frombuffer(value, np.uint8)).all(axis=1)
        return good
    return fits


def walked(source: Source, first: int, bad: int, step: Callable[[Blocks, int], int | None],
           ) -> tuple[int, int] | None:
    """(start of the last item that begins before `bad` and says where the next one does, that)."""
    data, at, last = Blocks(source), first, None
    for _ in range(MAX_ITEMS):
        if at >= bad:
            break
        following = step(data, at)
        if following is None or following <= at:
            break
        last = at, following
        at = following
    return last
