"""Reads an image again and compares it with the hashes that were made while it was copied; on
request the medium too, as far as it was read."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from needlewright.core.errors import SourceError
from needlewright.core.imaging.hash_child import chunk_hash
from needlewright.core.sources import map_file
from needlewright.core.sources.blocks import blocks
from needlewright.core.sources.map_file import MapFile
from needlewright.core.sources.read_map import State
from needlewright.core.sources.registry import open_source
from needlewright.core.sources.source import Source, Span
from needlewright.core.stopping import StopSignal


@dataclass(frozen=True, slots=True)
class Verifying:
    """How far the reading is, bytes."""

    done: int
    size: int


@dataclass(frozen=True, slots=True)
class Verified:
    """`differing`: (first byte, length) of chunks that are not what they were; `unknown`: chunks
    without a hash; `whole`: the SHA-256 agrees, None where none was made. `stopped`: not to the
    end."""

    differing: tuple[tuple[int, int], ...]
    unknown: int
    whole: bool | None
    stopped: bool = False

    @property
    def agrees(self) -> bool:
        return not self.differing and self.whole is not False and not self.stopped


def verify(image: Path, stop: StopSignal, medium: str | None = None) -> Iterator[
        Verifying | Verified]:
    """Compare the image at `image` with its hashes, chunk by chunk; the last event is Verified.

    With `medium` its readable bytes are read again too, and chunks that differ from it are listed.
    Raises SourceError where there is no map, or the image or the medium does not open.
    """
    kept = map_file.load(map_file.whole_image(image))
    if kept is None:
        raise SourceError("map-missing", path=str(image))
    with open_source(str(image)) as copied:
        other = open_source(medium) if medium is not None else None
        try:
            yield from _compare(kept, copied, other, stop)
        finally:
            if other is not None:
                other.close()


def _compare(kept: MapFile, copied: Source, other: Source | None,
             stop: StopSignal) -> Iterator[Verifying | Verified]:
    size, chunk = kept.states.size, kept.chunk_bytes
    whole, unknown = hashlib.sha256(), 0
    differing: list[tuple[int, int]] = []
    for number in range(-(-size // chunk)):
        start, end = number * chunk, min((number + 1) * chunk, size)
        digest, same = chunk_hash(), True
        at = start
        for block in blocks(copied, Span(start, end)):
            if stop.is_set():
                yield Verified(tuple(differing), unknown, None, stopped=True)
                return
            digest.update(block)
            whole.update(block)
            same = same and (other is None or _same(kept, other, at, block))
            at += len(block)
            yield Verifying(at, size)
        known = kept.chunks.get(number)
        unknown += known is None
        if not same or (known is not None and known != digest.hexdigest()):
            differing.append((start, end - start))
    agrees = None if kept.sha256 is None else kept.sha256 == whole.hexdigest()
    yield Verified(tuple(differing), unknown, agrees)


def _same(kept: MapFile, other: Source, at: int, block: bytes) -> bool:
    """Whether the medium still holds `block` at `at`, where all of it was read."""
    if kept.states.within(at, at + len(block), State.READ) < len(block):
        return True  # nothing to compare with beside trouble; the medium is spared
    try:
        return other.read_at(at, len(block)) == block
    except SourceError:
        return False
