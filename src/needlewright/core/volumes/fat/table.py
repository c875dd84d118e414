"""The file allocation table, kept as what is in use and where runs end: small, however large.

FAT specification 1.03, section 4: an entry holds the next cluster; 0 is free, the highest eight
values end a chain, the one below them marks a bad cluster. Of 32 bits the upper four are reserved.
"""

from __future__ import annotations

from array import array
from bisect import bisect_left

import numpy as np
import numpy.typing as npt

from needlewright.core.errors import SourceError
from needlewright.core.sources.source import Source
from needlewright.core.volumes.allocation import Allocation
from needlewright.core.volumes.base import Problems
from needlewright.core.volumes.fat.boot import Boot

READ_BYTES = 6 << 20  # of a table at once; holds whole entries of every width
Runs = list[tuple[int, int]]  # (first cluster, count)


class FatTable:
    """One copy of the table. Clusters are numbered as in the specification, from 2."""

    def __init__(self, source: Source, boot: Boot, copy: int, problems: Problems) -> None:
        self._boot = boot
        self._break_at, self._break_to = array("I"), array("I")
        room = -(-(source.size - boot.data_offset) // boot.cluster_size)
        self.last = max(0, min(boot.clusters, room)) + 2
        end = {12: 0xFF8, 16: 0xFFF8, 32: 0x0FFF_FFF8}[boot.bits]
        self._end = end
        used = np.zeros(-(-(self.last - 2) // 8), np.uint8)
        total = self.last * boot.bits // 8 + 2
        start = boot.fat_offset + copy * boot.fat_size
        for at in range(0, min(total, boot.fat_size), READ_BYTES):
            length = min(READ_BYTES, boot.fat_size - at)
            try:
                raw = source.read_at(start + at, length)
            except SourceError:
                problems.add("fat-unreadable", start + at)
                raw = b""
            self._take(at * 8 // boot.bits, _entries(raw.ljust(length, b"\0"), boot.bits), used)
        self.allocation = Allocation(boot.cluster_size, boot.data_offset, self.last - 2, used)

    def _take(self, first: int, values: npt.NDArray[np.uint32],
              used: npt.NDArray[np.uint8]) -> None:
        """Keep the values of the clusters from number `first` on."""
        values = values[: max(0, self.last - first)]
        skip = max(0, 2 - first)
        values = values[skip:]
        if not values.size:
            return
        low = first + skip
        bits = np.packbits(values != 0, bitorder="little")
        used[(low - 2) // 8 : (low - 2) // 8 + bits.size] |= _shifted(bits, (low - 2) % 8)[
            : used.size - (low - 2) // 8]
        numbers = np.arange(low, low + values.size, dtype=np.uint32)
        ends = np.flatnonzero((values != 0) & (values != numbers + 1))
        self._break_at.frombytes(numbers[ends].astype(np.uint32).tobytes())
        self._break_to.frombytes(values[ends].astype(np.uint32).tobytes())

    def chain(self, first: int, most: int) -> tuple[Runs, str]:
        """The runs of the chain from cluster `first`, up to `most` clusters.

        Returns them with how it went: "" ended properly, "long" there is more, else the code of
        what is wrong: "chain-free", "chain-outside" or "chain-loop".
        """
        runs: Runs = []
        count, cluster = 0, first
        for _ in range(len(self._break_at) + 1):
            if not 2 <= cluster < self.last:
                return runs, "chain-outside"
            if not self.allocation.used(cluster - 2):
                return runs, "chain-free"
            index = bisect_left(self._break_at, cluster)
            stop = self._break_at[index] if index < len(self._break_at) else self.last - 1
            length = min(stop - cluster + 1, most - count)
            if runs and runs[-1][0] + runs[-1][1] == cluster:
                runs[-1] = (runs[-1][0], runs[-1][1] + length)
            else:
                runs.append((cluster, length))
            count += length
            onward = self._break_to[index] if index < len(self._break_at) else self._end
            if cluster + length - 1 == stop and onward >= self._end:
                return runs, ""
            if count >= most:
                return runs, "long"
            cluster = onward
        return runs, "chain-loop"


def _shifted(bits: npt.NDArray[np.uint8], by: int) -> npt.NDArray[np.uint8]:
    if by == 0:
        return bits
    wide = np.concatenate((bits, [0])).astype(np.uint16) << by
    out = (wide & 0xFF).astype(np.uint8)
    out[1:] |= (wide[:-1] >> 8).astype(np.uint8)
    return out


def _entries(raw: bytes, bits: int) -> npt.NDArray[np.uint32]:
    """uint32[n]: the entries that `raw` holds, from an entry's first byte on."""
    if bits == 32:
        return np.frombuffer(raw[: len(raw) // 4 * 4], "<u4") & np.uint32(0x0FFF_FFFF)
    if bits == 16:
        return np.frombuffer(raw[: len(raw) // 2 * 2], "<u2").astype(np.uint32)
    triples = np.frombuffer(raw[: len(raw) // 3 * 3], np.uint8).reshape(-1, 3).astype(np.uint32)
    pairs = np.empty((len(triples), 2), np.uint32)
    pairs[:, 0] = triples[:, 0] | (triples[:, 1] & 15) << 8
    pairs[:, 1] = triples[:, 1] >> 4 | triples[:, 2] << 4
    return pairs.reshape(-1)
