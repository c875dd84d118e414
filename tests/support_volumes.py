"""The volumes in tests/data/volumes, unpacked; how they were made is in tools/fixtures."""

from __future__ import annotations

import json
from functools import lru_cache
from pathlib import Path
from typing import Any

import zstandard

from needlewright.core.sources.source import Source

FOLDER = Path(__file__).parent / "data" / "volumes"
FIXTURES = sorted(p.name.removesuffix(".truth.json") for p in FOLDER.glob("*.truth.json"))
BLOCK = 4096
ZEROS = bytes(BLOCK)


class SparseSource(Source):
    """A medium of which only blocks that are not blank are kept; may be written to by tests."""

    def __init__(self, size: int, blocks: dict[int, bytes], under: dict[int, bytes] | None = None,
                 name: str = "volume.img") -> None:
        self._size, self._blocks, self._under = size, blocks, under or {}
        self.name = name

    @property
    def size(self) -> int:
        return self._size

    def _block(self, index: int) -> bytes:
        found = self._blocks.get(index)
        return found if found is not None else self._under.get(index, ZEROS)

    def read_into(self, offset: int, target: memoryview) -> int:
        wanted = max(0, min(len(target), self._size - offset))
        done = 0
        while done < wanted:
            index, inside = divmod(offset + done, BLOCK)
            part = self._block(index)[inside : inside + wanted - done]
            target[done : done + len(part)] = part
            done += len(part)
        return done

    def write(self, offset: int, data: bytes) -> None:
        """Change bytes; what goes past the end is dropped."""
        done = 0
        data = data[: max(0, self._size - offset)]
        while done < len(data):
            index, inside = divmod(offset + done, BLOCK)
            block = bytearray(self._block(index))
            part = data[done : done + BLOCK - inside]
            block[inside : inside + len(part)] = part
            self._blocks[index] = bytes(block)
            done += len(part)

    def overlaid(self) -> SparseSource:
        """The same content; writing to it leaves this one as it is."""
        return SparseSource(self._size, {}, {**self._under, **self._blocks} if self._under
                            else self._blocks, self.name)

    def records(self, truth: dict[str, Any]) -> list[int]:
        """The sectors that are not blank and hold no file's content."""
        held: set[int] = set()
        for file in truth["files"]:
            for offset, length in file["extents"]:
                held.update(range(offset // 512, -(-(offset + length) // 512)))
        found = []
        for index in sorted({**self._under, **self._blocks}):
            block = self._block(index)
            for inside in range(0, BLOCK, 512):
                sector = (index * BLOCK + inside) // 512
                if sector not in held and any(block[inside : inside + 512]):
                    found.append(sector * 512)
        return found

    def save(self, path: Path) -> Path:
        """As a sparse file."""
        with path.open("wb") as out:
            out.truncate(self._size)
            for index, block in {**self._under, **self._blocks}.items():
                out.seek(index * BLOCK)
                out.write(block[: self._size - index * BLOCK])
        return path


@lru_cache(maxsize=2)
def load(name: str, folder: Path = FOLDER) -> tuple[SparseSource, dict[str, Any]]:
    """(the volume, what is known of its files)."""
    truth = json.loads((folder / f"{name}.truth.json").read_text(encoding="utf-8"))
    blocks: dict[int, bytes] = {}
    with (folder / f"{name}.img.zst").open("rb") as packed:
        reader = zstandard.ZstdDecompressor().stream_reader(packed)
        index = 0
        while block := reader.read(BLOCK):
            if block.count(0) != len(block):
                blocks[index] = block.ljust(BLOCK, b"\0")
            index += 1
    return SparseSource(truth["size"], blocks, name=f"{name}.img"), truth
