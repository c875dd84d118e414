"""The index of an AVI clip as places: where each chunk begins, and the eight bytes that it begins
with (RIFF AVI, `idx1`). Little-endian.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from needlewright.core.stitching.clips.sample_index import PlacedItems

HEAD = 8  # bytes of a chunk's name and size
BYTE_PROOF = 0.5  # what each of them is worth where it is as it must be
LEAST = 4  # of them, that a cluster must have of a chunk to be known by it
ENTRY = np.dtype([("name", "S4"), ("flags", "<u4"), ("offset", "<u4"), ("size", "<u4")])
SOUND = b"wb"


@dataclass(slots=True)
class ChunkIndex(PlacedItems):
    """`entries`: of `idx1`; `base`: what is added to their offsets; `frame_s`: seconds a picture
    is shown."""

    entries: npt.NDArray[np.void]
    base: int
    frame_s: float
    _pictures: npt.NDArray[np.bool_] = field(init=False)
    _heads: npt.NDArray[np.uint8] = field(init=False)

    def __post_init__(self) -> None:
        offsets = self.entries["offset"].astype(np.int64) + self.base
        order = np.argsort(offsets, kind="stable")
        entries = self.entries[order]
        self.offsets = offsets[order]
        self.sizes = HEAD + entries["size"].astype(np.int64)
        self._pictures = np.array([not n.endswith(SOUND) for n in entries["name"].tolist()])
        self.seconds = np.maximum(0, np.cumsum(self._pictures) - 1) * self.frame_s
        self._heads = np.zeros((entries.size, HEAD), np.uint8)
        self._heads[:, :4] = np.frombuffer(entries["name"].tobytes(), np.uint8).reshape(-1, 4)
        self._heads[:, 4:] = np.frombuffer(entries["size"].tobytes(), np.uint8).reshape(-1, 4)

    def coded(self, low: int, high: int) -> npt.NDArray[np.bool_]:
        return self._pictures[low:high]

    def anchored(self, cluster: int) -> bool:
        low, high = self.starting(cluster)
        return high > low and int(self.offsets[low]) - cluster * self.unit + LEAST <= self.unit

    def check(self, cluster: int, raw: npt.NDArray[np.uint8]) -> float | None:
        low, high = self.starting(cluster)
        proof = 0.0
        for index in range(low, high):
            at = int(self.offsets[index]) - cluster * self.unit
            part = raw[at : at + HEAD]
            if (part != self._heads[index, : part.size]).any():
                return None
            proof += BYTE_PROOF * part.size
        if low:  # a head across the boundary
            begun = cluster * self.unit - int(self.offsets[low - 1])
            if 0 < begun < HEAD and (
                    raw[: HEAD - begun] != self._heads[low - 1, begun:]).any():
                return None
        return proof

    def fitting(self, cluster: int, rows: npt.NDArray[np.uint8]) -> npt.NDArray[np.bool_]:
        low, high = self.starting(cluster)
        if high <= low:
            return np.ones(len(rows), np.bool_)
        at = int(self.offsets[low]) - cluster * self.unit
        part = rows[:, at : at + HEAD]
        return np.asarray((part == self._heads[low, : part.shape[1]]).all(axis=1))
