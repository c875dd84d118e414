"""Bytes in memory as a source: for small things already read, for warming kernels, for tests."""

from __future__ import annotations

from needlewright.core.sources.source import Source


class MemorySource(Source):
    """`data` as a read-only source."""

    def __init__(self, data: bytes, name: str = "memory", sector_size: int = 512) -> None:
        self.name, self.sector_size, self._data = name, sector_size, data

    @property
    def size(self) -> int:
        return len(self._data)

    def read_into(self, offset: int, target: memoryview) -> int:
        block = self._data[offset : offset + len(target)]
        target[: len(block)] = block
        return len(block)
