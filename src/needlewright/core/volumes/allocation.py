"""Which clusters of a volume are in use: one bit each, counted and searched with NumPy."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
import numpy.typing as npt

Bits = npt.NDArray[np.uint8]
Numbers = npt.NDArray[np.int64]

AT_ONCE = 1 << 16  # bytes of bits that are unpacked at a time


class Allocation:
    """`count` clusters of `unit` bytes, the first at byte `first` of the volume.

    `bits`: uint8[ceil(count / 8)], the lowest bit of a byte first, 1 where in use.
    """

    def __init__(self, unit: int, first: int, count: int, bits: Bits) -> None:
        self.unit, self.first, self.count = unit, first, min(count, bits.size * 8)
        self.bits = bits

    @classmethod
    def of_flags(cls, unit: int, first: int, used: npt.NDArray[np.bool_]) -> Allocation:
        """From one flag a cluster."""
        return cls(unit, first, used.size, np.packbits(used, bitorder="little"))

    def _flags(self, start: int, stop: int) -> npt.NDArray[np.bool_]:
        """bool[stop - start]: in use, for clusters `start` to `stop`, which must exist."""
        low = start // 8
        part = np.unpackbits(self.bits[low : -(-stop // 8)], bitorder="little")
        return part[start - low * 8 : stop - low * 8].astype(np.bool_)

    def used(self, cluster: int) -> bool:
        """Whether this cluster is in use; those that do not exist are."""
        if not 0 <= cluster < self.count:
            return True
        return bool(self.bits[cluster >> 3] >> (cluster & 7) & 1)

    def used_bytes(self, extents: Iterable[tuple[int | None, int]]) -> int:
        """How many bytes of these stretches of the volume lie in clusters that are in use."""
        total = 0
        for offset, length in extents:
            if offset is None or length <= 0:
                continue
            start = max(0, (offset - self.first) // self.unit)
            stop = min(self.count, -(-(offset + length - self.first) // self.unit))
            if stop <= start:
                continue
            for at in range(start, stop, AT_ONCE * 8):
                end = min(stop, at + AT_ONCE * 8)
                flags = self._flags(at, end)
                total += int(flags.sum()) * self.unit
                total -= self._outside(offset, offset + length, at, end, flags)
        return total

    def _outside(self, start: int, stop: int, at: int, end: int,
                 flags: npt.NDArray[np.bool_]) -> int:
        """Bytes of the first and last cluster that the stretch does not touch."""
        extra = 0
        head = start - (self.first + at * self.unit)
        tail = self.first + end * self.unit - stop
        if head > 0 and flags[0]:
            extra += head
        if tail > 0 and flags[-1]:
            extra += tail
        return extra

    def free_run(self, cluster: int, wanted: int) -> list[tuple[int, int]] | None:
        """(cluster, count) of the first `wanted` free clusters from `cluster` on; None if too few.
        """
        found: list[tuple[int, int]] = []
        at = max(0, cluster)
        while wanted > 0:
            if at >= self.count:
                return None
            end = min(self.count, at + AT_ONCE)
            flags = self._flags(at, end)
            free = np.flatnonzero(~flags)[:wanted] + at
            wanted -= int(free.size)
            for first, count in _runs(free):
                if found and found[-1][0] + found[-1][1] == first:
                    found[-1] = (found[-1][0], found[-1][1] + count)
                else:
                    found.append((first, count))
            at = end
        return found

    def take(self, extents: Iterable[tuple[int | None, int]]) -> None:
        """Mark what these stretches touch as in use."""
        for offset, length in extents:
            if offset is None or length <= 0:
                continue
            start = max(0, (offset - self.first) // self.unit)
            stop = min(self.count, -(-(offset + length - self.first) // self.unit))
            if stop > start:
                _set(self.bits, start, stop)

    def copy(self) -> Allocation:
        return Allocation(self.unit, self.first, self.count, self.bits.copy())

    def runs(self, want_used: bool = True) -> npt.NDArray[np.int64]:
        """int64[n, 2]: (start, stop) in bytes of the volume, of all stretches in use (or free)."""
        pieces: list[Numbers] = []
        for at in range(0, self.count, AT_ONCE * 8):
            end = min(self.count, at + AT_ONCE * 8)
            flags = self._flags(at, end) == want_used
            edges = np.flatnonzero(np.diff(np.concatenate(([False], flags, [False]))))
            pieces.append(edges.astype(np.int64).reshape(-1, 2) + at)
        if not pieces:
            return np.zeros((0, 2), np.int64)
        every = np.concatenate(pieces)
        if len(every) > 1:
            gap = every[1:, 0] != every[:-1, 1]
            starts = every[np.concatenate(([True], gap)), 0]
            stops = every[np.concatenate((gap, [True])), 1]
            every = np.stack((starts, stops), axis=1)
        return every * self.unit + self.first

    def columns(self, size: int, count: int) -> bytes:
        """For each of `count` equal stretches of a volume of `size` bytes the share in use, 0 to
        255."""
        edges = np.linspace(0, size, count + 1)
        low = np.clip((edges[:-1] - self.first) / self.unit, 0, self.count)
        high = np.clip((edges[1:] - self.first) / self.unit, 0, self.count)
        sums = self._sums()
        used = _at(sums, self, high) - _at(sums, self, low)
        width = np.maximum((edges[1] - edges[0]) / self.unit, 1e-9)
        shares: Bits = np.clip(np.ceil(used / width * 255), 0, 255).astype(np.uint8)
        return shares.tobytes()

    def _sums(self) -> Numbers:
        """int64[bytes of bits + 1]: clusters in use before each byte of bits."""
        counts = np.bitwise_count(self.bits).astype(np.int64)
        return np.concatenate((np.zeros(1, np.int64), np.cumsum(counts)))

    @property
    def used_total(self) -> int:
        """Bytes in use."""
        return int(np.bitwise_count(self.bits).sum()) * self.unit


def _at(sums: Numbers, of: Allocation, clusters: npt.NDArray[np.float64]) -> npt.NDArray[
        np.float64]:
    """Clusters in use before each (fractional) cluster number."""
    whole = np.minimum(clusters.astype(np.int64), max(0, of.count - 1))
    byte = whole // 8
    last = of.bits[np.minimum(byte, of.bits.size - 1)] if of.bits.size else np.zeros(
        whole.size, np.uint8)
    below = (np.left_shift(1, whole % 8) - 1).astype(np.uint8)
    inside = np.bitwise_count(last & below)
    here = last >> (whole % 8).astype(np.uint8) & 1
    before: npt.NDArray[np.float64] = (
        sums[np.minimum(byte, sums.size - 1)] + inside + here * (clusters - whole))
    return before


def _set(bits: Bits, start: int, stop: int) -> None:
    first, last = start // 8, (stop - 1) // 8
    head, tail = 0xFF << start % 8 & 0xFF, 0xFF >> (7 - (stop - 1) % 8)
    if first == last:
        bits[first] |= head & tail
        return
    bits[first] |= head
    bits[last] |= tail
    bits[first + 1 : last] = 0xFF


def _runs(numbers: Numbers) -> list[tuple[int, int]]:
    """(first, count) of runs of consecutive ascending numbers."""
    if not numbers.size:
        return []
    cuts = np.flatnonzero(np.diff(numbers) != 1) + 1
    starts = np.concatenate(([0], cuts))
    stops = np.concatenate((cuts, [numbers.size]))
    return [(int(numbers[a]), int(b - a)) for a, b in zip(starts.tolist(), stops.tolist())]
