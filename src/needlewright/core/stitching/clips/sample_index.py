"""What the index of a clip says of each cluster of it: which samples begin there, and how they must
look.

Samples of length-prefixed NAL units tell most (ISO/IEC 14496-15); of others the first byte is
learnt from those that are surely theirs: in raw AAC (ISO/IEC 14496-3) and in AMR (RFC 4867) it
hardly varies.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from needlewright.core.kernels.nal import HEVC
from needlewright.core.structures.bmff_samples import PLAIN_SOUND, Track
from needlewright.core.structures.samples import NAL_CODINGS, STARTS

Longs = npt.NDArray[np.int64]
NAL_PROOF, EXACT_PROOF = 1.0, 2.0  # what a NAL length that fits is worth; one that fills its sample
LEARNT_PROOF = 0.25
ENOUGH = 2.0  # that a cluster is where it was looked for
FAR = 1 << 62
SEEN = 256  # bytes of a cluster that a decoder must look at
KNOWN_FIRST = 8  # first bytes that were seen before they count
MOST_FIRST = 12  # different ones; more tell nothing


@dataclass(slots=True)
class PlacedItems(ABC):
    """What an index says of each cluster of a file. Items in file order: `offsets`, `sizes`
    int64[n] in bytes of the file, `seconds` when each is shown. `unit`: bytes of a cluster."""

    unit: int
    offsets: Longs = field(init=False)
    sizes: Longs = field(init=False)
    seconds: npt.NDArray[np.float64] = field(init=False)

    @property
    def end(self) -> int:
        """The byte behind the last item."""
        return int((self.offsets + self.sizes).max()) if self.offsets.size else 0

    def starting(self, cluster: int) -> tuple[int, int]:
        """The range of the items that begin in a cluster of the file."""
        low, high = np.searchsorted(self.offsets, [cluster * self.unit, (cluster + 1) * self.unit])
        return int(low), int(high)

    def following(self, cluster: int) -> int:
        """The next cluster of the file in which an item begins; behind the last one, far away."""
        at = int(np.searchsorted(self.offsets, (cluster + 1) * self.unit))
        return int(self.offsets[at]) // self.unit if at < self.offsets.size else FAR

    def time_of(self, byte: int) -> float:
        """When what lies at a byte of the file is shown, in seconds."""
        at = max(0, int(np.searchsorted(self.offsets, byte, side="right")) - 1)
        return float(self.seconds[at]) if self.seconds.size else 0.0

    def judged(self, cluster: int) -> bool:
        """Whether a decoder looks at enough of a cluster to notice that it is another's."""
        begin, stop = cluster * self.unit, (cluster + 1) * self.unit
        low = max(0, int(np.searchsorted(self.offsets, begin, side="right")) - 1)
        high = int(np.searchsorted(self.offsets, stop))
        inside = np.minimum(self.offsets[low:high] + self.sizes[low:high], stop) - np.maximum(
            self.offsets[low:high], begin)
        return int(inside[self.coded(low, high) & (inside > 0)].sum()) >= SEEN

    @abstractmethod
    def coded(self, low: int, high: int) -> npt.NDArray[np.bool_]:
        """bool[high - low]: which of these items are coded, so that foreign bytes spoil them."""

    @abstractmethod
    def anchored(self, cluster: int) -> bool:
        """Whether anything in a cluster tells surely that it belongs there."""

    @abstractmethod
    def check(self, cluster: int, raw: npt.NDArray[np.uint8]) -> float | None:
        """How much speaks for `raw` being this cluster of the file; None where it cannot be."""

    @abstractmethod
    def fitting(self, cluster: int, rows: npt.NDArray[np.uint8]) -> npt.NDArray[np.bool_]:
        """bool[n]: which of `rows` uint8[n, unit] may be this cluster, by the first items."""

    def learn(self, cluster: int, raw: npt.NDArray[np.uint8]) -> None:
        """`raw` is surely this cluster: remember how its items begin."""
        return


@dataclass(slots=True)
class SampleIndex(PlacedItems):
    """The samples of all tracks; `track` int64[n]: which one each is of."""

    tracks: Sequence[Track]
    track: Longs = field(init=False)
    _first: list[set[int]] = field(init=False)
    _seen: list[int] = field(init=False)

    def __post_init__(self) -> None:
        told = [t for t in self.tracks if t.offsets.size]
        self.tracks = told
        offsets = np.concatenate([t.offsets for t in told] or [np.zeros(0, np.int64)])
        sizes = np.concatenate([t.sizes for t in told] or [np.zeros(0, np.int64)])
        number = np.concatenate([np.full(t.offsets.size, i) for i, t in enumerate(told)]
                                or [np.zeros(0, np.int64)])
        seconds = np.concatenate([_seconds(t) for t in told] or [np.zeros(0)])
        order = np.argsort(offsets, kind="stable")
        self.offsets, self.sizes = offsets[order], sizes[order]
        self.track, self.seconds = number[order].astype(np.int64), seconds[order]
        self._first = [set() for _ in told]
        self._seen = [0] * len(told)

    def coded(self, low: int, high: int) -> npt.NDArray[np.bool_]:
        plain = np.array([t.coding in PLAIN_SOUND or bool(t.frame_bytes) for t in self.tracks])
        return ~plain[self.track[low:high]]

    def anchored(self, cluster: int) -> bool:
        low, high = self.starting(cluster)
        proof = 0.0
        for index in range(low, high):
            track = self.tracks[int(self.track[index])]
            at = int(self.offsets[index]) - cluster * self.unit
            if at + 6 > self.unit:
                continue
            if (track.coding in NAL_CODINGS and track.length_bytes) or track.coding in STARTS:
                proof += EXACT_PROOF
            elif self._known(int(self.track[index])):
                proof += LEARNT_PROOF
        return proof >= ENOUGH

    def _known(self, track: int) -> bool:
        return self._seen[track] >= KNOWN_FIRST and len(self._first[track]) <= MOST_FIRST

    def check(self, cluster: int, raw: npt.NDArray[np.uint8]) -> float | None:
        low, high = self.starting(cluster)
        proof, odd, learnt = 0.0, 0, 0
        for index in range(low, high):
            number = int(self.track[index])
            track, at = self.tracks[number], int(self.offsets[index]) - cluster * self.unit
            size = int(self.sizes[index])
            if track.coding in NAL_CODINGS and track.length_bytes:
                found = _nal_proof(raw, at, size, track.length_bytes,
                                   NAL_CODINGS[track.coding] == HEVC)
                if found is None:
                    return None
                proof += found
            elif track.coding in STARTS:
                skip, known = STARTS[track.coding]
                head = raw[at + skip : at + skip + 3].tobytes()
                if len(head) == 3 and size > 16:
                    if not any(k.startswith(head) or head.startswith(k) for k in known):
                        return None
                    proof += EXACT_PROOF
            elif size > 0 and self._known(number):
                learnt += 1
                odd += int(raw[at]) not in self._first[number]
        if odd > 1 and odd * 4 > learnt and proof < ENOUGH:  # the last frames look otherwise
            return None
        return proof + LEARNT_PROOF * max(0, learnt - 3 * odd)

    def learn(self, cluster: int, raw: npt.NDArray[np.uint8]) -> None:
        low, high = self.starting(cluster)
        for index in range(low, high):
            number = int(self.track[index])
            if self.sizes[index] > 0:
                self._first[number].add(int(raw[int(self.offsets[index]) - cluster * self.unit]))
                self._seen[number] += 1

    def fitting(self, cluster: int, rows: npt.NDArray[np.uint8]) -> npt.NDArray[np.bool_]:
        good = np.ones(len(rows), np.bool_)
        low, high = self.starting(cluster)
        for index in range(low, min(high, low + 6)):
            track = self.tracks[int(self.track[index])]
            at, size = int(self.offsets[index]) - cluster * self.unit, int(self.sizes[index])
            width = track.length_bytes
            if track.coding in NAL_CODINGS and width and at + width < self.unit:
                length = np.zeros(len(rows), np.int64)
                for i in range(width):
                    length = (length << 8) | rows[:, at + i]
                good &= (length >= 1) & (length <= size - width) & (rows[:, at + width] < 0x80)
        return good


def _seconds(track: Track) -> npt.NDArray[np.float64]:
    times = track.times[: track.offsets.size].astype(np.float64) / max(1, track.timescale)
    return np.pad(times, (0, track.offsets.size - times.size), mode="edge") if times.size else (
        np.zeros(track.offsets.size))


def _nal_proof(raw: npt.NDArray[np.uint8], at: int, size: int, width: int,
               hevc: bool) -> float | None:
    """What the chain of NAL lengths from `at`, as far as `raw` goes, speaks for; None: nothing."""
    stop, proof = at + size, 0.0
    while at < stop:
        if at + width + 1 >= raw.size:
            return proof
        length = int.from_bytes(raw[at : at + width].tobytes(), "big")
        at += width
        head = int(raw[at])
        if not 1 <= length <= stop - at or head & 0x80:
            return None
        kind = (head >> 1) & 0x3F if hevc else head & 0x1F
        if (40 < kind < 62) if hevc else (kind == 0 or kind > 23):
            return None
        at += length
        proof += EXACT_PROOF if at == stop else NAL_PROOF
    return proof
