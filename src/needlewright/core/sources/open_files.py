"""Image files and block devices by their path; images in numbered pieces by their first one."""

from __future__ import annotations

import os
import re
import stat
from bisect import bisect_right
from itertools import accumulate
from pathlib import Path

from needlewright.core.errors import SourceError
from needlewright.core.sources import map_file
from needlewright.core.sources.devices import list_devices
from needlewright.core.sources.files import ImageFile
from needlewright.core.sources.read_map import ReadMap, State
from needlewright.core.sources.registry import Opener, register
from needlewright.core.sources.source import Source

PIECE = re.compile(r"(.+)\.(\d{2,4})")
SCHEME = re.compile(r"[a-z][a-z0-9+]*:")
MAX_PIECES = 10_000


class SplitImage(Source):
    """A raw image in pieces, one behind the other."""

    def __init__(self, pieces: list[Path]) -> None:
        """Raises SourceError for a piece that cannot be opened."""
        self._pieces: list[ImageFile] = []
        try:
            self._pieces += [ImageFile(path) for path in pieces]
        except SourceError:
            self.close()
            raise
        self._starts = [0, *accumulate(piece.size for piece in self._pieces)]
        self.name = pieces[0].with_suffix("").name

    @property
    def size(self) -> int:
        return self._starts[-1]

    def read_into(self, offset: int, target: memoryview) -> int:
        done, wanted = 0, min(len(target), max(0, self.size - offset))
        while done < wanted:
            index = bisect_right(self._starts, offset + done) - 1
            start = self._starts[index]
            length = min(wanted - done, self._starts[index + 1] - offset - done)
            try:
                done += self._pieces[index].read_into(
                    offset + done - start, target[done : done + length])
            except SourceError as error:
                place: dict[str, int] = {
                    name: error.values[name] + start
                    for name in ("start", "stop") if name in error.values}
                raise SourceError(error.code, **{**error.values, **place}) from error
        return done

    def close(self) -> None:
        for piece in self._pieces:
            piece.close()


def pieces_of(path: Path) -> list[Path]:
    """All pieces of the image whose first is `path` (.000 or .001); none where it is no such.

    Raises SourceError naming a piece that is missing between others.
    """
    match = PIECE.fullmatch(path.name)
    if match is None or int(match[2]) > 1 or not path.exists():
        return []
    width = len(match[2])
    others = {}
    for found in path.parent.iterdir():
        other = PIECE.fullmatch(found.name)
        if other is not None and other[1] == match[1] and len(other[2]) == width:
            others[int(other[2])] = found
    first = int(match[2])
    numbers = sorted(number for number in others if number >= first)
    for place, number in enumerate(numbers[:MAX_PIECES]):
        if number != first + place:
            missing = f"{match[1]}.{first + place:0{width}d}"
            raise SourceError("piece-missing", path=str(path.with_name(missing)))
    return [others[number] for number in numbers]


class CopiedImage(Source):
    """An image that was copied here, with what its read map says is missing from it."""

    def __init__(self, image: Source, states: ReadMap) -> None:
        self._image, self._states = image, states
        self.name, self.sector_size = image.name, image.sector_size
        self.block_size = image.block_size

    @property
    def size(self) -> int:
        return self._image.size

    def read_into(self, offset: int, target: memoryview) -> int:
        return self._image.read_into(offset, target)

    def lost_within(self, start: int, stop: int) -> int:
        return sum(self._states.within(start, min(stop, self._states.size), state)
                   for state in (State.PENDING, State.UNREADABLE))

    @property
    def settled(self) -> int:
        pending = next(self._states.ranges(State.PENDING), None)
        return self.size if pending is None else pending[0].start

    def next_data(self, offset: int) -> int:
        if offset >= self.settled:
            return offset  # a hole there may only not be copied yet
        return min(self._image.next_data(offset), self.settled)

    def local_path(self) -> tuple[str, int] | None:
        return self._image.local_path()

    def close(self) -> None:
        self._image.close()


def _open(spec: str, direct: bool) -> Source:
    path = Path(spec)
    pieces = pieces_of(path)
    image = SplitImage(pieces) if len(pieces) > 1 else ImageFile(spec, direct=direct)
    kept = map_file.load_quietly(map_file.whole_image(path)) if path.is_file() else None
    if kept is None or kept.states.size != image.size:
        return image
    return CopiedImage(image, kept.states)


def _is_device(spec: str) -> bool:
    try:
        return stat.S_ISBLK(os.stat(spec).st_mode)
    except OSError:
        return spec.startswith("/dev/")  # it was one, and is away


def _elsewhere(spec: str, size: int, serial: str) -> list[str]:
    if not _is_device(spec):
        return []
    return [device.path for device in list_devices()
            if device.size == size and (not serial or device.serial in ("", serial))]


def _told_of(spec: str) -> tuple[str, str]:
    if not _is_device(spec):
        return "", ""
    path = os.path.realpath(spec)
    return next(((d.serial, d.model) for d in list_devices() if d.path == path), ("", ""))


def _claims(spec: str) -> bool:
    return (SCHEME.match(spec) is None or spec.startswith("/")) and not os.path.isdir(spec)


register(Opener("files", _claims,
                os.path.abspath, _open, os.path.basename, _elsewhere, _told_of))
